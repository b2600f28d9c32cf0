//! What a program really writes: staged files read back to the series and frames they belong to.

use regex_lite::Regex;

use crate::adapter::{Adapter, NumberStyle, Per};
use crate::frames::{Frames, Number};
use crate::plan::{Call, Plan};
use crate::template::{Form, Lookup, Part, Pattern, Template, Value, expand_text};

use super::arguments::{ArgumentScope, CallPaths};

/// The names under which the files of one series of a call come out.
#[derive(Clone, Debug)]
pub struct Expected {
    /// Index into the plan's series.
    pub series: usize,
    names: Vec<NameRule>,
    /// The frame of a name without number.
    only: Option<i64>,
}

/// One rule for names, relative to the stage folder.
#[derive(Clone, Debug)]
enum NameRule {
    /// As asked for: exactly these.
    Asked(Pattern),
    /// As `writes` of the adapter says, and what that is made of.
    Own(Regex, Vec<Spelt>),
}

/// A piece of a name that the program makes itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Spelt {
    /// Known text.
    Text(String),
    /// The frame, of at least so many digits.
    Frame(usize),
    /// Any text within one part.
    Any,
}

/// What a call that renders `frames` is expected to write, by series.
#[must_use]
pub fn expected(
    plan: &Plan,
    call: &Call,
    adapter: &Adapter,
    frames: &Frames,
    paths_of_call: CallPaths<'_>,
) -> Vec<Expected> {
    let scope = ArgumentScope { plan, job: &plan.jobs[call.job], adapter, frames, paths_of_call };
    let only = frames.first().filter(|_| frames.count() == 1);
    let one = |at: &usize| {
        let series = &plan.series[*at];
        let (_, file) = series.pattern.split_folder();
        let as_asked = || match (adapter.number, adapter.per) {
            (Some(NumberStyle::None), _) | (None, Per::List | Per::Range | Per::Pipe) => without_hole(&scope, *at),
            (None, Per::Frame) => file.settled(series.number(only.unwrap_or(0))),
            (Some(_), _) => file.clone(),
        };
        let names = if adapter.writes.is_empty() {
            vec![NameRule::Asked(as_asked())]
        } else {
            let rule = |template: &crate::source::Spanned<Template>| match template.value.parts() {
                [Part::Token(token)] if token.name == "out" => Some(NameRule::Asked(as_asked())),
                _ => own(&scope, *at, &template.value),
            };
            adapter.writes.iter().filter_map(rule).collect()
        };
        Expected { series: *at, names, only }
    };
    call.series.iter().map(one).collect()
}

/// The name without number that a program is given, as a pattern.
fn without_hole(call: &ArgumentScope<'_>, series: usize) -> Pattern {
    let mut pattern = Pattern::default();
    pattern.push_text(&super::arguments::out_name(call.adapter, &call.plan.series[series], call.frames));
    pattern
}

/// Why a rule of `writes` could be read in two ways, or in none.
#[must_use]
pub fn unclear(rule: &Template) -> Option<&'static str> {
    let open = |part: &Part| matches!(part, Part::Token(token) if token.name == "any" || token.name == "frame");
    if rule.tokens().filter(|token| token.name == "frame").count() > 1 {
        return Some("it has two frame numbers");
    }
    let meet = rule.parts().windows(2).any(|pair| open(&pair[0]) && open(&pair[1]));
    meet.then_some("nothing tells where {any} ends and the number begins")
}

/// A rule of `writes` for one series.
fn own(call: &ArgumentScope<'_>, series: usize, template: &Template) -> Option<NameRule> {
    let passes = &call.plan.series[series].passes;
    let output = call.output(series, *passes.first()?);
    let spelt = template.parts().iter().map(|part| {
        Some(match part {
            Part::Text(text) => Spelt::Text(text.clone()),
            Part::Token(token) => match (token.name.as_str(), &token.form) {
                ("frame", Form::Width(width)) => Spelt::Frame(*width),
                ("frame", _) => Spelt::Frame(1),
                ("any", _) => Spelt::Any,
                ("pass", _) => {
                    let label = |_: &str| Lookup::Value(Value::Text(output.pass.label.clone()));
                    Spelt::Text(expand_text(&Template::of(token.clone()), &label)?)
                }
                ("out", _) => Spelt::Text(output.file.clone()),
                (_, _) => Spelt::Text(call.text(token, &output)?),
            },
        })
    });
    let spelt = spelt.collect::<Option<Vec<Spelt>>>()?;
    let rule = spelt.iter().map(|piece| match piece {
        Spelt::Text(text) => regex_lite::escape(text),
        Spelt::Frame(width) => format!(r"(?<frame>-?\d{{{width},}})"),
        Spelt::Any => "[^/]*".to_owned(),
    });
    Some(NameRule::Own(Regex::new(&format!("^{}$", rule.collect::<String>())).ok()?, spelt))
}

/// Digits that a program may pad a frame to of its own accord.
const PADDED: usize = 8;

impl Expected {
    /// One file whose name is known to the letter.
    #[must_use]
    pub fn one(series: usize, name: &str, frame: i64) -> Expected {
        let mut pattern = Pattern::default();
        pattern.push_text(name);
        Expected { series, names: vec![NameRule::Asked(pattern)], only: Some(frame) }
    }

    /// The frame of a staged file, by its path relative to the series' stage folder; `None` where it is none of these.
    #[must_use]
    pub fn frame(&self, relative: &str) -> Option<i64> {
        self.names.iter().find_map(|names| match names {
            NameRule::Asked(pattern) => {
                let number = pattern.read(relative)?;
                // The program is told frames, and writes them as they are.
                if pattern.frame_width().is_some() { Some(number.value()) } else { self.only }
            }
            NameRule::Own(rule, _) => {
                let found = rule.captures(relative)?;
                match found.name("frame") {
                    Some(frame) => frame.as_str().parse().ok(),
                    None => self.only,
                }
            }
        })
    }

    /// How many rules there are.
    #[must_use]
    pub fn rules(&self) -> usize {
        self.names.len()
    }

    /// A name that a frame may come out under; `None` where its names are those asked for.
    #[must_use]
    pub fn sample(&self, frame: i64) -> Option<String> {
        let piece = |piece: &Spelt| match piece {
            Spelt::Text(text) => text.clone(),
            Spelt::Frame(width) => format!("{frame:0width$}"),
            Spelt::Any => "any".to_owned(),
        };
        let spelt =
            self.names.iter().find_map(|rule| if let NameRule::Own(_, spelt) = rule { Some(spelt) } else { None });
        spelt.map(|spelt| spelt.iter().map(piece).collect())
    }

    /// The names that one frame may come out under, relative to the stage folder, the most likely first.
    #[must_use]
    pub fn spellings(&self, frame: i64) -> Vec<Vec<Spelt>> {
        let mut all = Vec::new();
        for names in &self.names {
            match names {
                NameRule::Asked(pattern) => all.push(vec![Spelt::Text(pattern.name(Number::new(frame)))]),
                NameRule::Own(_, spelt) => {
                    let width = spelt
                        .iter()
                        .find_map(|piece| if let Spelt::Frame(width) = piece { Some(*width) } else { None });
                    let settled = |digits: usize| {
                        let piece = |piece: &Spelt| match piece {
                            Spelt::Frame(_) => {
                                let sign = if frame < 0 { "-" } else { "" };
                                Spelt::Text(format!("{sign}{:0digits$}", frame.unsigned_abs()))
                            }
                            other => other.clone(),
                        };
                        spelt.iter().map(piece).collect::<Vec<_>>()
                    };
                    let own = frame.unsigned_abs().checked_ilog10().unwrap_or(0) as usize + 1;
                    let from = width.unwrap_or(1).max(own);
                    let to = if width.is_some() { from.max(PADDED) } else { from };
                    all.extend((from..=to).map(settled));
                }
            }
        }
        all
    }
}
