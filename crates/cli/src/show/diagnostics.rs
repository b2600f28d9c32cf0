//! Findings as compiler-grade text.

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{Annotation, AnnotationKind, Group, Level, Patch, Renderer, Snippet};
use truepath_core::diagnostic::{Finding, Level as Grave};
use truepath_core::source::{Excerpt, Place, Sources, Spanned};

use super::{BAD, GOOD, ODD, clean, counted, own, paint};
use crate::lower::Screen;

/// Bytes from one place to another that is still shown with it.
const NEAR: u32 = 8 * 1024;

/// All findings, and a closing line that counts them.
pub fn text(findings: &[Finding], sources: &Sources, sheet: &str, screen: Screen) -> String {
    let renderer = if screen.colour { Renderer::styled() } else { Renderer::plain() };
    let decor = if screen.unicode { DecorStyle::Unicode } else { DecorStyle::Ascii };
    let renderer = renderer.decor_style(decor).term_width(screen.width);
    let mut out = String::new();
    for finding in findings.iter().filter(|finding| finding.meant.is_none()) {
        // What was written into it is clean: all sequences are those of its colours.
        out.push_str(&own(&renderer.render(&groups(finding, sources))));
        out.push_str("\n\n");
    }
    out.push_str(&closing(findings, sheet, screen));
    out
}

fn groups<'f>(finding: &'f Finding, sources: &'f Sources) -> Vec<Group<'f>> {
    let level = match finding.level {
        Grave::Error => Level::ERROR,
        Grave::Warning => Level::WARNING,
        Grave::Note => Level::NOTE,
    };
    let title = level.primary_title(clean(&finding.message)).id(finding.check);
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
    if finding.more > 0 {
        main = main.element(
            Level::NOTE.message(format!("and {} of the same cause", counted(finding.more as i64, "more job"))),
        );
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
    let (meant, found): (Vec<&Finding>, Vec<&Finding>) = findings.iter().partition(|finding| finding.meant.is_some());
    let count = |level: Grave| found.iter().filter(|finding| finding.level == level).count() as i64;
    let (errors, warnings, notes) = (count(Grave::Error), count(Grave::Warning), count(Grave::Note));
    let parts = [(errors, "error", BAD), (warnings, "warning", ODD), (notes, "note", anstyle::Style::new())];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(n, ..)| *n > 0)
        .map(|(n, name, style)| paint(screen, *style, counted(*n, name)))
        .collect();
    let meant = match meant.len() {
        0 => String::new(),
        n => format!(" ({} meant)", counted(n as i64, "finding")),
    };
    // The gravest is named, not the one that happens to stand first.
    let gravest = [Grave::Error, Grave::Warning, Grave::Note].into_iter();
    let gravest = gravest.filter_map(|level| found.iter().find(|finding| finding.level == level)).next();
    match gravest {
        None => format!("{}{meant}\n", paint(screen, GOOD, format!("{sheet}: nothing to complain about"))),
        Some(first) => {
            format!("{} in {sheet}{meant}. More about one: truepath explain {}\n", parts.join(", "), first.check)
        }
    }
}
