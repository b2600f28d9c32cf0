//! Words about how names are spelt.

use crate::catalogue::FileType;
use crate::diagnostic::Words;
use crate::source::Place;

pub fn part_empty(name: &str) -> Words {
    Words::new(format!("a part of this path is empty: {name}"), "a token here has no value")
        .help("put fixed text beside the token")
}

pub fn part_too_long(length: usize, most: usize) -> Words {
    Words::new(format!("this name is too long: {length} bytes"), format!("file systems allow {most} bytes"))
        .help("use shorter values, or split the name into folders")
}

pub fn path_too_long(system: &str, length: usize, most: usize) -> Words {
    let unit = if system == "windows" { "characters" } else { "bytes" };
    Words::new(format!("this path is too long for {system}: {length} {unit}"), format!("{system} allows {most}"))
        .help("use shorter values, or remove the system from the policy's `systems`")
}

pub fn name_reserved(part: &str, why: &str) -> Words {
    Words::new(format!("`{part}` is not a valid name on every system"), why)
        .help("choose another name, or remove windows from the policy's `systems`")
}

pub fn extension_missing(known: &FileType, end: Option<Place>) -> Words {
    let words = Words::new(
        format!("this path has no extension, and the file type is {}", known.name),
        "the extension is missing here",
    )
    .help("add .{ext} at the end");
    match end {
        Some(at) => words.fix(at, ".{ext}"),
        None => words,
    }
}

pub fn not_expanded(written: &str, root: bool) -> Words {
    let help = if root {
        "write the folder itself, or ~/ at the beginning for your home folder; a root that differs from machine to machine belongs into the machine file"
    } else {
        "name the folder under [roots] and begin the path with that root: {renders}/..."
    };
    Words::new(
        format!("nothing replaces `{written}` here: a folder or file would get this very name"),
        "it stays as it is written",
    )
    .help(help)
}

pub fn blank_at_edge(part: &str) -> Words {
    Words::new(format!("the name \"{part}\" begins or ends with a space"), "a space that nobody sees")
        .help("remove the space")
}

pub fn dots_doubled(part: &str, one: Option<Place>) -> Words {
    let words = Words::new(format!("two dots in a row: {part}"), "one dot too many").help("remove one of them");
    match one {
        Some(at) => words.fix(at, ""),
        None => words,
    }
}

pub fn extension_doubled(twice: Option<Place>) -> Words {
    let words = Words::new("the extension is written twice", "this is the second").help("remove one of them");
    match twice {
        Some(at) => words.fix(at, ""),
        None => words,
    }
}
