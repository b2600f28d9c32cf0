//! How names are spelt: parts that systems cannot write, names that are too long, extensions.

use std::ops::Range;

use regex_lite::Regex;

use crate::diagnostic::Slug;
use crate::plan::{Series, SeriesKind};
use crate::resolve::paths;
use crate::sheet::read::part_of;
use crate::sheet::{RootPaths, SYSTEMS, System};
use crate::source::Spanned;
use crate::template::Part;

use super::{Sink, in_path, wording};

/// Bytes of a file or folder name on every usual file system (ext4, XFS, APFS; NTFS counts UTF-16).
const PART: usize = 255;

pub fn check(sink: &mut Sink<'_, '_>) {
    roots(sink);
    for series in sink.series() {
        extension(sink, series);
        written(sink, series);
        let Some(name) = longest(series) else { continue };
        if series.hollow {
            let job = sink.job(series);
            let at = series.path.as_ref().map(|path| path.at);
            sink.add(Slug::PartEmpty, at, job, wording::spelling::part_empty(&name));
        }
        let below = series.root.and_then(|root| name.get(sink.input.plan.roots[root].path.as_deref()?.len()..));
        let below = below.unwrap_or(&name).trim_start_matches('/').to_owned();
        parts(sink, series, &below);
        dots(sink, series, &below);
        length(sink, series, (&name, &below));
    }
}

/// Roots as they are written: with what nothing replaces, or with a space at an edge.
fn roots(sink: &mut Sink<'_, '_>) {
    for root in &sink.input.sheet.roots {
        let texts: Vec<&Spanned<String>> = match &root.paths {
            RootPaths::Same(path) => vec![path],
            RootPaths::BySystem(paths) => paths.iter().map(|(_, path)| path).collect(),
        };
        for text in texts {
            // The home folder at the head of a root is put in.
            let head = if text.value.starts_with("~/") || text.value == "~" { 1 } else { 0 };
            if let Some(range) = not_expanded(&text.value[head..]) {
                let range = range.start + head..range.end + head;
                let words = wording::spelling::not_expanded(&text.value[range.clone()], true);
                sink.findings.add(Slug::PathNotExpanded, Some(part_of(text, range)), None, words);
            }
            if let Some(part) = text.value.split(['/', '\\']).find(|part| part.trim() != *part) {
                let words = wording::spelling::blank_at_edge(part);
                sink.findings.add(Slug::BlankAtEdge, Some(text.at), None, words);
            }
        }
    }
}

/// The first place of a path with something that a shell would replace, and nothing here does.
fn not_expanded(text: &str) -> Option<Range<usize>> {
    // The rule is fixed, and always a regular expression.
    let rule = Regex::new(
        r"(?:^|[/\\])(~[A-Za-z0-9_]*)(?:[/\\]|$)|(?:^|[/\\])(\$\{?[A-Za-z_][A-Za-z0-9_]*\}?)|(%[A-Za-z_][A-Za-z0-9_]*%)",
    )
    .ok()?;
    let found = rule.captures(text)?;
    found.iter().skip(1).flatten().next().map(|group| group.range())
}

/// A path as it is written.
fn written(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(path) = &series.path else { return };
    let text = path.value.to_string();
    let job = sink.job(series);
    if let Some(range) = not_expanded(&text) {
        let words = wording::spelling::not_expanded(&text[range.clone()], false);
        sink.add(Slug::PathNotExpanded, in_path(series, range), job, words);
    }
    if let Some(part) = text.split('/').find(|part| part.starts_with(char::is_whitespace)) {
        sink.add(Slug::BlankAtEdge, Some(path.at), job, wording::spelling::blank_at_edge(part));
    }
}

/// Two dots in a row in a name: most often one of the template and one of a value.
fn dots(sink: &mut Sink<'_, '_>, series: &Series, below: &str) {
    let (Some(path), Some(part)) = (&series.path, below.split('/').find(|part| part.contains(".."))) else { return };
    let text = path.value.to_string();
    let range = text.match_indices("..").find(|(at, _)| {
        let part =
            text[..*at].rsplit('/').next().unwrap_or("").len() + text[*at..].split('/').next().unwrap_or("").len();
        part > 2
    });
    let place = range.and_then(|(at, _)| in_path(series, at..at + 1)).filter(|at| at.end - at.start == 1);
    let job = sink.job(series);
    sink.add(Slug::DotsDoubled, place.or(Some(path.at)), job, wording::spelling::dots_doubled(part, place));
}

/// The longest name of a series: that of its largest or its smallest number.
fn longest(series: &Series) -> Option<String> {
    if !series.is_known() {
        return None;
    }
    let ends = series.frames.as_ref().map(|frames| [frames.first(), frames.last()]);
    let names = ends.into_iter().flatten().flatten().map(|frame| series.name(frame));
    names.max_by_key(String::len).or_else(|| (series.kind == SeriesKind::Movie).then(|| series.name(0)))
}

fn systems(sink: &Sink<'_, '_>) -> Vec<System> {
    sink.input.sheet.policy.systems.clone().unwrap_or_else(|| SYSTEMS.map(|(_, system)| system).to_vec())
}

/// Parts of a path that a system keeps for itself, cannot write, or that are too long.
fn parts(sink: &mut Sink<'_, '_>, series: &Series, below: &str) {
    let windows = systems(sink).contains(&System::Windows);
    let at = series.path.as_ref().map(|path| path.at);
    let job = sink.job(series);
    if let Some(part) = below.split('/').find(|part| part.len() > PART) {
        sink.add(Slug::PartTooLong, at, job, wording::spelling::part_too_long(part.len(), PART));
    }
    let Some((part, why)) = below.split('/').find_map(|part| Some((part, reserved(part).filter(|_| windows)?))) else {
        return;
    };
    sink.add(Slug::NameReserved, at, job, wording::spelling::name_reserved(part, why));
}

/// Why Windows cannot write a part of a path (Naming Files, Paths, and Namespaces).
fn reserved(part: &str) -> Option<&'static str> {
    const DEVICES: [&str; 4] = ["con", "prn", "aux", "nul"];
    let stem = part.split('.').next().unwrap_or(part).trim_end().to_ascii_lowercase();
    let numbered = |head: &str| {
        stem.strip_prefix(head)
            .is_some_and(|rest| rest.len() == 1 && rest.as_bytes()[0].is_ascii_digit() && rest != "0")
    };
    if DEVICES.contains(&stem.as_str()) || numbered("com") || numbered("lpt") {
        Some("Windows reserves this name for a device, with any extension")
    } else if part.contains(['<', '>', '"', '|', '?', '*', ':', '\\']) {
        Some("Windows takes none of < > : \" | ? * and the backslash in a name")
    } else if part.ends_with(['.', ' ']) {
        Some("Windows removes a dot or a space at the end")
    } else {
        None
    }
}

/// Paths that are longer than a system allows. Of another system only what lies below the root is known, unless the root
/// has a path there.
fn length(sink: &mut Sink<'_, '_>, series: &Series, (name, below): (&str, &str)) {
    let plan = sink.input.plan;
    let root = series.root.map(|root| plan.roots[root].name.as_str());
    let written = sink.input.sheet.roots.iter().find(|known| Some(known.name.value.as_str()) == root);
    for system in systems(sink) {
        let given = written.and_then(|root| match &root.paths {
            RootPaths::Same(path) => Some(&path.value),
            RootPaths::BySystem(paths) => paths.iter().find(|(own, _)| *own == system).map(|(_, path)| &path.value),
        });
        let full = given.filter(|path| paths::is_absolute(path)).map(|path| format!("{path}/{below}"));
        let here = system == plan.home.system && sink.input.machine.is_some();
        let path = if here { name } else { full.as_deref().unwrap_or(below) };
        // PATH_MAX and MAX_PATH, each without the closing zero.
        let (length, most) = match system {
            System::Linux => (path.len(), 4095),
            System::Macos => (path.len(), 1023),
            System::Windows => (path.encode_utf16().count(), 259),
        };
        if length > most {
            let job = sink.job(series);
            let at = series.path.as_ref().map(|path| path.at);
            let system = SYSTEMS.iter().find(|(_, known)| *known == system).map_or("", |(name, _)| name);
            sink.add(Slug::PathTooLong, at, job, wording::spelling::path_too_long(system, length, most));
            return;
        }
    }
}

/// An extension that is missing, or written twice.
fn extension(sink: &mut Sink<'_, '_>, series: &Series) {
    let (Some(path), Some(known)) = (&series.path, series.file_type) else { return };
    let text = path.value.to_string();
    let end = in_path(series, text.len()..text.len()).filter(|at| at.start == at.end);
    let job = sink.job(series);
    let file = &text[text.rfind('/').map_or(0, |at| at + 1)..];
    let is_one = |piece: &str| piece == "{ext}" || known.has_extension(piece);
    let mut pieces = file.rsplit('.');
    let (last, before) = (pieces.next().unwrap_or(""), pieces.next());
    if before.is_some_and(|before| is_one(before) && is_one(last)) {
        let start = text.len() - last.len() - before.map_or(0, str::len) - 2;
        let twice = in_path(series, start..text.len() - last.len() - 1);
        let fix = twice.filter(|at| (at.end - at.start) as usize == before.map_or(0, str::len) + 1);
        sink.add(Slug::ExtensionDoubled, twice, job, wording::spelling::extension_doubled(fix));
        return;
    }
    let written = match path.value.parts().last() {
        Some(Part::Token(token)) => token.name == "ext" || token.name == "type",
        _ => file.contains('.') && !is_foreign(last),
    };
    if !written {
        sink.add(Slug::ExtensionMissing, Some(path.at), job, wording::spelling::extension_missing(known, end));
    }
}

/// What follows a dot and is not meant as an extension at all.
pub fn is_foreign(extension: &str) -> bool {
    let all = || crate::catalogue::types().flat_map(|known| known.extensions.iter().copied());
    !all().any(|own| own.eq_ignore_ascii_case(extension)) && crate::diagnostic::nearest(extension, all()).is_none()
}
