//! Names: tokens, the frame's place, and the policy's wishes.

use crate::template::token::{PathToken, TokenGiver};
use regex_lite::Regex;

use crate::diagnostic::{Slug, nearest};
use crate::plan::{Series, SeriesKind};
use crate::resolve::paths;
use crate::sheet::Key;
use crate::source::Spanned;
use crate::template::{Form, Part, Token, TokenTrouble, TroubleKind, foreign};

use super::{Sink, in_path, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    let policy = &sink.input.sheet.policy;
    let spelling =
        policy.spelling.as_ref().and_then(|spelling| match Regex::new(&format!("^(?:{})$", spelling.value)) {
            Ok(regex) => Some((regex, spelling)),
            Err(error) => {
                sink.findings.add(
                    Slug::ValueNotUnderstood,
                    Some(spelling.at),
                    None,
                    wording::names::bad_spelling(&error.to_string()),
                );
                None
            }
        });
    for series in sink.series() {
        tokens(sink, series);
        frame_token(sink, series);
        frame_neighbours(sink, series);
        touching_tokens(sink, series);
        touching_numbers(sink, series);
        clock(sink, series);
        version(sink, series);
        padding(sink, series);
        policy_tokens(sink, series);
        // A placeholder of another kind is said to be one.
        let has_foreign =
            series.path.as_ref().is_some_and(|path| foreign::placeholder(&path.value.to_string()).is_some());
        if let Some((regex, policy)) = spelling.as_ref().filter(|_| !has_foreign) {
            policy_spelling(sink, series, regex, policy);
        }
    }
}

fn tokens(sink: &mut Sink<'_, '_>, series: &Series) {
    let job = sink.job(series);
    for trouble in &series.troubles {
        let at = in_path(series, trouble.range.clone());
        let name = trouble.token.as_str();
        match &trouble.kind {
            TroubleKind::NoValue | TroubleKind::Unknown if job.given.unread.contains(&Key::Var(name.to_owned())) => {}
            TroubleKind::Unknown => {
                let roots = sink.input.plan.roots.iter().map(|root| root.name.as_str());
                let variables = job
                    .given
                    .values
                    .keys()
                    .filter_map(|key| if let Key::Var(name) = key { Some(name.as_str()) } else { None });
                let own = PathToken::names().map(|name| -> &str { name });
                let known: Vec<&str> = own.chain(roots).chain(variables).collect();
                let near = nearest(name, known.iter().copied());
                sink.add(Slug::TokenUnknown, at, job, wording::names::token_unknown(name, near, at));
            }
            TroubleKind::NoValue if series.format_lost && is_of_format(name) => {}
            TroubleKind::NoValue if Key::parse(name).is_some_and(|key| job.given.unread.contains(&key)) => {}
            // That the type itself is unknown is said once.
            TroubleKind::NoValue if series.file_type.is_none() && ["ext", "type"].contains(&name) => {}
            TroubleKind::NoValue => {
                if let Some(root) = sink.input.plan.roots.iter().find(|root| root.name == name) {
                    sink.add(
                        Slug::RootMissing,
                        at,
                        job,
                        wording::names::root_missing(root, sink.input.plan.home.system),
                    );
                } else {
                    sink.add(Slug::TokenWithoutValue, at, job, wording::names::token_without_value(name));
                }
            }
            TroubleKind::Unfit(value, why) => {
                sink.add(Slug::TokenValueUnfit, at, job, wording::names::value_unfit(name, value, why))
            }
            TroubleKind::Form => sink.add(Slug::TemplateNotUnderstood, at, job, wording::names::no_such_form(name)),
        }
    }
}

/// The costliest of all: every frame under one name.
fn frame_token(sink: &mut Sink<'_, '_>, series: &Series) {
    let (Some(path), Some(frames)) = (&series.path, &series.frames) else { return };
    let movie = series.kind == SeriesKind::Movie || series.file_type.is_some_and(|known| known.is_container());
    if let Some(token) = path.value.tokens().find(|token| movie && token.name == "frame") {
        let job = sink.job(series);
        let at = in_path(series, token.range.clone());
        sink.add(Slug::FrameTokenInMovie, at, job, wording::names::frame_token_in_movie());
    }
    let names = || PathToken::names();
    let misspelt = |trouble: &TokenTrouble| nearest(&trouble.token, names()) == Some("frame");
    // A frame token that is misspelt is said to be one.
    let is_own = !movie && !path.value.has("frame") && !series.troubles.iter().any(misspelt);
    let text = path.value.to_string();
    // What other programs take for the frame stands for nothing here, and so it would even in a single name.
    if let Some((range, width)) = foreign::placeholder(&text).filter(|_| is_own) {
        let job = sink.job(series);
        let at = in_path(series, range.clone());
        let words = wording::names::foreign_placeholder(&text[range.clone()], (frames, width), at);
        sink.add(Slug::FrameTokenMissing, at, job, words);
    } else if series.kind == SeriesKind::Sequence && is_own && frames.count() > 1 {
        let after = text.rfind('.').filter(|dot| !text[*dot..].contains('/')).unwrap_or(text.len());
        let at = in_path(series, after..after).filter(|at| at.start == at.end);
        let job = sink.job(series);
        sink.add(Slug::FrameTokenMissing, Some(path.at), job, wording::names::frame_token_missing(frames, at));
    }
}

fn frame_neighbours(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(path) = &series.path else { return };
    let parts = path.value.parts();
    for (at, part) in parts.iter().enumerate() {
        let Part::Token(frame) = part else { continue };
        if frame.name != "frame" {
            continue;
        }
        let touches = |c: Option<char>| c.is_some_and(char::is_alphanumeric);
        let before = match at.checked_sub(1).map(|at| &parts[at]) {
            Some(Part::Text(text)) => touches(text.chars().next_back()),
            Some(Part::Token(_)) => true,
            None => false,
        };
        let after = match parts.get(at + 1) {
            Some(Part::Text(text)) => touches(text.chars().next()),
            Some(Part::Token(next)) => next.sign.is_none(),
            None => false,
        };
        if (before && frame.sign.is_none()) || after {
            let place = in_path(series, frame.range.clone());
            let start = in_path(series, frame.range.start..frame.range.start).filter(|_| before && !after);
            let job = sink.job(series);
            sink.add(Slug::FrameNotSeparated, place, job, wording::names::frame_not_separated(start));
        }
    }
}

/// Two free tokens with nothing between them: nobody can tell where one value ends and the next begins.
fn touching_tokens(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(path) = &series.path else { return };
    for pair in path.value.parts().windows(2) {
        let [Part::Token(first), Part::Token(second)] = pair else { continue };
        let root = sink.input.plan.roots.iter().any(|root| root.name == first.name);
        // The frame has a check of its own, and so have numbers.
        let frame = first.name == "frame" || second.name == "frame";
        let numbers = is_number(&first.name) && is_number(&second.name);
        if second.sign.is_none() && !root && !frame && !numbers {
            let between = in_path(series, second.range.start..second.range.start).filter(|at| at.start == at.end);
            let at = in_path(series, first.range.start..second.range.end);
            let job = sink.job(series);
            sink.add(Slug::TokensTouch, at, job, wording::names::tokens_touch(&first.name, &second.name, between));
        }
    }
}

/// Tokens that are always numbers, the frame aside.
fn is_number(name: &str) -> bool {
    PathToken::named(name).is_some_and(PathToken::is_number)
}

/// Tokens whose values come from the format.
fn is_of_format(name: &str) -> bool {
    PathToken::named(name).is_some_and(|token| token.giver() == TokenGiver::Format)
}

/// A number beside a number or a digit: the two read as one.
fn touching_numbers(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(path) = &series.path else { return };
    let number = |token: &Token| is_number(&token.name);
    for pair in path.value.parts().windows(2) {
        let found = match pair {
            [Part::Token(first), Part::Token(second)] if second.sign.is_none() && number(first) && number(second) => {
                // A version begins with its letter, which tells it from what stands before.
                (second.name != "version").then_some((first.range.start..second.range.end, second.range.start))
            }
            [Part::Token(first), Part::Text(text)]
                if number(first) && text.starts_with(|c: char| c.is_ascii_digit()) =>
            {
                Some((first.range.start..first.range.end + 1, first.range.end))
            }
            [Part::Text(text), Part::Token(second)]
                if number(second)
                    && second.sign.is_none()
                    && second.name != "version"
                    && text.ends_with(|c: char| c.is_ascii_digit()) =>
            {
                Some((second.range.start - 1..second.range.end, second.range.start))
            }
            _ => None,
        };
        let Some((range, between)) = found else { continue };
        let fix = in_path(series, between..between).filter(|at| at.start == at.end);
        let job = sink.job(series);
        sink.add(Slug::NumbersTouch, in_path(series, range), job, wording::names::numbers_touch(fix));
    }
}

/// A looked-up moment that is finer than a day: with other pins every frame would be sought elsewhere.
fn clock(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(path) = &series.path else { return };
    let fine = |token: &&Token| match (token.name.as_str(), &token.form) {
        ("date" | "time", Form::Clock(form)) => ["%H", "%M", "%S"].iter().any(|part| form.contains(part)),
        ("time", _) => true,
        _ => false,
    };
    if let Some(token) = path.value.tokens().find(fine) {
        let at = in_path(series, token.range.clone());
        let job = sink.job(series);
        sink.add(Slug::ClockTooFine, at, job, wording::names::clock_too_fine());
    }
}

/// A version that the path does not carry.
fn version(sink: &mut Sink<'_, '_>, series: &Series) {
    let job = sink.job(series);
    let Some(path) = &series.path else { return };
    // A still or a movie of a job may do without; its sequences may not.
    let movie = series.kind == SeriesKind::Movie;
    if let Some(at) =
        job.given.place(&Key::Version).filter(|_| !movie && series.is_known() && !path.value.has("version"))
    {
        let words = wording::names::version_not_in_path().also(path.at, "this path");
        sink.add(Slug::VersionNotInPath, Some(at), job, words);
    }
}

/// Numbers longer than their padding are written in full, and then no longer sort as text.
fn padding(sink: &mut Sink<'_, '_>, series: &Series) {
    let (Some(path), Some(width), Some(numbers)) = (&series.path, series.pattern.frame_width(), series.numbers())
    else {
        return;
    };
    let longest = numbers.first().into_iter().chain(numbers.last()).map(i64::unsigned_abs).max().unwrap_or(0);
    let digits = longest.checked_ilog10().unwrap_or(0) as usize + 1;
    let Some(token) = path.value.tokens().find(|token| token.name == "frame").filter(|_| digits > width) else {
        return;
    };
    let at = in_path(series, token.range.clone());
    let job = sink.job(series);
    sink.add(Slug::PaddingNarrow, at, job, wording::names::padding_narrow(longest, (width, digits), token, at));
}

fn policy_tokens(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(path) = &series.path else { return };
    let job = sink.job(series);
    for wanted in &sink.input.sheet.policy.tokens {
        if !path.value.has(&wanted.value) {
            sink.add(Slug::PolicyTokens, Some(path.at), job, wording::names::policy_token(wanted));
        }
    }
}

fn policy_spelling(sink: &mut Sink<'_, '_>, series: &Series, regex: &Regex, policy: &Spanned<String>) {
    let (Some(path), Some(first), Some(root)) =
        (&series.path, series.frames.as_ref().and_then(|frames| frames.first()), series.root)
    else {
        return;
    };
    let name = series.name(first);
    let root = sink.input.plan.roots[root].path.as_deref().unwrap_or("");
    let below = name.get(root.len()..).unwrap_or("").trim_start_matches('/');
    let job = sink.job(series);
    if let Some(part) = below.split('/').find(|part| !regex.is_match(part)) {
        let file = part == paths::file_name(below);
        sink.add(Slug::PolicySpelling, Some(path.at), job, wording::names::policy_spelling(part, file, policy));
    }
}
