//! The page of a report: one HTML file with everything in it. The template engine escapes every text; what a text might do
//! beyond being read (marks of writing direction, control characters) is spelt out first.

mod night;
mod parts;
mod plot;

use std::collections::HashMap;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use serde_json::json;
use sha2::{Digest, Sha256};
use truepath_core::verify::Outcome;

pub use night::{
    Book, CallPart, CellState, FailurePart, FileCell, FindingPart, FrameTimes, Leaf, MachinePart, MoviePart, Night,
    PassPart, SeriesPart, Space,
};

use super::clean;
use super::progress::span;

/// How the page looks, and what it does.
const STYLE: &str = include_str!("report.css");
const SCRIPT: &str = include_str!("report.js");

/// Files whose names, times and machines go into a page at most: of more of them only the state is told.
pub const MOST_TOLD: i64 = 60_000;

/// What tells a report from any other file.
pub const MARK: &str = "<meta name=\"generator\" content=\"truepath report\">";

/// The page.
pub fn page(night: &Night) -> String {
    let policy = format!(
        "default-src 'none'; img-src data:; media-src 'self' data: file:; style-src '{}'; script-src '{}'; base-uri 'none'; \
         form-action 'none'",
        digest(STYLE),
        digest(SCRIPT)
    );
    let title = format!("{}: report", clean(&night.title));
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                (PreEscaped(MARK))
                meta http-equiv="Content-Security-Policy" content=(policy);
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                a.skip href="#main" { "To the report" }
                (head(night))
                main #main {
                    (parts::left(night))
                    (parts::map(night))
                    (parts::books(night))
                    (parts::movies(night))
                    (parts::failures(night))
                    (parts::findings(night))
                    (plot::times(night))
                    (parts::asked(night))
                    (parts::space(night))
                    (parts::calls(night))
                }
                script type="application/json" id="night" { (PreEscaped(data(night))) }
                script { (PreEscaped(SCRIPT)) }
            }
        }
    }
    .into_string()
}

/// A source expression of a content security policy (CSP level 3) that allows one text and no other.
fn digest(text: &str) -> String {
    format!("sha256-{}", BASE64_STANDARD.encode(Sha256::digest(text.as_bytes())))
}

fn head(night: &Night) -> Markup {
    let (class, word) = match night.outcome {
        Outcome::Complete => ("good", "complete"),
        Outcome::AsPlanned => ("good", "as planned"),
        Outcome::Incomplete if night.is_under_way => ("odd", "under way"),
        Outcome::Incomplete => ("bad", "not complete"),
    };
    let sign = match class {
        "good" => "✓",
        "odd" => "…",
        _ => "✗",
    };
    let share = if night.planned > 0 { night.good * 100 / night.planned } else { 0 };
    html! {
        header {
            h1 { (clean(&night.title)) }
            p.verdict {
                span class={ "state " (class) } { (sign) " " (word) }
                " " strong { (night.good) " of " (night.planned) " files" } " good"
                @if let Some(left) = night.seconds_left.filter(|_| night.outcome == Outcome::Incomplete) {
                    ", about " (span(left)) " left"
                }
            }
            progress max="100" value=(share) aria-label="good files" { (share) " %" }
            p.quiet {
                "Written " (night.at)
                @if night.is_under_way { ". This page reloads every minute unless you are using it." }
            }
            nav aria-label="Parts of this report" {
                @for (id, name) in parts::shown(night) { a href={ "#" (id) } { (name) } }
            }
        }
    }
}

/// What the script needs: names and pictures. No text in it can end the element it stands in.
fn data(night: &Night) -> String {
    let book = |book: &Book| {
        let pass = |pass: &PassPart| {
            let leaves = pass.leaves.iter().map(|leaf| json!([leaf.frame, leaf.picture, leaf.state, leaf.before]));
            json!({ "size": [pass.size.0, pass.size.1], "leaves": leaves.collect::<Vec<_>>() })
        };
        json!({ "fps": book.fps, "passes": book.passes.iter().map(pass).collect::<Vec<_>>() })
    };
    // Machines and reasons are many times the same.
    let mut words: Vec<&str> = vec![""];
    let mut known: HashMap<&str, usize> = HashMap::from([("", 0)]);
    let mut series = Vec::new();
    for part in &night.series {
        let mut cells = Vec::new();
        for cell in &part.cells {
            let mut index = |text| {
                *known.entry(text).or_insert_with(|| {
                    words.push(text);
                    words.len() - 1
                })
            };
            let (why, machine) = (index(&cell.why), index(&cell.machine));
            let seconds = cell.seconds.map(|seconds| (seconds * 100.0).round() / 100.0);
            cells.push(json!([cell.frame, cell.number, cell.state.name(), seconds, why, machine]));
        }
        let pieces: Vec<_> = part.pieces.0.iter().map(|text| clean(text)).collect();
        series.push(json!({ "pieces": pieces, "width": part.pieces.1, "cells": cells }));
    }
    let words: Vec<_> = words.iter().map(|word| clean(word)).collect();
    let all = json!({
        "underWay": night.is_under_way, "series": series, "words": words,
        "books": night.books.iter().map(book).collect::<Vec<_>>(),
    });
    all.to_string().replace('<', "\\u003c").replace('\u{2028}', "\\u2028").replace('\u{2029}', "\\u2029")
}
