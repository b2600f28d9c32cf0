//! Words about renderers.

use crate::adapter::{Adapter, KINDS};
use crate::diagnostic::Words;
use crate::sheet::Key;
use crate::source::Place;

use super::listed;

pub fn adapter_missing(name: &str, near: Option<&str>, at: Option<Place>) -> Words {
    let words = Words::new(format!("there is no adapter `{name}`"), "nothing is called so");
    match (near, at) {
        (Some(near), Some(at)) => words.help(format!("write \"{near}\"")).fix(at, near),
        _ => words.help(format!("put {name}.toml into `adapters` beside the sheet; the one in the box is understudy")),
    }
}

pub fn setting_not_carried(key: &Key, adapter: &Adapter) -> Words {
    Words::new(format!("{} has no way to receive `{key}`", adapter.name), "this would be ignored").help(format!(
        "leave it out; {} takes {}",
        adapter.name,
        listed(adapter.carried())
    ))
}

pub fn option_not_carried(name: &str, adapter: &Adapter) -> Words {
    Words::new(format!("{} has no way to receive the file option `{name}`", adapter.name), "this would be ignored")
        .help("leave it out")
}

pub fn scene_not_accepted(extension: &str, adapter: &Adapter) -> Words {
    Words::new(
        format!("{} does not read .{extension} scenes", adapter.name),
        format!("it reads {}", listed(&adapter.accepts.scenes)),
    )
}

pub fn type_not_accepted((what, value): (&str, &str), adapter: &Adapter, list: &[String]) -> Words {
    Words::new(format!("{} does not write the {what} `{value}`", adapter.name), format!("it writes {}", listed(list)))
        .help("take one that it writes, or another adapter")
}

pub fn passes_not_arranged(adapter: &Adapter, together: bool) -> Words {
    let (what, help) = match (&adapter.can, together) {
        (None, _) => {
            ("renders one picture and knows no passes", "leave one pass, or say in the adapter what [passes] it can")
        }
        (_, true) => ("cannot put all passes into one file", "write layers = \"apart\""),
        (_, false) => ("can only put all passes into one file", "write layers = \"together\""),
    };
    Words::new(format!("{} {what}", adapter.name), "asks for several passes").help(help)
}

pub fn threads_beyond(threads: i64, cores: u64) -> Words {
    Words::new(format!("{threads} threads on {}", counted(cores, "core")), "more than this machine has")
        .help("leave `threads` out, so that the renderer takes what is there")
}

pub fn call_per_frame(adapter: &Adapter, frames: i64) -> Words {
    Words::new(format!("{} is started {frames} times, once for each frame", adapter.name), "called once per frame")
        .help("if it takes ranges or lists, write [frames] per = \"range\" or \"list\" in the adapter")
}

pub fn program_missing(program: &str, adapter: &str) -> Words {
    Words::new(format!("the program `{program}` is not on this machine"), format!("{adapter} calls it"))
        .help(format!("install it, or say where it is in the machine file: [programs] {program} = \"...\""))
}

pub fn program_not_executable(program: &str, adapter: &str) -> Words {
    Words::new(format!("this user may not start the program `{program}`"), format!("{adapter} calls it"))
        .help(format!("make it executable: chmod +x {program}"))
}

pub fn need_missing(adapter: &str, need: &str) -> Words {
    Words::new(format!("{adapter} needs {need}"), "not on this machine").help("[needs] of the adapter asks for it")
}

pub fn command_too_long(length: usize, most: usize) -> Words {
    Words::new(format!("one call takes a command line of {length} bytes"), format!("this system takes {most}"))
        .help("take shorter values, or hand them over in a file or in `env`")
}

fn counted(count: u64, one: &str) -> String {
    if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") }
}

pub fn wrong_kind(adapter: &Adapter, wanted: &str) -> Words {
    let kind = KINDS.iter().find(|(_, kind)| *kind == adapter.kind).map_or("", |(name, _)| name);
    Words::new(format!("{} is an {kind}", adapter.name).replace("an renderer", "a renderer"), wanted)
        .help("name another adapter: `truepath adapter list` tells the kind of each")
}
