//! A renderer that fails in the ways in which renderers fail, for tests: `--misbehave HOW [--at FRAME]` around the calls of
//! the understudy, which does its work frame by frame. Everything else is handed on as it is.

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};

use truepath_core::frames::FrameExpr;

/// The request for.
struct Asked {
    how: String,
    at: i64,
    frames: Vec<i64>,
    /// Pass and path, with `#` where the number goes, and the options of its file.
    passes: Vec<(String, String, Vec<String>)>,
    /// The arguments of the understudy, without frames, passes and size.
    rest: Vec<String>,
    size: String,
}

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let own = std::env::current_exe().ok().and_then(|path| Some(path.parent()?.parent()?.join("truepath")));
    let honest = own.unwrap_or_else(|| PathBuf::from("truepath"));
    match call(&words) {
        Some(call) => misbehave(&call, &honest),
        None => {
            let status = Command::new(honest).args(words).status();
            ExitCode::from(status.ok().and_then(|status| status.code()).map_or(1, |code| code as u8))
        }
    }
}

fn call(words: &[String]) -> Option<Asked> {
    let mut call = Asked {
        how: String::new(),
        at: i64::MIN,
        frames: Vec::new(),
        passes: Vec::new(),
        rest: Vec::new(),
        size: String::new(),
    };
    let mut words = words.iter();
    while let Some(word) = words.next() {
        match word.as_str() {
            "--misbehave" => call.how.clone_from(words.next()?),
            "--at" => call.at = words.next()?.parse().ok()?,
            "--size" => call.size.clone_from(words.next()?),
            "--frames" => {
                let frames = FrameExpr::parse(words.next()?).ok()?.frames(None, None)?;
                call.frames = frames.iter().collect();
            }
            "--pass" => {
                let (pass, path) = words.next()?.split_once('=')?;
                call.passes.push((pass.to_owned(), path.to_owned(), Vec::new()));
            }
            word if word.starts_with("--pass-") => {
                let value = words.next()?;
                call.passes.last_mut()?.2.extend([word.to_owned(), value.clone()]);
            }
            word => call.rest.push(word.to_owned()),
        }
    }
    // The second frame of the call, unless another one is named.
    if call.at == i64::MIN {
        call.at = *call.frames.get(1).or(call.frames.first())?;
    }
    (!call.how.is_empty()).then_some(call)
}

fn misbehave(call: &Asked, honest: &Path) -> ExitCode {
    let mut again: Vec<(PathBuf, Vec<u8>)> = Vec::new();
    let beyond = call.frames.last().map(|last| last + 1).filter(|_| call.how == "stray");
    for frame in call.frames.iter().copied().chain(beyond) {
        let here = frame == call.at;
        match call.how.as_str() {
            "exit-zero" => return ExitCode::SUCCESS,
            "hang" if here => loop {
                std::thread::park();
            },
            "skip" if here => continue,
            _ => {}
        }
        let mut command = Command::new(honest);
        command.args(&call.rest).args(["--frames", &frame.to_string(), "--size", &size(call, here)]);
        let mut written = Vec::new();
        for (pass, path, own) in &call.passes {
            let path = place(path, frame, pass, &call.how);
            let _ = path.parent().map(std::fs::create_dir_all);
            // Signs for the number that stay in a name would be filled in by the understudy.
            let extension = path.extension().unwrap_or_default().to_string_lossy();
            let beside = path.with_file_name(format!(".{pass}-{frame}.{extension}"));
            command.args(["--pass", &format!("{pass}={}", beside.display())]).args(own);
            written.push((beside, path));
        }
        let rendered = command.stdout(Stdio::null()).status().is_ok_and(|status| status.success());
        if !rendered {
            return ExitCode::FAILURE;
        }
        println!("frame {frame}");
        for (beside, path) in written {
            let Ok(bytes) = std::fs::read(&beside) else { return ExitCode::FAILURE };
            if std::fs::rename(&beside, &path).is_err() {
                return ExitCode::FAILURE;
            }
            if here && matches!(call.how.as_str(), "cut" | "crash") {
                let _ = std::fs::write(&path, &bytes[..bytes.len() / 2]);
                if call.how == "crash" {
                    std::process::abort();
                }
            }
            println!("wrote {}", path.display());
            if here && call.how == "again" {
                again.push((path, bytes));
            }
        }
    }
    for (path, bytes) in again {
        // As a renderer would that comes back to a frame later: it has landed by now.
        while path.exists() {
            std::thread::yield_now();
        }
        let _ = std::fs::write(&path, bytes);
        println!("wrote {}", path.display());
    }
    if call.how == "exit-one" {
        eprintln!("error: everything was written, and yet");
        return ExitCode::FAILURE;
    }
    ExitCode::SUCCESS
}

fn size(call: &Asked, here: bool) -> String {
    let sides = call.size.split_once('x').and_then(|(w, h)| Some((w.parse::<u32>().ok()?, h.parse::<u32>().ok()?)));
    match sides.filter(|_| here && call.how == "size") {
        Some((width, height)) => format!("{}x{}", (width / 2).max(1), (height / 2).max(1)),
        None => call.size.clone(),
    }
}

/// Where a frame of a pass goes: as asked, or as a renderer with a will of its own does it.
fn place(path: &str, frame: i64, pass: &str, how: &str) -> PathBuf {
    let (folder, file) = path.rsplit_once('/').unwrap_or((".", path));
    let (stem, extension) = file.rsplit_once('.').unwrap_or((file, ""));
    PathBuf::from(match how {
        "own-names" => format!("{folder}/{pass}-{frame}.{extension}"),
        // The signs for the number stay in the name.
        "numbers-appended" => format!("{folder}/{stem}{frame:04}.{extension}"),
        "folder-per-pass" => format!("{folder}/{}/{stem}_{frame:05}.{extension}", pass.to_uppercase()),
        _ => {
            let hashes = path.chars().filter(|sign| *sign == '#').count();
            path.replacen(&"#".repeat(hashes), &format!("{frame:0hashes$}"), 1)
        }
    })
}
