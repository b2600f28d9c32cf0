//! A renderer that fails in the ways in which renderers fail, for tests: `--misbehave HOW [--at FRAME]` around the calls of
//! the understudy, which does its work frame by frame. Everything else is handed on as it is.

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};

use truepath_core::frames::FrameExpr;

/// What it was asked to render, and how.
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
    if call.how == "parallel" {
        return parallel(call, honest);
    }
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
        for _ in 0..if call.how == "refine" { 2 } else { 0 } {
            // A whole picture, which is not the last of it.
            let Some(written) = rendered(call, honest, frame) else { return ExitCode::FAILURE };
            let coarse = |(beside, path): (PathBuf, PathBuf)| {
                std::fs::write(path, coarse(&std::fs::read(&beside)?)).and_then(|()| std::fs::remove_file(beside))
            };
            if !written.into_iter().all(|one| coarse(one).is_ok()) {
                return ExitCode::FAILURE;
            }
        }
        let Some(written) = rendered(call, honest, frame) else { return ExitCode::FAILURE };
        println!("frame {frame}");
        for (beside, path) in written {
            let Ok(bytes) = std::fs::read(&beside) else { return ExitCode::FAILURE };
            if call.how == "refine" {
                if std::fs::write(&path, bytes).and_then(|()| std::fs::remove_file(&beside)).is_err() {
                    return ExitCode::FAILURE;
                }
                continue;
            }
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

/// One frame, made beside its names: where it lies, and where each pass is to go.
fn rendered(call: &Asked, honest: &Path, frame: i64) -> Option<Vec<(PathBuf, PathBuf)>> {
    let mut command = Command::new(honest);
    command.args(&call.rest).args(["--frames", &frame.to_string(), "--size", &size(call, frame == call.at)]);
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
    command.stdout(Stdio::null()).status().is_ok_and(|status| status.success()).then_some(written)
}

/// A PNG with a text that says that it is not the last (PNG, 11.3.3): before its last chunk of 12 bytes.
fn coarse(picture: &[u8]) -> Vec<u8> {
    let (pixels, end) = picture.split_at(picture.len() - 12);
    let text = b"tEXtComment\0coarse";
    let mut sum = flate2::Crc::new();
    sum.update(text);
    let bytes = (text.len() as u32 - 4).to_be_bytes();
    [pixels, &bytes, text, &sum.sum().to_be_bytes(), end].concat()
}

/// All frames of a call at once: each file grows in three parts, and none is whole before all have two.
fn parallel(call: &Asked, honest: &Path) -> ExitCode {
    let mut all: Vec<(PathBuf, Vec<u8>)> = Vec::new();
    for frame in call.frames.iter().copied() {
        for (beside, path) in rendered(call, honest, frame).unwrap_or_default() {
            let Ok(bytes) = std::fs::read(&beside) else { return ExitCode::FAILURE };
            let _ = std::fs::remove_file(beside);
            all.push((path, bytes));
        }
    }
    let step = std::sync::Barrier::new(all.len());
    let write = |(path, bytes): &(PathBuf, Vec<u8>)| {
        let mut file = std::fs::File::create(path)?;
        for part in bytes.chunks(bytes.len().div_ceil(3)) {
            std::io::Write::write_all(&mut file, part)?;
            step.wait();
        }
        std::io::Result::Ok(())
    };
    let whole = std::thread::scope(|scope| {
        let threads: Vec<_> = all.iter().map(|one| scope.spawn(|| write(one))).collect();
        threads.into_iter().all(|thread| thread.join().is_ok_and(|done| done.is_ok()))
    });
    if whole { ExitCode::SUCCESS } else { ExitCode::FAILURE }
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
