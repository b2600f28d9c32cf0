//! Words about names.

use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::resolve::ResolvedRoot;
use crate::sheet::{Key, SYSTEMS, System};
use crate::source::Place;
use crate::source::Spanned;
use crate::template::Token;

pub fn token_unknown(name: &str, near: Option<&str>, at: Option<Place>) -> Words {
    let words = Words::new(format!("there is no token `{name}`"), "nothing is called so");
    match (near, at) {
        (Some(near), Some(at)) => {
            let inner = at.end - at.start == u32::try_from(name.len() + 2).unwrap_or(0);
            let words = words.help(format!("write {{{near}}}"));
            if inner { words.fix(at, format!("{{{near}}}")) } else { words }
        }
        _ => words.help(format!("give it a value: vars.{name} = \"...\" in the job or in [defaults]")),
    }
}

pub fn root_missing(root: &ResolvedRoot, system: System) -> Words {
    let system = SYSTEMS.iter().find(|(_, known)| *known == system).map_or("", |(name, _)| name);
    Words::new(format!("the root `{}` has no path on {system}", root.name), "no name can be made here")
        .also(root.at, "given here")
        .help(format!("add {system} = \"...\" to it"))
}

pub fn frame_token_in_movie() -> Words {
    Words::new("a movie has no frame number", "a movie is one file with all frames")
        .help("take the frame out of the name")
}

pub fn numbers_touch(fix: Option<Place>) -> Words {
    let words = Words::new("a number touches another number", "where does one end and the other begin?")
        .help("put a sign between them");
    match fix {
        Some(at) => words.fix(at, "_"),
        None => words,
    }
}

pub fn clock_too_fine() -> Words {
    Words::new("this path changes by the second", "hours, minutes or seconds")
        .help("the day is fine enough: {date}; a {version} is better")
}

pub fn version_not_in_path() -> Words {
    Words::new("this job has a version and its path has none", "this version reaches no name")
        .help("write {version} in the path")
}

pub fn token_without_value(name: &str) -> Words {
    let words = Words::new(format!("`{{{name}}}` has no value for this job"), "nothing to write here");
    let give = match name {
        "width" | "height" | "full_width" | "full_height" => "size",
        "bits" | "channels" | "compression" | "quality" | "type" | "ext" => "format",
        "pass" => return words.help("all passes share one file here: write {_pass} or leave it out"),
        "date" | "time" | "user" | "host" => return words.help("this token has no value yet: use a variable"),
        "project" => return words.help("write name = \"...\" under [project]"),
        name => Key::parse(name).map_or("vars", |_| name),
    };
    let give = if give == "vars" { format!("vars.{name}") } else { give.to_owned() };
    words.help(format!("give {give} a value, or write {{_{name}}}, which writes nothing where there is none"))
}

pub fn value_unfit(name: &str, value: &str, why: &str) -> Words {
    Words::new(
        format!("the value of `{{{name}}}` {why} and cannot stand in a path"),
        format!("this would be \"{}\"", value.escape_debug()),
    )
    .help(format!("change the value, or write {{{name}|slug}}, which makes any text fit"))
}

pub fn no_such_form(name: &str) -> Words {
    Words::new(format!("`{{{name}}}` cannot be written in this form"), "a width is for numbers, a clock form for times")
        .help(format!("write {{{name}}}"))
}

pub fn frame_token_missing(frames: &Frames, at: Option<Place>) -> Words {
    let words = Words::new(
        format!("all {} frames would be written to one file", frames.count()),
        "no frame number in this name",
    )
    .help("write .{frame:4} before the extension");
    match at {
        Some(at) => words.fix(at, ".{frame:4}"),
        None => words,
    }
}

pub fn frame_not_separated(fix: Option<Place>) -> Words {
    let words = Words::new("the frame number touches its neighbour", "where does the number begin and end?")
        .help("put a dot before and after it: name.{frame:4}.ext");
    match fix {
        Some(at) => words.fix(at, "."),
        None => words,
    }
}

pub fn padding_narrow(longest: u64, (width, digits): (usize, usize), token: &Token, at: Option<Place>) -> Words {
    let sign = token.sign.map(String::from).unwrap_or_default();
    let write = format!("{{{sign}frame:{digits}}}");
    let words = Words::new(
        format!("frame {longest} has {digits} digits, the padding {width}"),
        "longer numbers are written in full",
    )
    .help(format!("write {write}, so that names sort as frames do"));
    match at.filter(|at| (at.end - at.start) as usize == token.range.len()) {
        Some(at) => words.fix(at, write),
        None => words,
    }
}

pub fn tokens_touch(first: &str, second: &str, between: Option<Place>) -> Words {
    let words = Words::new(
        format!("nothing stands between {{{first}}} and {{{second}}}"),
        "where does one end and the other begin?",
    )
    .help("put a sign between them: _ - . or /");
    match between {
        Some(at) => words.fix(at, "_"),
        None => words,
    }
}

pub fn bad_spelling(error: &str) -> Words {
    Words::new("`spelling` has to be a regular expression", error.lines().last().unwrap_or("").trim().to_owned())
}

pub fn policy_token(wanted: &Spanned<String>) -> Words {
    Words::new(format!("the policy asks for {{{}}} in each path", wanted.value), "it is not in this one")
        .also(wanted.at, "asked for here")
        .help(format!("write {{{}}} somewhere in the path", wanted.value))
}

pub fn policy_spelling(part: &str, file: bool, policy: &Spanned<String>) -> Words {
    let what = if file { "file name" } else { "folder" };
    Words::new(format!("the {what} `{part}` is not spelt as the policy asks"), "made from this")
        .also(policy.at, "each part must match this")
}
