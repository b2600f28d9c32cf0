//! Real schedulers with emulated hosts, started by scripts of the repository.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::Command;

use super::Project;

/// A cluster in a folder that goes with the test.
pub struct Emulated {
    folder: tempfile::TempDir,
    scripts: String,
}

impl Drop for Emulated {
    fn drop(&mut self) {
        let _ = Command::new(format!("{}/down", self.scripts)).arg(self.path("")).status();
    }
}

impl Emulated {
    /// Starts one: `up DIR WORDS...` of a folder below `.ci`.
    pub fn up(kind: &str, words: &[&str]) -> Emulated {
        let scripts = format!("{}/../../.ci/{kind}", env!("CARGO_MANIFEST_DIR"));
        let cluster = Emulated { folder: tempfile::tempdir().unwrap(), scripts };
        let up = Command::new(format!("{}/up", cluster.scripts)).arg(cluster.path("")).args(words).output().unwrap();
        assert!(up.status.success(), "{}", String::from_utf8_lossy(&[up.stdout, up.stderr].concat()));
        cluster
    }

    /// A file of it.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }
}

/// How often each file has landed, by series and frame.
pub fn landings(project: &Project) -> BTreeMap<(String, i64), i64> {
    let mut count = BTreeMap::new();
    for name in project.files(".truepath/truepath/journal") {
        let text = std::fs::read_to_string(project.path(&format!(".truepath/truepath/journal/{name}"))).unwrap();
        for event in text.lines().filter_map(|line| serde_json::from_str::<serde_json::Value>(line).ok()) {
            let by = match event["event"].as_str() {
                Some("landed") => 1,
                // Another file had the name first.
                Some("late") => -1,
                _ => continue,
            };
            let key = (event["series"].as_str().unwrap().to_owned(), event["frame"].as_i64().unwrap());
            *count.entry(key).or_insert(0) += by;
        }
    }
    count
}
