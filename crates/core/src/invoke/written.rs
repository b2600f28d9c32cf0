//! What a program really writes: staged files read back to the series and frames they belong to.

use regex_lite::Regex;

use crate::adapter::{NumberStyle, Per};
use crate::frames::{Frames, Number};
use crate::source::Spanned;
use crate::template::{Form, Lookup, Part, Pattern, Template, Value, expand_text};

use super::scope::ArgumentScope;

/// The names under which the files of one series of a call come out.
#[derive(Clone, Debug)]
pub struct Expected {
    /// Index into the plan's series.
    pub series: usize,
    names: Vec<NameRule>,
    /// The frame of a name without number.
    only: Option<i64>,
    /// The frames of the call, for names that number them from 0 or 1.
    frames: Frames,
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
    /// Where the frame stands among those of the call, counted from a number, of at least so many digits.
    Place(i64, usize),
    /// Any text within one part.
    Any,
}

/// What a call is expected to write, by series.
#[must_use]
pub fn expected(scope: &ArgumentScope<'_>) -> Vec<Expected> {
    let (adapter, frames) = (scope.adapter, scope.frames);
    let only = frames.first().filter(|_| frames.count() == 1);
    let one = |at: &usize| {
        let series = &scope.plan.series[*at];
        let (_, file) = series.pattern.split_folder();
        let as_asked = || match (adapter.number, adapter.per) {
            (Some(NumberStyle::None), _) | (None, Per::List | Per::Range | Per::Pipe) => without_hole(scope, *at),
            (None, Per::Frame) => file.settled(series.number(only.unwrap_or(0))),
            (Some(_), _) => file.clone(),
        };
        let names = if adapter.writes.is_empty() {
            vec![NameRule::Asked(as_asked())]
        } else {
            let rule = |template: &Spanned<Template>| match template.value.parts() {
                [Part::Token(token)] if token.name == "out" => Some(NameRule::Asked(as_asked())),
                _ => own(scope, *at, &template.value),
            };
            adapter.writes.iter().filter_map(rule).collect()
        };
        Expected { series: *at, names, only, frames: frames.clone() }
    };
    scope.series.iter().map(one).collect()
}

/// What a program writes beside its pictures.
#[derive(Clone, Debug)]
pub struct ByProducts {
    /// Index into the plan's series, in whose stage folder it lies.
    pub series: usize,
    /// Its name, relative to that folder, with `*` where the program writes anything.
    pub glob: String,
    /// Whether it is kept beside the log.
    pub is_kept: bool,
    rule: Regex,
}

impl ByProducts {
    /// Whether this is the name of a staged file.
    #[must_use]
    pub fn is_name_of(&self, relative: &str) -> bool {
        self.rule.is_match(relative)
    }
}

/// What a call is expected to write beside its pictures. A rule with a token that has no value says nothing.
#[must_use]
pub fn besides(scope: &ArgumentScope<'_>) -> Vec<ByProducts> {
    let removed = scope.adapter.also.iter().map(|template| (template, false));
    let rules: Vec<_> = removed.chain(scope.adapter.keep.iter().map(|template| (template, true))).collect();
    let of_series = |series: &usize| {
        let one = |(template, is_kept): &(&Spanned<Template>, bool)| {
            let NameRule::Own(rule, spelt) = own(scope, *series, &template.value)? else { return None };
            Some(ByProducts { series: *series, glob: glob(&spelt), is_kept: *is_kept, rule })
        };
        rules.iter().filter_map(one).collect::<Vec<_>>()
    };
    scope.series.iter().flat_map(of_series).collect()
}

/// A staged name, with `*` where the program writes anything.
#[must_use]
pub fn glob(spelling: &[Spelt]) -> String {
    let piece = |piece: &Spelt| match piece {
        Spelt::Text(text) => text.clone(),
        Spelt::Frame(_) | Spelt::Place(..) | Spelt::Any => "*".to_owned(),
    };
    spelling.iter().map(piece).collect()
}

/// The name without number that a program is given, as a pattern.
fn without_hole(call: &ArgumentScope<'_>, series: usize) -> Pattern {
    let mut pattern = Pattern::default();
    pattern.push_text(&super::spelling::out_name(call.adapter, &call.plan.series[series], call.frames));
    pattern
}

/// Why a rule of `writes` could be read in two ways, or in none.
#[must_use]
pub fn unclear(rule: &Template) -> Option<&'static str> {
    let is_number = |name: &str| ["frame", "index", "ordinal"].contains(&name);
    let open = |part: &Part| matches!(part, Part::Token(token) if token.name == "any" || is_number(&token.name));
    if rule.tokens().filter(|token| is_number(&token.name)).count() > 1 {
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
                ("index" | "ordinal", form) => {
                    let width = if let Form::Width(width) = form { *width } else { 1 };
                    Spelt::Place(i64::from(token.name == "ordinal"), width)
                }
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
        Spelt::Place(from, width) => format!(r"(?<from{from}>\d{{{width},}})"),
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
        Expected { series, names: vec![NameRule::Asked(pattern)], only: Some(frame), frames: Frames::one(frame) }
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
                let placed = |from: i64| {
                    let at: i64 = found.name(&format!("from{from}"))?.as_str().parse().ok()?;
                    Some(usize::try_from(at.checked_sub(from)?).ok().and_then(|at| self.frames.iter().nth(at)))
                };
                match (found.name("frame"), placed(0).or_else(|| placed(1))) {
                    (Some(frame), _) => frame.as_str().parse().ok(),
                    (None, Some(placed)) => placed,
                    (None, None) => self.only,
                }
            }
        })
    }

    /// Where a frame stands among those of the call, counted from a number.
    fn place(&self, frame: i64, from: i64) -> i64 {
        self.frames.iter().position(|own| own == frame).map_or(frame, |at| at as i64 + from)
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
            Spelt::Place(from, width) => format!("{:0width$}", self.place(frame, *from)),
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
                            Spelt::Place(from, width) => Spelt::Text(format!("{:0width$}", self.place(frame, *from))),
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
