//! Findings as compiler-grade text.

use std::collections::HashMap;
use std::path::PathBuf;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{Annotation, AnnotationKind, Group, Level, Patch, Renderer, Snippet};
use truepath_core::diagnostic::{Finding, Level as Grave};
use truepath_core::source::{Excerpt, Place, Sources, Spanned};
use truepath_project::open::load;

use super::{BAD, GOOD, MARK, ODD, clean, counted, own, paint, state};
use crate::lower::{Around, Screen};

/// Prints findings to standard error, for commands whose answer is something else. Nothing found is nothing said.
pub fn tell((findings, sources): (&[Finding], &Sources), sheets: &str, screen: Screen) {
    if findings.iter().any(|finding| finding.allowed.is_none()) {
        super::tell(&text(findings, sources, sheets, screen));
    }
}

/// The names of sheets, as their user would write them.
pub fn names<'s>(sheets: impl IntoIterator<Item = &'s PathBuf>, around: &Around) -> String {
    sheets.into_iter().map(|sheet| load::short(sheet, &around.folder)).collect::<Vec<_>>().join(", ")
}

/// Bytes from one place to another that is still shown with it.
const NEAR: u32 = 8 * 1024;

/// Places of one cause that are named.
const MOST_PLACES: usize = 4;

/// All findings, and a closing line that counts them. What many jobs have in common is shown once.
pub fn text(findings: &[Finding], sources: &Sources, sheet: &str, screen: Screen) -> String {
    let styled =
        Renderer::styled().error(BAD).warning(ODD).note(MARK).help(MARK).context(MARK).addition(GOOD).removal(BAD);
    let renderer = if screen.colour { styled } else { Renderer::plain() };
    let decor = if screen.unicode { DecorStyle::Unicode } else { DecorStyle::Ascii };
    let renderer = renderer.decor_style(decor).term_width(screen.width);
    let mut out = String::new();
    let found: Vec<&Finding> = findings.iter().filter(|finding| finding.allowed.is_none()).collect();
    for block in blocks(&found) {
        // What was written into it is clean: all sequences are those of its colours.
        out.push_str(&own(&renderer.render(&groups(&block, sources))));
        out.push_str("\n\n");
    }
    out.push_str(&closing(findings, sheet, screen));
    out
}

/// Findings that say the same of several jobs, each block in the place of its first one. Of notes at one place of a sheet the
/// first says enough.
fn blocks<'f>(findings: &[&'f Finding]) -> Vec<Vec<&'f Finding>> {
    let mut blocks: Vec<Vec<&Finding>> = Vec::new();
    let mut known: HashMap<(&str, Grave, String), usize> = HashMap::new();
    for finding in findings {
        let says = match (finding.level, &finding.at) {
            (Grave::Note, Some(at)) => format!("{:?}", at.at),
            _ => without_job(finding),
        };
        let at = *known.entry((finding.check.name(), finding.level, says)).or_insert(blocks.len());
        match blocks.get_mut(at) {
            Some(block) => block.push(finding),
            None => blocks.push(vec![finding]),
        }
    }
    blocks
}

/// The message of a finding without the names of its job, so that equal messages about several jobs are told once.
fn without_job(finding: &Finding) -> String {
    let Some(name) = &finding.job else { return finding.message.clone() };
    let entry = name.split('/').next().unwrap_or(name);
    finding.message.replace(&format!("`{name}`"), "`job`").replace(&format!("`{entry}`"), "`job`")
}

/// How often the cause of a block is met again, and where.
fn again(block: &[&Finding], sources: &Sources) -> Option<String> {
    let (first, rest) = block.split_first()?;
    let line = |finding: &Finding| {
        let at = finding.at.as_ref()?;
        let (from, _) = sources.lines(at.at);
        Some(format!("{}:{}", clean(&sources.get(at.at.file).name), from.line))
    };
    // Two places in one line have one cause.
    let mut places: Vec<String> = rest.iter().filter_map(|other| line(other)).collect();
    places.retain(|place| Some(place) != line(first).as_ref());
    places.dedup();
    let elsewhere: usize = if places.is_empty() { 0 } else { rest.iter().map(|other| other.more).sum() };
    let count = first.more + elsewhere + places.len();
    if count == 0 {
        return None;
    }
    let what = if first.job.is_some() { "more job" } else { "more place" };
    let text = format!("same problem in {}", counted(count as i64, what));
    let named = places[..places.len().min(MOST_PLACES)].join(", ");
    let rest = if places.len() > MOST_PLACES { ", ..." } else { "" };
    Some(if named.is_empty() { text } else { format!("{text}: {named}{rest}") })
}

fn groups<'f>(block: &[&'f Finding], sources: &'f Sources) -> Vec<Group<'f>> {
    let Some(finding) = block.first().copied() else { return Vec::new() };
    let level = match finding.level {
        Grave::Error => Level::ERROR,
        Grave::Warning => Level::WARNING,
        Grave::Note => Level::NOTE,
    };
    let title = level.primary_title(clean(&finding.message)).id(finding.check.name());
    let mut main = match &finding.at {
        Some(at) => {
            // What stands far away is shown by itself: nobody wants to see what lies between.
            let near = |place: Place| place.file == at.at.file && at.at.start.abs_diff(place.start) < NEAR;
            let (marks, others): (Vec<_>, Vec<_>) = finding.also.iter().partition(|also| near(also.at));
            let places = || marks.iter().map(|also| also.at).chain([at.at]);
            let from = places().map(|place| place.start).min().unwrap_or(0);
            let to = places().map(|place| place.end).max().unwrap_or(0);
            let lines = sources.excerpt(at.at.file, from, to);
            let label = |kind: AnnotationKind, of: &'f Spanned<String>, lines: &Excerpt<'_>| {
                kind.span(span(of.at, lines)).label(clean(&of.value))
            };
            let marked = snippet(sources, at.at, &lines)
                .annotation(label(AnnotationKind::Primary, at, &lines))
                .annotations(marks.iter().map(|also| label(AnnotationKind::Context, also, &lines)));
            title.element(marked).elements(others.into_iter().map(|also| {
                let lines = sources.excerpt(also.at.file, also.at.start, also.at.end);
                snippet(sources, also.at, &lines).annotation(label(AnnotationKind::Context, also, &lines))
            }))
        }
        None => Group::with_title(title),
    };
    if let Some(again) = again(block, sources) {
        main = main.element(Level::NOTE.message(again));
    }
    let Some(help) = &finding.help else { return vec![main] };
    match &finding.fix {
        Some(fix) => {
            let lines = sources.excerpt(fix.at.file, fix.at.start, fix.at.end);
            let patch = Patch::new(span(fix.at, &lines), clean(&fix.write));
            let source = Snippet::source(lines.text).line_start(lines.line).patch(patch);
            vec![main, Level::HELP.secondary_title(clean(help)).element(source)]
        }
        None => vec![main.element(Level::HELP.message(clean(help)))],
    }
}

fn snippet<'f>(sources: &'f Sources, at: Place, lines: &Excerpt<'f>) -> Snippet<'f, Annotation<'f>> {
    Snippet::source(lines.text).line_start(lines.line).path(clean(&sources.get(at.file).name))
}

/// The bytes of a place within some lines.
fn span(at: Place, lines: &Excerpt<'_>) -> std::ops::Range<usize> {
    let within = |byte: u32| (byte as usize).saturating_sub(lines.start).min(lines.text.len());
    within(at.start)..within(at.end)
}

fn closing(findings: &[Finding], sheet: &str, screen: Screen) -> String {
    let (allowed, found): (Vec<&Finding>, Vec<&Finding>) =
        findings.iter().partition(|finding| finding.allowed.is_some());
    let count = |level: Grave| found.iter().filter(|finding| finding.level == level).count() as i64;
    let (errors, warnings, notes) = (count(Grave::Error), count(Grave::Warning), count(Grave::Note));
    let parts = [(errors, "error", BAD), (warnings, "warning", ODD), (notes, "note", anstyle::Style::new())];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(n, ..)| *n > 0)
        .map(|(n, name, style)| paint(screen, *style, counted(*n, name)))
        .collect();
    let allowed = match allowed.len() {
        0 => String::new(),
        n => format!(" ({} allowed)", counted(n as i64, "finding")),
    };
    // The gravest is named, not the one that happens to stand first.
    let gravest = [Grave::Error, Grave::Warning, Grave::Note].into_iter();
    let gravest = gravest.filter_map(|level| found.iter().find(|finding| finding.level == level)).next();
    match gravest {
        None => format!("{}{allowed}\n", state(screen, GOOD, format!("{sheet}: no problems found"))),
        Some(first) => {
            format!("{} in {sheet}{allowed}. Learn more: truepath explain {}\n", parts.join(", "), first.check)
        }
    }
}
