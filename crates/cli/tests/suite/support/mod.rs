//! One builder for all tests that drive the built program: a project in a temporary folder, calls, and what they say.
#![cfg_attr(not(unix), allow(dead_code))]

pub mod browser;
#[cfg(unix)]
pub mod schedulers;
#[cfg(unix)]
pub mod terminal;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output};
use std::time::{Duration, Instant, SystemTime};

use tempfile::TempDir;
use truepath_understudy::harbour;

/// A small sheet over the demo's scenes: one job, one pass, tiny PNG frames.
pub const SMALL: &str = r#"sheet = 1

[roots]
renders = "renders"

[formats.view]
type = "png"
bits = 8
channels = "rgb"

[defaults]
adapter = "understudy"
fps = 24
size = "32x18"
format = "view"
path = "{renders}/{job}/{job}_{pass}.{frame:4}.{ext}"

[[job]]
name = "crossing"
scene = "scenes/crossing.gltf"
camera = "quay"
frames = "1-24"

[checks]
scene-span-not-covered = "off"

[run]
chunk = 6
"#;

/// The adapter of the renderer in the box, as text.
pub const UNDERSTUDY: &str = include_str!("../../../../core/src/adapter/understudy.toml");

/// A renderer that fails in the ways in which renderers fail; an example of this package, built with its tests.
pub fn odd_renderer() -> String {
    let path = PathBuf::from(env!("CARGO_BIN_EXE_truepath")).with_file_name("examples").join("odd_renderer");
    assert!(path.is_file(), "{} does not exist: cargo build -p truepath --examples", path.display());
    path.display().to_string()
}

/// The understudy's adapter with that renderer as its program.
pub fn odd_adapter() -> String {
    UNDERSTUDY.replace("program = \"truepath\"", &format!("program = \"{}\"", odd_renderer()))
}

/// A project with an adapter `odd` in place of the understudy's own, that can be told to misbehave.
pub fn odd(sheet: &str) -> Project {
    let project = Project::with(&sheet.replace("\"understudy\"", "\"odd\""));
    let native = "native = [\"--{key}\", \"{value}\"]\nvariable = ";
    project.write("adapters/odd.toml", odd_adapter().replace("variable = ", native));
    project
}

/// A project with one job of a scene that has to be exported, by a shell script that gets `{scene} {out}`.
pub fn exporting(sheet: &str, frames: &str, body: &str) -> Project {
    let scene = "scene = \"scenes/crossing.gltf\"\ncamera = \"quay\"\nframes = \"1-24\"";
    let exported =
        format!("scene = \"scenes/tower.scn\"\ncamera = \"cliff\"\nframes = \"{frames}\"\nexport = \"export\"");
    let project = Project::with(&sheet.replace(scene, &exported));
    project.write("scenes/tower.scn", std::fs::read(project.path("scenes/lighthouse.glb")).unwrap());
    project.script("export", body);
    let adapter = "adapter = 1\nname = \"export\"\nkind = \"exporter\"\nprogram = \"bin/export\"\narguments = [\"{scene}\", \"{out}\"]\n[out]\nwrites = [\"{out_stem}.glb\"]\n";
    project.write("adapters/export.toml", adapter);
    project
}

/// How long a test waits before it says that it hangs. It ends a test, and measures nothing.
pub const HANGS: Duration = Duration::from_secs(1800);

/// Waits until something holds: the one place where tests of the program wait.
#[track_caller]
pub fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let since = Instant::now();
    while !holds() {
        assert!(since.elapsed() < HANGS, "{what} never came");
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// A file was written long after everything else, whatever the clock of its file system can tell apart.
pub fn written_later(path: &Path) {
    let file = std::fs::File::options().write(true).open(path).unwrap();
    file.set_modified(SystemTime::now() + Duration::from_secs(60)).unwrap();
}

/// A project folder that goes with the test.
pub struct Project {
    folder: TempDir,
}

/// What a call said.
#[derive(Debug)]
pub struct Said {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl From<Output> for Said {
    fn from(output: Output) -> Said {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Said { code: output.status.code().unwrap_or(-1), out: text(&output.stdout), err: text(&output.stderr) }
    }
}

impl Said {
    /// The call ended as it should; what it printed.
    #[track_caller]
    pub fn ended(self, code: i32) -> Said {
        assert_eq!(self.code, code, "\n--- out\n{}\n--- err\n{}", self.out, self.err);
        self
    }

    /// The call ended in one of some ways.
    #[track_caller]
    pub fn ended_in(self, codes: &[i32]) -> Said {
        assert!(codes.contains(&self.code), "{codes:?}: {self:?}");
        self
    }

    /// Its one JSON document.
    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {}", self.out))
    }
}

impl Project {
    /// The demo's scenes and a sheet.
    pub fn with(sheet: &str) -> Project {
        let project = Project { folder: tempfile::tempdir().unwrap() };
        for (name, bytes) in harbour::scenes() {
            project.write(&format!("scenes/{name}"), bytes);
        }
        project.write("truepath.toml", sheet);
        project
    }

    pub fn path(&self, name: &str) -> PathBuf {
        // The temporary folder may lie behind a link, and the program says real paths.
        std::fs::canonicalize(self.folder.path()).unwrap().join(name)
    }

    /// The stage folder of the sheet below its root, before its state is there.
    pub fn stage(&self) -> PathBuf {
        let mark = blake3::hash(self.path("truepath.toml").as_os_str().as_encoded_bytes()).to_hex();
        self.path("renders/.truepath/stage").join(format!("truepath-{}", &mark[..8]))
    }

    /// Writes an adapter whose program is a shell script that gets `{scene} {frames} {out} {camera}` and the rest that its
    /// job sets.
    pub fn script(&self, name: &str, body: &str) {
        let program = format!("bin/{name}");
        self.write(&program, format!("#!/bin/sh\n{body}"));
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            std::fs::set_permissions(self.path(&program), std::fs::Permissions::from_mode(0o755)).unwrap();
        }
        let words = "\"{scene}\", \"{frames}\", \"{out}\", \"{camera}\", \"{width}x{height}\", \"{fps}\", \"{bits}\", \"{channels}\"";
        let text = format!(
            "adapter = 1\nname = \"{name}\"\nkind = \"renderer\"\nprogram = \"{program}\"\narguments = [{words}]\n[out]\nnumber = \"#\"\n"
        );
        self.write(&format!("adapters/{name}.toml"), text);
    }

    pub fn write(&self, name: &str, bytes: impl AsRef<[u8]>) {
        let path = self.folder.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, bytes).unwrap();
    }

    /// The program, about to be called in the project's folder.
    pub fn command(&self) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_truepath"));
        command
            .current_dir(self.folder.path())
            .env_remove("TRUEPATH_LOG")
            .env("NO_COLOR", "1")
            .env("XDG_CONFIG_HOME", self.path("config"));
        command
    }

    pub fn call(&self, words: &[&str]) -> Said {
        self.command().args(words).output().unwrap().into()
    }

    /// The program under a tracer that does something to some of its calls of the system, such as `signal=KILL:when=3`; to those
    /// on one file, where one is named.
    pub fn traced(&self, words: &[&str], (calls, does): (&str, &str), on: Option<&str>) -> Output {
        let own = self.command();
        let mut command = Command::new("strace");
        command.args(["-f", "-qq", "-o", "/dev/null"]);
        if let Some(file) = on {
            command.arg("-P").arg(self.path(file));
        }
        command.args(["-e", &format!("trace={calls}"), "-e", &format!("inject={calls}:{does}")]);
        command.arg(own.get_program()).args(words).current_dir(self.path(""));
        command.env("NO_COLOR", "1").env("XDG_CONFIG_HOME", self.path("config"));
        command.output().unwrap()
    }

    /// A call with its words in one text.
    pub fn say(&self, words: &str) -> Said {
        self.call(&words.split_whitespace().collect::<Vec<_>>())
    }

    /// Bytes of all files below some folders, of those that are there at this moment.
    pub fn bytes(&self, below: &[&str]) -> u64 {
        let mut all = 0;
        let mut open: Vec<PathBuf> = below.iter().map(|name| self.path(name)).collect();
        while let Some(folder) = open.pop() {
            for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
                match entry.metadata() {
                    Ok(about) if about.is_dir() => open.push(entry.path()),
                    about => all += about.map_or(0, |about| about.len()),
                }
            }
        }
        all
    }

    /// Waits until a process has written so many bytes more, or has ended: a moment that comes of what it does and of nothing
    /// else. Whether it still runs.
    pub fn until_written(&self, child: &mut Child, more: u64) -> bool {
        let written = || self.bytes(&["renders", "stacks", "out", ".truepath"]);
        let (before, mut runs) = (written(), true);
        until("what it writes", || {
            runs = child.try_wait().unwrap().is_none();
            !runs || written() >= before + more
        });
        runs
    }

    /// All files below a folder, relative to it.
    pub fn files(&self, below: &str) -> BTreeSet<String> {
        let mut found = BTreeSet::new();
        gather(&self.path(below), &self.path(below), &mut found);
        found
    }

    /// Bytes and time of change of every file below a folder that is still there when it is looked at.
    pub fn stamps(&self, below: &str) -> std::collections::BTreeMap<String, (Vec<u8>, SystemTime)> {
        let stamp = |name: &String| {
            let path = self.path(below).join(name);
            Some((std::fs::read(&path).ok()?, path.metadata().ok()?.modified().unwrap()))
        };
        self.files(below).into_iter().filter_map(|name| stamp(&name).map(|stamp| (name, stamp))).collect()
    }
}

fn gather(folder: &Path, base: &Path, found: &mut BTreeSet<String>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        // A link to a folder above would never end.
        if entry.file_type().unwrap().is_dir() {
            gather(&path, base, found);
        } else {
            found.insert(path.strip_prefix(base).unwrap().to_string_lossy().into_owned());
        }
    }
}

/// All files below a folder, relative to it.
pub fn below(folder: &Path) -> Vec<String> {
    let mut found = BTreeSet::new();
    gather(folder, folder, &mut found);
    found.into_iter().collect()
}

/// Whether a program is there. A missing one is said loudly, and fails the test when `TRUEPATH_REQUIRE` names it.
pub fn has(program: &str) -> bool {
    let found = std::env::split_paths(&std::env::var_os("PATH").unwrap_or_default())
        .any(|folder| folder.join(program).is_file());
    // Its programs lie in no folder for programs, and its hosts are made of namespaces.
    let found =
        found || program == "sge_qmaster" && Path::new("/usr/lib/gridengine").join(program).is_file() && hosts();
    // A machine may have it and let it trace nothing.
    let found = found && (program != "strace" || traces());
    let required = std::env::var("TRUEPATH_REQUIRE").unwrap_or_default();
    if !found {
        assert!(!required.split([',', ' ']).any(|name| name == program), "{program} is required and not there");
        eprintln!("SKIPPED: {program} is not on this machine");
    }
    found
}

fn hosts() -> bool {
    let words = ["--net", "--uts", "--mount", "--pid", "--fork", "--mount-proc", "true"];
    Command::new("unshare").args(words).output().is_ok_and(|said| said.status.success())
}

fn traces() -> bool {
    Command::new("strace").args(["-o", "/dev/null", "true"]).output().is_ok_and(|said| said.status.success())
}

/// The paths that a sheet plans, relative to the project.
pub fn planned(project: &Project) -> BTreeSet<String> {
    let base = format!("{}/", project.path("renders").display());
    project
        .say("names --all")
        .ended(0)
        .out
        .lines()
        .map(|line| line.strip_prefix(&base).expect(line).to_owned())
        .collect()
}

/// Everything below the root but the program's own folder.
pub fn rendered(project: &Project) -> BTreeSet<String> {
    project.files("renders").into_iter().filter(|name| !name.starts_with(".truepath/")).collect()
}

/// Commands with the options that their `--help` names.
pub fn options(project: &Project) -> std::collections::BTreeMap<String, Vec<String>> {
    let mut all = std::collections::BTreeMap::new();
    let mut open: Vec<Vec<String>> = vec![Vec::new()];
    while let Some(command) = open.pop() {
        let words: Vec<&str> = command.iter().map(String::as_str).chain(["--help"]).collect();
        let help = project.call(&words).ended(0).out;
        let commands = help.lines().skip_while(|line| *line != "Commands:").skip(1).take_while(|line| !line.is_empty());
        let names = commands.filter(|line| !line.starts_with("   ")).filter_map(|line| line.split_whitespace().next());
        open.extend(names.filter(|name| *name != "help").map(|name| [command.clone(), vec![name.to_owned()]].concat()));
        let named = help.lines().filter(|line| line.trim_start().starts_with('-'));
        let named = named.filter_map(|line| line.split_whitespace().find(|word| word.starts_with("--")));
        let named = named.map(|option| option.trim_end_matches(',').to_owned());
        // Jobs are typed without an option.
        let jobs =
            help.lines().any(|line| line.starts_with("Usage:") && line.contains("[JOBS]")).then(|| "JOBS".to_owned());
        all.insert(command.join(" "), named.chain(jobs).collect());
    }
    all
}
