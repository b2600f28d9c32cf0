//! Words about what every sheet and job must have, and what nothing uses.

use crate::adapter::Adapter;
use crate::diagnostic::Words;
use crate::sheet::{Key, MeantEntry};

pub fn no_job() -> Words {
    Words::new("there is no job in this sheet", "").help("write a [[job]] with a name and a scene")
}

pub fn job_without(key: &Key) -> Words {
    let help = match key {
        Key::Path => {
            "write path = \"{renders}/{job}/{job}_{pass}.{frame:4}.{ext}\" in the job or in [defaults]".to_owned()
        }
        key => format!("write {key} = \"...\" in the job or in [defaults]"),
    };
    Words::new(format!("this job has no `{key}`"), "this job").help(help)
}

pub fn variable_unused(name: &str, adapter: Option<&Adapter>) -> Words {
    let reach = match adapter {
        Some(adapter) => format!("{} takes no variables, and no path has {{{name}}}", adapter.name),
        None => format!("no path has {{{name}}}"),
    };
    Words::new(format!("nothing uses the variable `{name}`"), reach)
        .help(format!("write {{{name}}} in the path, or take it out"))
}

pub fn each_unused(name: &str) -> Words {
    Words::new(
        format!("what `each` varies under `{name}` reaches neither the path nor the renderer"),
        "the same picture as with every other value",
    )
    .help(format!("write {{{name}}} in the path, or take it out of `each`"))
}

pub fn entry_unused(what: &str, name: &str) -> Words {
    Words::new(format!("nothing uses the {what} `{name}`"), "never named")
        .help("take it out, or name it where it was meant")
}

pub fn mode_changes_nothing(name: &str) -> Words {
    Words::new(format!("the mode `{name}` changes no job"), "everything in it holds already")
        .help("take it out, or give it what it was meant to change")
}

pub fn meant_unneeded(entry: &MeantEntry) -> Words {
    Words::new(format!("no finding of `{}` is there to be meant", entry.check.value), "nothing to allow")
        .help("take it out")
}
