//! A claim tried: its sheet run by this very program, and what came of it looked at.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;
use truepath_core::adapter::Adapter;
use truepath_core::run::event::Event;
use truepath_core::verify::Seen;
use truepath_exec::failure::Failure;
use truepath_exec::guard::OWN;
use truepath_exec::process::identity;
use truepath_media::Looked;

use crate::lower::Around;

/// How long a program may wait for a licence.
const PATIENCE: Duration = Duration::from_secs(60);

/// Two pictures that came out of one claim and show the same, where they should not.
pub fn alike(folder: &Path) -> Option<String> {
    let mut files = Vec::new();
    gather(folder, &mut files);
    files.sort();
    let mut seen: Vec<(u64, String)> = Vec::new();
    for path in files {
        // What is no whole picture has failed its claim already.
        let Ok(Looked { seen: Seen::Whole(_), content, .. }) = truepath_media::inspect_any(&path) else { continue };
        // Of types whose pixels nothing here unpacks nothing can be said.
        let Some(digest) = content.digest() else { continue };
        let name = file_name(&path.display().to_string());
        if let Some((_, other)) = seen.iter().find(|(known, _)| *known == digest) {
            return Some(format!("{other} and {name} are the same picture"));
        }
        seen.push((digest, name));
    }
    None
}

fn gather(folder: &Path, files: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
        let path = entry.path();
        let hidden = entry.file_name().to_string_lossy().starts_with('.');
        if path.is_dir() && !hidden {
            gather(&path, files);
        } else if !hidden {
            files.push(path);
        }
    }
}

/// The picture of one frame among what came out of a claim, of a pass if one is named.
pub fn picture(folder: &Path, pass: &str, frame: &str) -> Option<u64> {
    let mut files = Vec::new();
    gather(folder, &mut files);
    let own = |path: &&PathBuf| {
        let name = file_name(&path.display().to_string());
        name.contains(frame) && name.contains(pass)
    };
    truepath_media::inspect_any(files.iter().find(own)?).ok()?.content.digest()
}

/// What the pictures that came out of a claim show, by their names.
pub fn pictures(folder: &Path) -> BTreeMap<String, Option<u64>> {
    let mut files = Vec::new();
    gather(folder, &mut files);
    let shown = |path: &PathBuf| truepath_media::inspect_any(path).ok().and_then(|looked| looked.content.digest());
    files.iter().map(|path| (file_name(&path.display().to_string()), shown(path))).collect()
}

/// Runs the sheet in scratch and ends the program once it has begun to write; why something has landed then that is not the
/// picture that it renders when it is left alone. A program that is done before has nothing to show.
pub fn ended_under_way(
    scratch: &Path,
    whole: &BTreeMap<String, Option<u64>>,
    around: &Around,
) -> Result<Option<String>, Failure> {
    let failed = |error: std::io::Error| Failure::machine("start", &around.program, &error);
    let told = scratch.join("told.jsonl");
    let mut command = Command::new(&around.program);
    command.args(["run", "--events"]).current_dir(scratch).stdin(Stdio::null()).stderr(Stdio::null());
    command.stdout(std::fs::File::create(&told).map_err(failed)?);
    let mut running = command.spawn().map_err(failed)?;
    let stage = scratch.join("out").join(OWN);
    loop {
        let mut staged = Vec::new();
        gather(&stage, &mut staged);
        let since = std::fs::read_to_string(&told).unwrap_or_default();
        let started = since.lines().filter_map(|line| serde_json::from_str::<Event>(line).ok());
        let mut started = started.filter_map(|event| if let Event::Started(own) = event { Some(own) } else { None });
        if let Some(call) = started.next_back().filter(|_| !staged.is_empty()) {
            // Its run tries it again: what has landed until then is looked at.
            let _ = running.kill();
            let _ = identity::end_group(call.process, &call.born);
            break;
        }
        if running.try_wait().map_err(failed)?.is_some() {
            break;
        }
        std::thread::sleep(Duration::from_millis(2));
    }
    running.wait().map_err(failed)?;
    let landed = pictures(&scratch.join("out"));
    let other = landed.iter().find(|(name, shows)| whole.get(*name).is_some_and(|own| own != *shows));
    Ok(other.map(|(name, _)| {
        format!(
            "{name} landed before it was whole: [log] wrote or its way of writing does not tell when a file is done"
        )
    }))
}

/// Rules under `[log]` that no line of any log fits: their names.
pub fn unheard(adapter: &Adapter, scratch: &Path) -> Vec<&'static str> {
    let logs = scratch.join(".truepath/truepath/logs");
    let logs = std::fs::read_dir(logs).into_iter().flatten().filter_map(Result::ok);
    let text: String = logs
        .filter_map(|log| std::fs::read(log.path()).ok())
        .map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
        .collect();
    let log = &adapter.log;
    let rules = [("wrote", &log.wrote), ("progress", &log.progress), ("finished", &log.finished)];
    let fits = |rule: &str| regex_lite::Regex::new(rule).is_ok_and(|rule| text.lines().any(|line| rule.is_match(line)));
    let unheard = rules.into_iter().filter(|(_, rule)| rule.as_ref().is_some_and(|rule| !fits(rule)));
    unheard.map(|(name, _)| name).collect()
}

/// Runs the sheet in scratch; why it did not give what was claimed.
pub fn tried(scratch: &Path, around: &Around) -> Result<Option<String>, Failure> {
    let failed = |error: std::io::Error| Failure::machine("start", &around.program, &error);
    let (told, complained) = (scratch.join("told.jsonl"), scratch.join("complained"));
    let file = |path: &Path| std::fs::File::create(path);
    let mut command = Command::new(&around.program);
    command.args(["run", "--events"]).current_dir(scratch).stdin(Stdio::null());
    command.stdout(file(&told).map_err(failed)?).stderr(file(&complained).map_err(failed)?);
    let mut running = command.spawn().map_err(failed)?;
    let since = Instant::now();
    let status = loop {
        if let Some(status) = running.try_wait().map_err(failed)? {
            break status;
        }
        let waits = std::fs::read_to_string(&told).is_ok_and(|out| out.contains("{\"event\":\"waiting\""));
        if waits && since.elapsed() > PATIENCE {
            running.kill().and_then(|()| running.wait()).map_err(failed)?;
            return Ok(Some(format!("no licence was free for {} seconds", PATIENCE.as_secs())));
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    let read = |path: &Path| String::from_utf8_lossy(&std::fs::read(path).unwrap_or_default()).into_owned();
    let out = read(&told);
    let events: Vec<Value> = out.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let of = |name: &str| events.iter().filter(|event| event["event"] == name).collect::<Vec<_>>();
    let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    if let Some(refused) = of("refused").first() {
        return Ok(Some(format!("frame {}: {}", refused["frame"], text(&refused["why"]))));
    }
    let strays = of("stray").into_iter().flat_map(|event| event["paths"].as_array().into_iter().flatten());
    let mut stray: Vec<String> = strays.map(|path| file_name(&text(path))).collect();
    stray.sort();
    stray.dedup();
    let missing =
        of("ended").into_iter().find(|event| event["missing"].as_str().is_some_and(|frames| !frames.is_empty()));
    let wrote = if stray.is_empty() { String::new() } else { format!("; it wrote {}", some(&stray)) };
    if let Some(ended) = missing {
        let code = ended["code"].as_i64().map_or("a signal".to_owned(), |code| format!("exit code {code}"));
        let said = telling_line(Path::new(&text(&ended["log"])));
        let said = if stray.is_empty() { said.map(|said| format!(": {said}")).unwrap_or_default() } else { wrote };
        return Ok(Some(format!("frames {} were not written, {code}{said}", text(&ended["missing"]))));
    }
    if !stray.is_empty() {
        return Ok(Some(format!("it wrote files that were not requested: {}", some(&stray))));
    }
    if status.success() {
        return Ok(None);
    }
    let err = read(&complained);
    Ok(Some(err.lines().find(|line| line.starts_with("error")).unwrap_or("it did not run").to_owned()))
}

fn some(names: &[String]) -> String {
    let first = names.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
    if names.len() > 3 { format!("{first} and {} more", names.len() - 3) } else { first }
}

fn file_name(path: &str) -> String {
    path.rsplit('/').next().unwrap_or(path).to_owned()
}

/// The line of a log that tells most: the first that speaks of an error, else the last.
fn telling_line(log: &Path) -> Option<String> {
    let text = std::fs::read_to_string(log).ok()?;
    let lines = || text.lines().skip(1).filter(|line| !line.trim().is_empty());
    let error = lines().find(|line| line.to_ascii_lowercase().contains("error"));
    error.or(lines().last()).map(str::to_owned)
}
