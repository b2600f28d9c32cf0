//! Words about renderers.

use crate::adapter::{Adapter, KINDS, Native};
use crate::diagnostic::{Words, counted};
use crate::resolve::Job;
use crate::sheet::{FileOption, Key};
use crate::source::{Place, Spanned};

use super::listed;

pub fn adapter_missing(name: &str, near: Option<&str>, at: Option<Place>) -> Words {
    let words = Words::new(format!("there is no adapter `{name}`"), "not defined");
    match (near, at) {
        (Some(near), Some(at)) => words.help(format!("write \"{near}\"")).fix(at, near),
        _ => words
            .help(format!("put {name}.toml into the folder `adapters` beside the sheet; True Path brings understudy")),
    }
}

pub fn adapter_not_given(job: &Job) -> Words {
    Words::new(
        format!("the job `{}` has no adapter, so no renderer is known", job.name),
        "it has names, and cannot be rendered",
    )
    .help("write adapter = \"understudy\" in the job or in [defaults]; `truepath adapter list` shows all")
}

/// `shared`: whether other jobs have the setting from the same place. `dropped`: whether the adapter has an argument for it
/// that fell away here.
pub fn setting_not_carried(key: &Key, adapter: &Adapter, (job, shared, dropped): (&Job, bool, bool)) -> Words {
    let name = &adapter.name;
    let message = match dropped {
        true => format!("{name} does not receive `{key}` in the job `{}`: its argument is left out there", job.name),
        false => format!("{name} cannot receive `{key}`"),
    };
    let way = match (shared, dropped) {
        (_, true) => format!("give the other values that its argument in the adapter needs, or remove `{key}`"),
        (true, _) => format!("write leave = [\"{key}\"] in the job `{}`, or remove it here", job.name),
        (false, _) => "remove it".to_owned(),
    };
    let takes = listed(adapter.carried());
    let takes = if takes.is_empty() { "nothing".to_owned() } else { takes };
    Words::new(message, "the program would ignore this").help(format!("{way}; {name} takes {takes}"))
}

pub fn argument_without_value(token: &str, adapter: &Adapter, job: &Job) -> Words {
    Words::new(
        format!("the job `{}` has no {token} for this argument of {}", job.name, adapter.name),
        format!("{{{token}}} has no value"),
    )
    .help(format!(
        "give it in the job, or put the flag and its argument into an inner list: [\"--{token}\", \"{{{token}}}\"]"
    ))
}

pub fn line_without_value(token: &str, adapter: &Adapter, job: &Job) -> Words {
    Words::new(
        format!("the job `{}` has no {token} for this line of a file for {}", job.name, adapter.name),
        format!("{{{token}}} has no value"),
    )
    .help(format!("give it in the job, or begin the line with `? `, so that it is left out when there is no {token}"))
}

/// `passes`: those that the program is never asked for.
pub fn pass_never_asked(token: &str, adapter: &Adapter, (job, passes): (&Job, &str)) -> Words {
    let message =
        format!("{} is not asked for {passes} of the job `{}`, because it has no {token}", adapter.name, job.name);
    Words::new(message, format!("{{{token}}} has no value, and the list is left out"))
        .help(format!("give {token} in the format of the pass, or put {{{token}}} into its own inner list"))
}

pub fn native_unknown(name: &str, adapter: &Adapter, near: Option<&str>) -> Words {
    let words =
        Words::new(format!("{} has no native setting `{name}`", adapter.name), "the adapter does not declare it");
    match near {
        Some(near) => words.help(format!("write native.{near}")),
        None => words.help(format!("it declares {}", listed(adapter.natives.keys()))),
    }
}

pub fn native_value(name: &str, value: &str, native: &Native) -> Words {
    let wanted = match native.values.as_slice() {
        [] => native.kind.described().to_owned(),
        values => format!("one of {}", listed(values)),
    };
    let words = Words::new(format!("`native.{name}` must be {wanted}"), format!("this is `{value}`"));
    let near = crate::diagnostic::nearest(value, native.values.iter().map(String::as_str));
    match (near, &native.help) {
        (Some(near), _) => words.help(format!("write {near}")),
        (None, Some(help)) => words.help(help.clone()),
        (None, None) => words.help(format!("write {wanted}, or remove it")),
    }
}

/// `why`: what is wrong with the token, if it is a token.
pub fn native_template(name: &str, why: &str) -> Words {
    Words::new(format!("the template in `native.{name}` cannot be read"), why.to_owned()).help(
        "a native setting may use the tokens of paths, {var.NAME} and {root.NAME}; write {{ and }} for plain braces",
    )
}

pub fn value_not_writable(token: &str, adapter: &Adapter, job: &Job) -> Words {
    let message =
        format!("the value of {token} in the job `{}` cannot be written into a file for {}", job.name, adapter.name);
    Words::new(message, "it has a line break or a control character")
        .help("remove the character from the value, or give the file a `quote` that can hold it")
}

pub fn pass_unknown(pass: &Spanned<String>, adapter: &Adapter) -> Words {
    let known = &adapter.known_passes;
    let words =
        Words::new(format!("{} has no pass `{}`", adapter.name, pass.value), format!("it has {}", listed(known)));
    match crate::diagnostic::nearest(&pass.value, known.iter().map(String::as_str)) {
        Some(near) => words.help(format!("write \"{near}\"")).fix(pass.at, near),
        None => words.help("remove it, or add it to `known` under [passes] in the adapter"),
    }
}

pub fn writes_unclear(adapter: &Adapter, why: &str) -> Words {
    Words::new(format!("the names that {} writes cannot be read back: {why}", adapter.name), "this rule")
        .help("put the separator that the program writes between {any} and {frame}, and {pass} where it writes several passes")
}

pub fn option_not_carried(option: FileOption, adapter: &Adapter) -> Words {
    let row = option.row();
    Words::new(
        format!("{} cannot receive the file option `{}`", adapter.name, row.name),
        "the program would ignore this",
    )
    .help(format!(
        "remove it, or, if the program writes nothing else, say so in the adapter: [accepts] {} = [\"...\"]",
        row.accepted.unwrap_or(row.name)
    ))
}

pub fn scene_not_accepted(extension: &str, adapter: &Adapter) -> Words {
    Words::new(
        format!("{} cannot read .{extension} scenes", adapter.name),
        format!("it reads {}", listed(&adapter.accepts.scenes)),
    )
}

pub fn type_not_accepted((option, value): (FileOption, &str), adapter: &Adapter) -> Words {
    let (what, known) = (option.name(), listed(adapter.accepts.of(option)));
    Words::new(format!("{} cannot write the {what} `{value}`", adapter.name), format!("it writes {known}"))
        .help("choose one that it writes, or another adapter")
}

pub fn passes_not_arranged(adapter: &Adapter, together: bool) -> Words {
    let (what, help) = match (&adapter.can, together) {
        (None, _) => ("renders one picture and has no passes", "keep one pass, or describe [passes] in the adapter"),
        (_, true) => ("cannot put all passes into one file", "write layers = \"apart\""),
        (_, false) => ("can only put all passes into one file", "write layers = \"together\""),
    };
    Words::new(format!("{} {what}", adapter.name), "this job has several passes").help(help)
}

pub fn threads_beyond(threads: i64, cores: u64) -> Words {
    Words::new(
        format!("{threads} threads on a machine with {}", counted(i64::try_from(cores).unwrap_or(i64::MAX), "core")),
        "more threads than cores slow it down",
    )
    .help("remove `threads`, so that the renderer chooses")
}

pub fn call_per_frame(adapter: &Adapter, frames: i64) -> Words {
    Words::new(
        format!("{} is started {frames} times, once per frame", adapter.name),
        "its adapter calls the program once per frame",
    )
    .help("if the program takes ranges or lists, write per = \"range\" or \"list\" under [frames] in the adapter")
}

pub fn program_missing(program: &str, adapter: &str) -> Words {
    Words::new(format!("the program `{program}` is not on this machine"), format!("{adapter} calls it"))
        .help(format!("install it, or give its path in the machine file: [programs] {program} = \"...\""))
}

pub fn program_not_executable(program: &str, adapter: &str) -> Words {
    Words::new(format!("this user has no permission to start the program `{program}`"), format!("{adapter} calls it"))
        .help(format!("make it executable: chmod +x {program}"))
}

pub fn need_missing(adapter: &str, need: &str) -> Words {
    Words::new(format!("{adapter} needs {need}"), "this machine does not have it")
        .help("the adapter requires it under [needs]")
}

pub fn command_too_long(length: usize, most: usize) -> Words {
    Words::new(format!("the command line of one call has {length} bytes"), format!("this system allows {most}"))
        .help("use shorter values, or pass them in a file or in `env`")
}

pub fn variant_not_found(adapter: &Adapter, version: &str) -> Words {
    let variants = listed(
        adapter
            .variants
            .iter()
            .filter_map(|variant| variant.matches.as_ref().map(|rule| format!("{} ({rule})", variant.name))),
    );
    Words::new(
        format!("the program of `{}` is version {version}, which fits none of its variants", adapter.name),
        "used without any variant",
    )
    .help(format!(
        "its variants are {variants}; add one for this version, or name one: adapter = \"{}@{}\"",
        adapter.name,
        adapter.variants.last().map_or("", |variant| variant.name.as_str())
    ))
}

pub fn wrong_kind(adapter: &Adapter, wanted: &str) -> Words {
    let kind = KINDS.iter().find(|(_, kind)| *kind == adapter.kind).map_or("", |(name, _)| name);
    Words::new(format!("{} is an {kind}", adapter.name).replace("an renderer", "a renderer"), wanted)
        .help("use another adapter: `truepath adapter list` shows the kind of each")
}
