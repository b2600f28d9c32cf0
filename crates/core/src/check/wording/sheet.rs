//! Words about what every sheet and job must have, and what nothing uses.

use crate::adapter::Adapter;
use crate::diagnostic::Words;
use crate::sheet::{AllowEntry, Key};

pub fn no_job() -> Words {
    Words::new("this sheet has no job", "").help("write a [[job]] with a name and a scene")
}

pub fn job_without(key: &Key) -> Words {
    let help = match key {
        Key::Path => {
            "write path = \"{renders}/{job}/{job}_{pass}.{frame:4}.{ext}\" in the job or in [defaults]".to_owned()
        }
        key => format!("write {key} = \"...\" in the job or in [defaults]"),
    };
    Words::new(format!("`{key}` is missing in this job"), "this job").help(help)
}

pub fn variable_unused(name: &str, adapter: Option<&Adapter>) -> Words {
    let reach = match adapter {
        Some(adapter) => format!("no path uses {{{name}}}, and {} takes no variables", adapter.name),
        None => format!("no path uses {{{name}}}"),
    };
    Words::new(format!("the variable `{name}` is not used"), reach)
        .help(format!("put {{{name}}} into the path, or remove the variable"))
}

pub fn entry_twice(what: &str, name: &str) -> Words {
    let (several, help) = match what {
        "pass" => ("passes", "name one of them: { name = \"...\", as = \"...\" }, or remove it"),
        _ => ("movies", "give one of them another name, or remove it"),
    };
    Words::new(format!("two {several} of one job have the name `{name}`"), "the second").help(help)
}

pub fn variable_hidden(name: &str, root: bool) -> Words {
    let what = if root { "a root" } else { "a built-in token" };
    let key = Key::parse(name).filter(|key| !matches!(key, Key::Var(_)) && !root);
    let help = match key {
        Some(key) => {
            format!(
                "to set the {key} itself, write {key} = \"...\" without `vars.`; else give the variable another name"
            )
        }
        None => "give the variable another name".to_owned(),
    };
    Words::new(
        format!("the variable `{name}` has the name of {what}, so {{{name}}} never shows its value"),
        format!("{{{name}}} is {what}"),
    )
    .help(help)
}

pub fn after_missing(program: &str) -> Words {
    Words::new(
        format!("the program {program} under `after` is not on this machine"),
        "at the end of the run it cannot be started",
    )
    .help("install it, correct its name, or remove the command")
}

pub fn each_unused(name: &str) -> Words {
    Words::new(
        format!("`each` varies `{name}`, which neither the path nor the renderer uses"),
        "every value gives the same picture",
    )
    .help(format!("put {{{name}}} into the path, or remove it from `each`"))
}

pub fn entry_unused(what: &str, name: &str) -> Words {
    Words::new(format!("the {what} `{name}` is not used"), "no job uses it").help("remove it, or use it in a job")
}

pub fn mode_changes_nothing(name: &str) -> Words {
    Words::new(format!("the mode `{name}` changes no job"), "its values are those that the jobs have already")
        .help("remove it, or correct its values")
}

pub fn allow_unneeded(entry: &AllowEntry) -> Words {
    Words::new(format!("this entry allows `{}`, and there is no such finding", entry.check.value), "nothing to allow")
        .help("remove it")
}
