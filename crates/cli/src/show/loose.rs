//! What lies in files that no sheet plans, as a table and as a document.

use serde_json::{Value, json};
use truepath_core::frames::Frames;
use truepath_core::run::causes::without_numbers;
use truepath_core::verify::{STATES, State};

use super::junit::Case;
use super::{BAD, GOOD, HEAD, QUIET, counted, paint, state as signed, verdicts};
use crate::lower::Screen;

/// Files that are named before the rest is only counted.
const MOST_LINES: usize = 20;

/// Files that belong together, and what was found of them.
pub struct Examined {
    /// Their pattern, as it is spelt.
    pub pattern: String,
    /// The numbers that are expected.
    pub wanted: Frames,
    /// The numbers of which there is no file.
    pub missing: Frames,
    /// The others.
    pub found: Vec<FoundFile>,
}

/// What was found at one name.
pub struct FoundFile {
    /// The number in it.
    pub number: i64,
    /// The path.
    pub path: String,
    /// How it stands.
    pub state: State,
    /// Why it is not good.
    pub why: String,
}

impl Examined {
    fn in_state(&self, state: State) -> Frames {
        if state == State::Missing {
            return self.missing.clone();
        }
        let own = self.found.iter().filter(|found| found.state == state);
        Frames::from_any(own.map(|found| found.number).collect())
    }

    /// How many files are neither good nor merely odd.
    #[must_use]
    pub fn bad(&self) -> i64 {
        let bad = self
            .found
            .iter()
            .filter(|found| !matches!(found.state, State::Good | State::Odd | State::Unproven))
            .count();
        self.missing.count() + bad as i64
    }
}

/// A line for each set, the files that are not good, and the closing line.
pub fn text(looked: &[Examined], screen: Screen) -> String {
    let widest = looked.iter().map(|set| super::width(&set.pattern)).max().unwrap_or(0);
    let head = format!("{:widest$}  {:>7}  {:>7}  state", "files", "count", "good");
    let mut out = format!("{}\n", paint(screen, HEAD, head));
    for set in looked {
        let states = STATES.iter().filter(|(_, state)| *state != State::Good).filter_map(|(word, state)| {
            let frames = set.in_state(*state);
            let several = set.wanted.count() > 1;
            let numbers = if several { format!(" {}", verdicts::cut(&frames.to_string())) } else { String::new() };
            (!frames.is_empty()).then(|| signed(screen, verdicts::style(*state), format!("{word}{numbers}")))
        });
        let states: Vec<String> = states.collect();
        let state = if states.is_empty() { signed(screen, GOOD, "complete") } else { states.join("  ") };
        let (count, good) = (set.wanted.count(), set.in_state(State::Good).count());
        out.push_str(&format!("{}  {count:>7}  {good:>7}  {state}\n", super::pad(&set.pattern, widest)));
    }
    let bad: Vec<(State, String)> = looked.iter().flat_map(lines).collect();
    if !bad.is_empty() {
        out.push('\n');
    }
    for (state, line) in bad.iter().take(MOST_LINES) {
        let state = super::pad(&signed(screen, verdicts::style(*state), state.name()), 12);
        out.push_str(&format!("  {state}  {line}\n"));
    }
    if bad.len() > MOST_LINES {
        out.push_str(&paint(screen, QUIET, format!("  and {} more; --json lists them all\n", bad.len() - MOST_LINES)));
    }
    let all: i64 = looked.iter().map(|set| set.wanted.count()).sum();
    let closing = match looked.iter().map(Examined::bad).sum::<i64>() {
        0 => signed(screen, GOOD, format!("complete: {}", counted(all, "file"))),
        bad => signed(screen, BAD, format!("not complete: {} of {} good", all - bad, counted(all, "file"))),
    };
    out + &format!("\n{closing}\n")
}

/// What is not good of a set: what several files have in common is one line with their numbers.
fn lines(set: &Examined) -> Vec<(State, String)> {
    let mut found: Vec<(State, String, Vec<&FoundFile>)> = Vec::new();
    for one in set.found.iter().filter(|found| found.state != State::Good) {
        let why = without_numbers(&one.why);
        match found.iter_mut().find(|(state, own, _)| *state == one.state && *own == why) {
            Some((.., own)) => own.push(one),
            None => found.push((one.state, why, vec![one])),
        }
    }
    let line = |(state, why, own): (State, String, Vec<&FoundFile>)| {
        let text = match own.as_slice() {
            [only] => format!("{}: {}", only.path, only.why),
            [first, ..] => {
                let numbers = Frames::from_any(own.iter().map(|found| found.number).collect());
                let why = if own.iter().all(|found| found.why == first.why) { &first.why } else { &why };
                format!("{} {}: {why}", set.pattern, verdicts::cut(&numbers.to_string()))
            }
            [] => String::new(),
        };
        (state, text)
    };
    found.into_iter().map(line).collect()
}

/// A set as a test of a build server.
pub fn case(set: &Examined) -> Case {
    let (mut bad, mut other) = (Vec::new(), Vec::new());
    if !set.missing.is_empty() {
        bad.push(format!("missing {}: not there", set.missing));
    }
    for found in set.found.iter().filter(|found| found.state != State::Good) {
        let line = format!("{} {}: {}", found.state.name(), found.path, found.why);
        let is_bad = !matches!(found.state, State::Odd | State::Unproven);
        if is_bad { bad.push(line) } else { other.push(line) }
    }
    let count = set.bad();
    let message = (count > 0).then(|| format!("not good: {count} of {}", counted(set.wanted.count(), "file")));
    Case { class: "files".to_owned(), name: set.pattern.clone(), message, bad, other }
}

/// The same as a document.
pub fn document(looked: &[Examined]) -> Value {
    let one = |set: &Examined| {
        let mut row = json!({ "pattern": set.pattern, "frames": set.wanted, "count": set.wanted.count() });
        for (word, state) in STATES {
            row[word] = json!(set.in_state(state));
        }
        let bad = set.found.iter().filter(|found| found.state != State::Good);
        let told = bad.map(|found| json!({ "path": found.path, "state": found.state.name(), "why": found.why }));
        row["findings"] = told.collect::<Vec<_>>().into();
        row
    };
    let outcome = if looked.iter().any(|set| set.bad() > 0) { "incomplete" } else { "complete" };
    json!({ "truepath": 1, "files": looked.iter().map(one).collect::<Vec<_>>(), "outcome": outcome })
}
