//! Tokens of an adapter that nothing knows, or that nothing will ever fill.

use crate::adapter::{Adapter, AdapterKind, Per, RepeatOver};
use crate::diagnostic::{Slug, Words, nearest};
use crate::sheet::read::{Reader, part_of};
use crate::source::Spanned;
use crate::template::{Template, Token, token};

/// What a template belongs to.
#[derive(Clone, Copy, PartialEq, Eq)]
enum TemplateRoom {
    /// An argument, an environment value, a folder or a name.
    Argument,
    /// What hands over one variable or one native setting.
    Pair,
    /// What the program writes.
    Writes,
    /// A line of a written file, and what it is repeated for.
    Line(Option<RepeatOver>),
}

/// Checks all templates of an adapter but those that another has, too.
pub(super) fn check(reader: &mut Reader<'_>, adapter: &Adapter, but: Option<&Adapter>) {
    let checked: Vec<_> = but.into_iter().flat_map(rooms).map(|(template, _)| template.at).collect();
    for (template, room) in rooms(adapter).into_iter().filter(|(template, _)| !checked.contains(&template.at)) {
        // What another text says wrongly is said where that one is read.
        for used in template.value.tokens().filter(|_| template.at.file == reader.file) {
            let at = part_of(&Spanned::new(template.value.to_string(), template.at), used.range.clone());
            if let Some(words) = unknown(adapter, used) {
                reader.findings.add(Slug::TokenUnknown, Some(at), None, words);
            } else if let Some(why) = never_filled(adapter, &used.name, room) {
                let words = Words::new(format!("{{{}}} never has a value here", used.name), why);
                reader.findings.add(Slug::ArgumentNeverFilled, Some(at), None, words.help("remove it"));
            }
        }
    }
}

fn rooms(adapter: &Adapter) -> Vec<(&Spanned<Template>, TemplateRoom)> {
    let pairs = adapter.variable.iter().chain(&adapter.native);
    let pairs = pairs.chain(adapter.natives.values().flat_map(|native| &native.arguments));
    let lines = adapter.files.values().flat_map(|file| &file.lines).flat_map(|line| line.templates());
    let writes = adapter.writes.iter().chain(&adapter.also).chain(&adapter.keep);
    let plain = adapter.plain_templates().map(|template| (template, TemplateRoom::Argument));
    plain
        .chain(pairs.map(|template| (template, TemplateRoom::Pair)))
        .chain(writes.map(|template| (template, TemplateRoom::Writes)))
        .chain(lines.map(|(template, over)| (template, TemplateRoom::Line(over))))
        .collect()
}

/// What is wrong with a name; `None` for one that is known.
fn unknown(adapter: &Adapter, used: &Token) -> Option<Words> {
    let name = used.name.as_str();
    let no_token = |help: Option<String>| {
        let words = Words::new(format!("there is no token `{name}` in an adapter"), "not defined");
        Some(match help {
            Some(help) => words.help(help),
            None => words.help("variables are {var.NAME}, native settings {native.KEY}, roots {root.NAME}"),
        })
    };
    let near = |own: &str, known: Vec<&str>, table: &str| {
        let near = nearest(own, known.iter().copied()).map(|near| format!("write {{{table}.{near}}}"));
        no_token(Some(near.unwrap_or_else(|| format!("declare it under [{table}.{own}]"))))
    };
    match name.split_once('.') {
        Some(("var" | "root" | "scene_below", own)) if !own.is_empty() => None,
        Some(("native", own)) if !own.is_empty() => {
            let is_known = adapter.natives.is_empty() || adapter.natives.contains_key(own);
            if is_known { None } else { near(own, adapter.natives.keys().map(String::as_str).collect(), "native") }
        }
        Some(("when", own)) if !adapter.conditions.contains_key(own) => {
            near(own, adapter.conditions.keys().map(String::as_str).collect(), "when")
        }
        Some(("write", own)) if !adapter.files.contains_key(own) => {
            near(own, adapter.files.keys().map(String::as_str).collect(), "write")
        }
        Some(("when" | "write", _)) => None,
        Some(_) => no_token(None),
        None if name.contains('+') => {
            let known = name.split('+').all(token::is_built_in) && adapter.words.contains_key(name);
            if known { None } else { no_token(Some(format!("give its words under [words.\"{name}\"]"))) }
        }
        None if token::is_built_in(name) => None,
        None => {
            let known = token::names();
            no_token(nearest(name, known).map(|near| format!("write {{{near}}}")))
        }
    }
}

/// Why a token never has a value in an adapter.
fn never_filled(adapter: &Adapter, name: &str, room: TemplateRoom) -> Option<&'static str> {
    let each = |over: RepeatOver| room == TemplateRoom::Line(Some(over));
    match name {
        "key" | "value" => (room != TemplateRoom::Pair && !each(RepeatOver::Variable) && !each(RepeatOver::Native))
            .then_some("it can be used in `variable` or `native` only"),
        "any" => (room != TemplateRoom::Writes).then_some("it can be used in `writes` under [out] only"),
        "outcome" => Some("it can be used in `after` of a sheet only"),
        "variables" | "natives" => {
            (room != TemplateRoom::Argument).then_some("it must be an argument of its own in `arguments`")
        }
        "index" | "ordinal" | "frame" if room == TemplateRoom::Writes || each(RepeatOver::Frame) => None,
        "index" | "ordinal" | "frame" => (adapter.per != Per::Frame && adapter.kind == AdapterKind::Renderer)
            .then_some("only an adapter that calls its program once per frame has it: [frames] per = \"frame\""),
        "input" | "input_first" => (adapter.kind != AdapterKind::Encoder).then_some("only encoders receive pictures"),
        "resume" | "checkpoint" | "checkpoint_every" | "device" | "threads" | "samples" => {
            (adapter.kind == AdapterKind::Encoder).then_some("encoders do not receive this")
        }
        _ => None,
    }
}
