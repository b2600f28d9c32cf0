//! Words about how names are spelt.

use crate::catalogue::FileType;
use crate::diagnostic::Words;
use crate::source::Place;

pub fn part_empty(name: &str) -> Words {
    Words::new(format!("a part of this path has nothing in it: {name}"), "something here has no value")
        .help("put something beside it that is always there")
}

pub fn part_too_long(length: usize, most: usize) -> Words {
    Words::new(format!("a name of {length} bytes is too long"), format!("file systems take {most} bytes a name"))
        .help("take shorter values, or spread them over folders")
}

pub fn path_too_long(system: &str, length: usize, most: usize) -> Words {
    let unit = if system == "windows" { "characters" } else { "bytes" };
    Words::new(format!("a path of {length} {unit} is too long for {system}"), format!("{system} takes {most} in all"))
        .help("take shorter values, or leave the system out of the policy's `systems`")
}

pub fn name_reserved(part: &str, why: &str) -> Words {
    Words::new(format!("`{part}` cannot be written everywhere"), why)
        .help("take another name, or leave windows out of the policy's `systems`")
}

pub fn extension_missing(known: &FileType, end: Option<Place>) -> Words {
    let words =
        Words::new(format!("this path has no extension, the file type is {}", known.name), "it ends without one")
            .help("write .{ext} at the end");
    match end {
        Some(at) => words.fix(at, ".{ext}"),
        None => words,
    }
}

pub fn extension_doubled(twice: Option<Place>) -> Words {
    let words = Words::new("the extension is written twice", "the same once more").help("take one of them out");
    match twice {
        Some(at) => words.fix(at, ""),
        None => words,
    }
}
