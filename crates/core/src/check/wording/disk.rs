//! Words about what lies on disk.

use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::plan::Series;

pub fn root_not_there(path: &str) -> Words {
    Words::new(format!("the folder {path} is not there"), "a root outside the sheet's folder")
        .help("mount it, make it, or say in the machine file where it is here: [roots]")
}

pub fn root_not_writable(path: &str, why: &str) -> Words {
    Words::new(format!("nothing can be written to {path}"), why)
        .help("take another folder, or ask for the right to write there")
}

pub fn root_not_mounted(path: &str) -> Words {
    Words::new(format!("{path} is an empty folder on the system's own disk"), "is the disk mounted?")
        .help("mount the disk; without it the system's disk would be filled")
}

pub fn place_blocked(path: &str, what: &str) -> Words {
    Words::new(format!("{what}: {path}"), "no file can be written here")
        .help("look what it is, and move it away; True Path touches nothing but regular files")
}

pub fn state_not_writable(folder: &str, why: &str) -> Words {
    Words::new(format!("True Path cannot keep its state in {folder}: {why}"), "")
        .help("make the folder writable, or move the sheet to a folder that is")
}

pub fn other_system_path(path: &str) -> Words {
    Words::new(format!("{path} is a path of another system"), "nothing like it is on this machine")
        .help("give the root a path for each system: { linux = \"...\", macos = \"...\", windows = \"...\" }")
}

pub fn other_home(path: &str, person: &str) -> Words {
    Words::new(format!("{path} lies in the home of {person}"), "there on one machine only")
        .help("keep it below the project, or below a root that all machines share")
}

pub fn frames_left_over(series: &Series, frames: &Frames) -> Words {
    Words::new(format!("frames {frames} of {} lie there and are not planned", series.id), "written to this path")
        .help("move them away, or ask for these frames, too")
}

pub fn files_unknown(folder: &str, names: &[&str]) -> Words {
    let some = names.iter().take(3).copied().collect::<Vec<_>>().join(", ");
    let more = if names.len() > 3 { format!(" and {} more", names.len() - 3) } else { String::new() };
    Words::new(format!("{folder} holds files that no series of this sheet knows"), format!("{some}{more}"))
        .help("`truepath whose` tells which part of such a name does not fit")
}

pub fn space_small(needed: f64, free: u64) -> Words {
    Words::new(
        format!("the missing frames will take about {}, with {} free", bytes(needed), bytes(free as f64)),
        "on this disk",
    )
    .help("make room, or take another disk")
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

pub fn frames_stale(series: &Series, frames: &Frames) -> Words {
    Words::new(
        format!("frames {frames} of {} were made of something else than is asked for now", series.id),
        "they lie under these names",
    )
    .help("render them again with `truepath run --existing renew`, or give the new ones a new version")
}
