//! Words about names.

use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::resolve::ResolvedRoot;
use crate::sheet::{Key, SYSTEMS, System};
use crate::source::Place;
use crate::source::Spanned;
use crate::template::token::{PathToken, TokenGiver};
use crate::template::{Token, foreign};

pub fn token_unknown(name: &str, near: Option<&str>, at: Option<Place>) -> Words {
    let words = Words::new(format!("there is no token `{name}`"), "not defined");
    match (near, at) {
        (Some(near), Some(at)) => {
            let inner = at.end - at.start == u32::try_from(name.len() + 2).unwrap_or(0);
            let words = words.help(format!("write {{{near}}}"));
            if inner { words.fix(at, format!("{{{near}}}")) } else { words }
        }
        _ => words.help(format!("define it: vars.{name} = \"...\" in the job or in [defaults]")),
    }
}

pub fn root_missing(root: &ResolvedRoot, system: System) -> Words {
    let system = SYSTEMS.iter().find(|(_, known)| *known == system).map_or("", |(name, _)| name);
    Words::new(format!("the root `{}` has no path on {system}", root.name), "without it, no file name can be built")
        .also(root.at, "given here")
        .help(format!("add {system} = \"...\" to it"))
}

pub fn frame_token_in_movie() -> Words {
    Words::new("the name of a movie has a frame number", "a movie is one file that holds all frames")
        .help("remove the frame token from the path")
}

pub fn numbers_touch(fix: Option<Place>) -> Words {
    let words = Words::new("two numbers stand beside each other with no separator", "their digits run together")
        .help("put a separator between them");
    match fix {
        Some(at) => words.fix(at, "_"),
        None => words,
    }
}

pub fn clock_too_fine() -> Words {
    Words::new("this path changes every second", "hours, minutes or seconds")
        .help("use {version}, or {date}, which changes once a day")
}

pub fn version_not_in_path() -> Words {
    Words::new("this job has a version, and its path does not contain it", "no file name shows this version")
        .help("put {version} into the path")
}

pub fn token_without_value(name: &str) -> Words {
    let words = Words::new(format!("`{{{name}}}` has no value for this job"), "this token has no value");
    let give = match PathToken::named(name).map(PathToken::giver) {
        Some(TokenGiver::Size) => "size",
        Some(TokenGiver::Format) => "format",
        Some(TokenGiver::Pass) => {
            return words.help("all passes are in one file here: write {_pass}, or remove the token");
        }
        Some(TokenGiver::Moment) => return words.help("this token has no value in this version: use a variable"),
        Some(TokenGiver::Project) => return words.help("write name = \"...\" under [project]"),
        Some(TokenGiver::Codec) => "the format of a movie",
        Some(TokenGiver::Setting) | None => Key::parse(name).map_or("vars", |_| name),
    };
    let give = if give == "vars" { format!("vars.{name}") } else { give.to_owned() };
    words.help(format!("give {give} a value, or write {{_{name}}}, which leaves itself out when there is none"))
}

pub fn value_unfit(name: &str, value: &str, why: &str) -> Words {
    Words::new(
        format!("the value of `{{{name}}}` {why}, so it cannot be part of a path"),
        format!("this would be \"{}\"", value.escape_debug()),
    )
    .help(format!("change the value, or write {{{name}|slug}}, which makes any text fit"))
}

pub fn no_such_form(name: &str) -> Words {
    Words::new(format!("`{{{name}}}` cannot be written in this form"), "a width is for numbers, a % form for times")
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

pub fn foreign_placeholder(written: &str, (frames, width): (&Frames, usize), at: Option<Place>) -> Words {
    let frame = foreign::frame(width);
    let message = match frames.count() {
        1 => format!("`{written}` is no frame number here: it would stand in the name as it is written"),
        count => format!("`{written}` is no frame number here: all {count} frames would be written to one file"),
    };
    let words = Words::new(message, "the frame is a token here").help(format!("write {frame} in its place"));
    match at.filter(|at| (at.end - at.start) as usize == written.len()) {
        Some(at) => words.fix(at, frame),
        None => words,
    }
}

pub fn frame_not_separated(fix: Option<Place>) -> Words {
    let words =
        Words::new("the frame number has no separator beside it", "the number cannot be told from the text beside it")
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
        format!("frame {longest} has {digits} digits, the padding has {width}"),
        "longer numbers are written in full, so names no longer sort",
    )
    .help(format!("write {write}, so that names sort in frame order"));
    match at.filter(|at| (at.end - at.start) as usize == token.range.len()) {
        Some(at) => words.fix(at, write),
        None => words,
    }
}

pub fn tokens_touch(first: &str, second: &str, between: Option<Place>) -> Words {
    let words =
        Words::new(format!("there is no separator between {{{first}}} and {{{second}}}"), "their digits run together")
            .help("put a separator between them: _ - . or /");
    match between {
        Some(at) => words.fix(at, "_"),
        None => words,
    }
}

pub fn bad_spelling(error: &str) -> Words {
    Words::new("`spelling` must be a regular expression", error.lines().last().unwrap_or("").trim().to_owned())
}

pub fn policy_token(wanted: &Spanned<String>) -> Words {
    Words::new(format!("the policy requires {{{}}} in every path", wanted.value), "this path does not have it")
        .also(wanted.at, "required here")
        .help(format!("put {{{}}} into the path", wanted.value))
}

pub fn policy_spelling(part: &str, file: bool, policy: &Spanned<String>) -> Words {
    let what = if file { "file name" } else { "folder" };
    Words::new(format!("the {what} `{part}` does not match the policy's spelling"), "built from this")
        .also(policy.at, "every part of a path must match this")
}
