//! The parts of a report, one after another.

use maud::{Markup, html};
use truepath_core::check::bytes;
use truepath_core::diagnostic::Level;
use truepath_core::frames::Frames;
use truepath_core::verify::{STATES, State};

use super::super::{clean, counted};
use super::night::{Book, CellState, Night, PassPart, SeriesPart};

/// Squares of a page at most: beyond that, one stands for several files.
const MOST_CELLS: i64 = 60_000;
/// Rows of the map and of the table at most.
const MOST_ROWS: usize = 4_000;
const MOST_ASKED: usize = 1_000;

/// The parts that have something to show: their marks in the page, and their names.
pub fn shown(night: &Night) -> Vec<(&'static str, &'static str)> {
    let all = [
        ("left", "What is left", true),
        ("map", "Map", !night.series.is_empty()),
        ("playback", "Playback", !night.books.is_empty()),
        ("movies", "Movies", !night.movies.is_empty()),
        ("failures", "What failed", !night.failures.is_empty()),
        ("findings", "Findings", !night.findings.is_empty()),
        ("times", "Times", !night.times.is_empty()),
        ("asked", "The request", !night.series.is_empty()),
        ("space", "Space", true),
        ("calls", "Calls", !night.calls.is_empty()),
    ];
    all.into_iter().filter(|(.., shown)| *shown).map(|(id, name, _)| (id, name)).collect()
}

/// A line to be copied.
fn line(command: &str) -> Markup {
    html! {
        div.line { code { (clean(command)) } button.copy type="button" { "Copy" } }
    }
}

pub fn left(night: &Night) -> Markup {
    let all = || night.series.iter().flat_map(|part| &part.states);
    let count = |state: CellState| all().filter(|(own, _)| *own == state).map(|(_, own)| own.count()).sum();
    let states = STATES.iter().map(|(_, state)| CellState::Seen(*state)).chain([CellState::Running, CellState::Failed]);
    let found: Vec<(CellState, i64)> =
        states.map(|state| (state, count(state))).filter(|(_, count)| *count > 0).collect();
    html! {
        section #left aria-labelledby="left-title" {
            h2 #left-title { "What is left" }
            ul.counts {
                @for (state, count) in &found {
                    li { i class={ "cell " (class(*state)) } aria-hidden="true" {} " " strong { (count) } " " (state.name()) }
                }
            }
            @if night.fixes.is_empty() {
                p { "Nothing has to be rendered." }
            } @else {
                p { "To complete it, run:" }
                @for fix in &night.fixes { (line(fix)) }
            }
        }
    }
}

fn class(state: CellState) -> &'static str {
    match state {
        CellState::Running => "running",
        CellState::Failed => "failed",
        CellState::Seen(State::Good) => "good",
        CellState::Seen(State::Foreign) => "foreign",
        CellState::Seen(State::Odd) => "odd",
        CellState::Seen(State::Unproven) => "unproven",
        CellState::Seen(State::Missing) => "missing",
        CellState::Seen(State::Broken | State::Unreadable) => "broken",
        CellState::Seen(State::Wrong | State::Changed) => "wrong",
        CellState::Seen(State::Stale) => "stale",
    }
}

/// The gravest state of each so many frames.
fn gravest(part: &SeriesPart, each: i64) -> Vec<CellState> {
    let rank = |state: CellState| match state {
        CellState::Failed => 0,
        CellState::Running => 1,
        CellState::Seen(state) => 2 + STATES.iter().position(|(_, own)| *own == state).unwrap_or(0),
    };
    let of_state =
        |(state, frames): &(CellState, Frames)| frames.iter().map(|frame| (frame, *state)).collect::<Vec<_>>();
    let mut all: Vec<(i64, CellState)> = part.states.iter().flat_map(of_state).collect();
    all.sort_unstable_by_key(|(frame, _)| *frame);
    let worst = |own: &[(i64, CellState)]| own.iter().map(|(_, state)| *state).min_by_key(|state| rank(*state));
    all.chunks(usize::try_from(each).unwrap_or(1)).filter_map(worst).collect()
}

/// What a series comes to, in words.
fn summary(part: &SeriesPart) -> String {
    let mut words = Vec::new();
    let states = STATES.iter().rev().map(|(_, state)| CellState::Seen(*state));
    for state in states.chain([CellState::Running, CellState::Failed]) {
        let Some((_, own)) = part.states.iter().find(|(own, frames)| *own == state && !frames.is_empty()) else {
            continue;
        };
        if state == CellState::Seen(State::Good) {
            words.push(format!("{} good", own.count()));
        } else {
            words.push(format!("{} {}", state.name(), super::super::verdicts::cut(&own.to_string())));
        }
    }
    words.join(", ")
}

pub fn map(night: &Night) -> Markup {
    let each = ((night.files() + MOST_CELLS - 1) / MOST_CELLS).max(1);
    html! {
        section #map aria-labelledby="map-title" {
            h2 #map-title { "Map" }
            p.quiet { "Each square is a file. Point at it, or tab to a row and use the arrow keys, to see its name, state, time and machine." }
            @for (at, part) in night.series.iter().take(MOST_ROWS).enumerate() {
                @let cells = gravest(part, each);
                div.series {
                    h3 { (clean(&part.id)) " " small { (summary(part)) } }
                    div.map data-series=(at) tabindex="0" role="img"
                        aria-label={ (clean(&part.id)) ": " (summary(part)) } {
                        @for state in &cells { i class=(class(*state)) {} }
                    }
                    @if each > 1 && part.count() > 1 {
                        p.quiet { "Each square is up to " (each) " files, coloured by the worst of them." }
                    }
                    output.detail aria-live="polite" {}
                }
            }
            (more(night.series.len(), MOST_ROWS, "series"))
        }
    }
}

/// A line for what a page has no room for.
fn more(count: usize, most: usize, what: &str) -> Markup {
    let rest = i64::try_from(count.saturating_sub(most)).unwrap_or(i64::MAX);
    html! { @if rest > 0 { p.quiet { (counted(rest, what)) " more: give job names to see them, such as " code { "truepath report crossing -o crossing.html" } } } }
}

pub fn books(night: &Night) -> Markup {
    if night.books.is_empty() {
        return html! {};
    }
    html! {
        section #playback aria-labelledby="playback-title" {
            h2 #playback-title { "Playback" }
            p.quiet {
                "Space plays and pauses, the arrow keys step, Home and End go to the first and last frame."
                @if night.every > 1 { " To keep this page small, only one of every " (night.every) " frames is shown." }
            }
            div.books { @for (at, own) in night.books.iter().enumerate() { (book(at, own)) } }
            (more(night.books.len() + night.more_books, night.books.len(), "job"))
        }
    }
}

fn book(at: usize, book: &Book) -> Markup {
    let job = clean(&book.job);
    let first = &book.passes[0];
    html! {
        figure.book data-book=(at) tabindex="0" aria-label={ "Player of " (job) } {
            figcaption { h3 { (job) } output.now aria-live="off" {} }
            canvas width=(first.size.0) height=(first.size.1) role="img" aria-label={ "Picture of " (job) } {}
            input.seek type="range" min="0" max=(first.leaves.len().saturating_sub(1)) value="0" aria-label="Frame";
            div.controls {
                button.back type="button" aria-label="One frame back" { "‹" }
                button.play type="button" aria-pressed="false" { "Play" }
                button.forth type="button" aria-label="One frame forth" { "›" }
                label { "Speed "
                    select.speed {
                        @for (value, name) in [("0.25", "¼"), ("0.5", "½"), ("1", "1"), ("2", "2")] {
                            option value=(value) selected[value == "1"] { (name) }
                        }
                    }
                }
                @if book.passes.len() > 1 {
                    label { "Pass "
                        select.pass { @for (at, pass) in book.passes.iter().enumerate() { option value=(at) { (name(pass)) } } }
                    }
                }
                @if let Some(before) = book.passes.iter().find_map(|pass| pass.before.as_ref()) {
                    label { input.onion type="checkbox"; " over " (clean(before)) }
                }
            }
        }
    }
}

fn name(pass: &PassPart) -> String {
    match &pass.shades {
        Some(shades) => format!("{} {shades}", clean(&pass.label)),
        None => clean(&pass.label).into_owned(),
    }
}

pub fn movies(night: &Night) -> Markup {
    if night.movies.is_empty() {
        return html! {};
    }
    html! {
        section #movies aria-labelledby="movies-title" {
            h2 #movies-title { "Movies" }
            div.books {
                @for movie in &night.movies {
                    figure.movie {
                        figcaption { h3 { (clean(&movie.id)) " " small { (movie.state) } } }
                        @if let Some(source) = &movie.source {
                            video controls preload="metadata" src=(source) aria-label={ "Movie " (clean(&movie.id)) } {}
                        }
                        p.quiet { (clean(&movie.file)) }
                    }
                }
            }
        }
    }
}

pub fn failures(night: &Night) -> Markup {
    if night.failures.is_empty() {
        return html! {};
    }
    html! {
        section #failures aria-labelledby="failures-title" {
            h2 #failures-title { "What failed" }
            @for failure in &night.failures {
                article {
                    h3 { (clean(&failure.job)) " " small { "frames " (failure.frames) } }
                    p { (clean(&failure.why)) }
                    @if !failure.lines.is_empty() {
                        pre tabindex="0" aria-label="The end of its log" { @for line in &failure.lines { (clean(line)) "\n" } }
                    }
                    p.quiet { (clean(&failure.log)) }
                    @if !failure.command.is_empty() { (line(&failure.command)) }
                }
            }
        }
    }
}

pub fn findings(night: &Night) -> Markup {
    if night.findings.is_empty() {
        return html! {};
    }
    let word = |level: Level| match level {
        Level::Error => ("bad", "✗ error"),
        Level::Warning => ("odd", "! warning"),
        Level::Note => ("quiet", "note"),
    };
    html! {
        section #findings aria-labelledby="findings-title" {
            h2 #findings-title { "Findings" }
            @for finding in &night.findings {
                @let (class, word) = word(finding.level);
                article {
                    p { span class={ "state " (class) } { (word) } " " (clean(&finding.message)) }
                    @if !finding.help.is_empty() { p { (clean(&finding.help)) } }
                    p.quiet { (clean(&finding.place)) " " code { (finding.check.name()) } }
                }
            }
        }
    }
}

pub fn asked(night: &Night) -> Markup {
    html! {
        section #asked aria-labelledby="asked-title" {
            h2 #asked-title { "The request" }
            div.wide tabindex="0" role="region" aria-label="The request" {
                table {
                    thead { tr { th scope="col" { "Series" } th scope="col" { "Files" } th scope="col" { "As" } th scope="col" { "State" } } }
                    tbody {
                        @for part in night.series.iter().take(MOST_ASKED) {
                            tr {
                                th scope="row" { (clean(&part.id)) }
                                td { code { (clean(&part.pattern)) } }
                                td { (clean(&part.asked)) }
                                td { (summary(part)) }
                            }
                        }
                    }
                }
            }
            (more(night.series.len(), MOST_ASKED, "series"))
        }
    }
}

pub fn space(night: &Night) -> Markup {
    let space = &night.space;
    html! {
        section #space aria-labelledby="space-title" {
            h2 #space-title { "Space" }
            dl {
                dt { "There" } dd { (bytes(space.there)) }
                dt { "Still to come" }
                dd { @match space.estimated {
                    Some(estimated) if estimated > 0.0 => { "about " (bytes(estimated)) }
                    Some(_) => { "nothing" }
                    None => { "unknown: no frame was rendered yet" }
                } }
                @for (name, free) in &space.free { dt { "Free on " (clean(name)) } dd { (bytes(*free)) } }
            }
        }
    }
}

pub fn calls(night: &Night) -> Markup {
    if night.calls.is_empty() {
        return html! {};
    }
    html! {
        section #calls aria-labelledby="calls-title" {
            h2 #calls-title { "Calls" }
            details {
                summary { (counted(i64::try_from(night.calls.len()).unwrap_or(i64::MAX), "call")) " to copy" }
                @for call in &night.calls { h3 { (clean(&call.id)) } (line(&call.command)) }
                @if night.more_calls > 0 { p.quiet { (night.more_calls) " more: run " code { "truepath build" } " to list all." } }
            }
        }
    }
}
