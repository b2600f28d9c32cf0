//! Words about what lies on disk.

use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::plan::Series;

pub fn root_not_there(path: &str) -> Words {
    Words::new(format!("the folder {path} is not there"), "a root outside the sheet's folder is not created")
        .help("mount the disk, create the folder, or give its path on this machine in the machine file: [roots]")
}

pub fn root_not_writable(path: &str, why: &str) -> Words {
    Words::new(format!("this user cannot write to {path}"), why)
        .help("use another folder, or ask for permission to write there")
}

pub fn root_not_mounted(path: &str) -> Words {
    Words::new(format!("{path} is an empty folder on the system's own disk"), "is the disk mounted?")
        .help("mount the disk; otherwise the frames fill the system's own disk")
}

pub fn root_emptied(path: &str, files: usize) -> Words {
    let what = if files == 1 { "1 file".to_owned() } else { format!("{files} files") };
    Words::new(format!("{path} is empty, and {what} landed below it"), "is its disk mounted?")
        .help("mount the disk. If the files were removed on purpose: `truepath run --begin-anew`")
}

pub fn place_blocked(path: &str, what: &str) -> Words {
    Words::new(format!("{what}: {path}"), "a planned file cannot be written here")
        .help("look at what it is and move it away; True Path replaces regular files only")
}

pub fn state_not_writable(folder: &str, why: &str) -> Words {
    Words::new(format!("True Path cannot keep its state in {folder}: {why}"), "")
        .help("make the folder writable, or move the sheet to a folder where you can write")
}

pub fn other_system_path(path: &str) -> Words {
    Words::new(format!("{path} is a path for another operating system"), "this machine has no such path")
        .help("give the root a path for each system: { linux = \"...\", macos = \"...\", windows = \"...\" }")
}

pub fn other_home(path: &str, person: &str) -> Words {
    Words::new(format!("{path} is in the home folder of {person}"), "other machines do not have this folder")
        .help("put it in the project folder, or below a root that all machines share")
}

pub fn frames_left_over(series: &Series, frames: &Frames) -> Words {
    Words::new(
        format!("{} of {} {are} on disk and {are} not planned", frames.worded(), series.id, are = frames.are()),
        "written to this path",
    )
    .help("move them away, or add these frames to the job")
}

pub fn files_unknown(folder: &str, names: &[&str]) -> Words {
    let some = names.iter().take(3).copied().collect::<Vec<_>>().join(", ");
    let more = if names.len() > 3 { format!(" and {} more", names.len() - 3) } else { String::new() };
    Words::new(format!("{folder} holds files that this sheet does not plan"), format!("{some}{more}"))
        .help("`truepath whose FILE` shows which part of a name does not match")
}

pub fn space_small(needed: f64, free: u64) -> Words {
    Words::new(
        format!("the missing frames need about {}, and only {} is free", bytes(needed), bytes(free as f64)),
        "on this disk",
    )
    .help("free some space, or use another disk")
}

/// Bytes for people, in powers of ten.
#[must_use]
pub fn bytes(count: f64) -> String {
    let units = ["B", "kB", "MB", "GB", "TB", "PB", "EB"];
    let (mut count, mut unit) = (count, 0);
    while count >= 1000.0 && unit + 1 < units.len() {
        (count, unit) = (count / 1000.0, unit + 1);
    }
    if count >= 100.0 || unit == 0 {
        format!("{count:.0} {}", units[unit])
    } else {
        format!("{count:.1} {}", units[unit])
    }
}

/// `apart` are the frames of a series that the fewest frames share an export with.
pub fn exports_differ(job: &str, exports: usize, apart: (&Series, &Frames)) -> Words {
    let (series, frames) = apart;
    let which = if exports > 2 { "from others" } else { "from another one" };
    Words::new(
        format!(
            "{job} was rendered from {exports} exports of its scene: {} of {} {which} than the rest",
            frames.worded(),
            series.id
        ),
        "these exports differ",
    )
    .help(format!(
        "if their pictures do not fit together, render these again: truepath run {job} --frames {frames} --existing replace"
    ))
}

pub fn frames_stale(series: &Series, frames: &Frames) -> Words {
    Words::new(
        format!(
            "{} of {} {} rendered from a different scene or with different settings",
            frames.worded(),
            series.id,
            frames.were()
        ),
        "they have these names",
    )
    .help("render them again with `truepath run --existing renew`, or raise the version")
}
