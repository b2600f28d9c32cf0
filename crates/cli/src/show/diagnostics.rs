//! Findings as compiler-grade text.

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Patch, Renderer, Snippet};
use truepath_core::diagnostic::{Finding, Level as Grave};
use truepath_core::source::{Place, Sources};

use super::{BAD, GOOD, ODD, counted, paint};
use crate::lower::Screen;

/// All findings, and a closing line that counts them.
pub fn text(findings: &[Finding], sources: &Sources, sheet: &str, screen: Screen) -> String {
    let renderer = if screen.colour { Renderer::styled() } else { Renderer::plain() };
    let decor = if screen.unicode { DecorStyle::Unicode } else { DecorStyle::Ascii };
    let renderer = renderer.decor_style(decor).term_width(screen.width);
    let mut out = String::new();
    for finding in findings.iter().filter(|finding| finding.meant.is_none()) {
        out.push_str(&renderer.render(&groups(finding, sources)));
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
    let title = level.primary_title(finding.message.as_str()).id(finding.check);
    let mut main = match &finding.at {
        Some(at) => {
            let own = |place: Place| place.file == at.at.file;
            let marks = finding.also.iter().filter(|also| own(also.at));
            let marked = snippet(sources, at.at)
                .annotation(AnnotationKind::Primary.span(span(at.at)).label(at.value.as_str()))
                .annotations(marks.map(|also| AnnotationKind::Context.span(span(also.at)).label(also.value.as_str())));
            let others = finding.also.iter().filter(|also| !own(also.at));
            title.element(marked).elements(others.map(|also| {
                snippet(sources, also.at)
                    .annotation(AnnotationKind::Context.span(span(also.at)).label(also.value.as_str()))
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
        Some(fix) => vec![
            main,
            Level::HELP.secondary_title(help.as_str()).element(
                Snippet::source(sources.get(fix.at.file).text.as_str())
                    .patch(Patch::new(span(fix.at), fix.write.as_str())),
            ),
        ],
        None => vec![main.element(Level::HELP.message(help.as_str()))],
    }
}

fn snippet<'f>(sources: &'f Sources, at: Place) -> Snippet<'f, annotate_snippets::Annotation<'f>> {
    let source = sources.get(at.file);
    Snippet::source(source.text.as_str()).path(source.name.as_str())
}

fn span(at: Place) -> std::ops::Range<usize> {
    at.start as usize..at.end as usize
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
    match found.first() {
        None => format!("{}{meant}\n", paint(screen, GOOD, format!("{sheet}: nothing to complain about"))),
        Some(first) => {
            format!("{} in {sheet}{meant}. More about one: truepath explain {}\n", parts.join(", "), first.check)
        }
    }
}
