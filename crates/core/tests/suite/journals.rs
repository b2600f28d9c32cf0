//! What journals say, read in one pass, against a reading that takes its time; and how a plan stands by it.

use std::collections::{BTreeMap, BTreeSet};
use std::io::BufReader;

use crate::support::planned;
use proptest::prelude::*;
use truepath_core::catalogue::{Bits, Channels};
use truepath_core::frames::{Frames, Number};
use truepath_core::plan::{Plan, Series};
use truepath_core::run::event::{self, Began, Ended, Event, Landed, SeriesOf, Started, VERSION};
use truepath_core::run::history::{Depth, History, past, standing};
use truepath_core::run::outstanding::{outstanding, standing as there};
use truepath_core::run::tally::tally;
use truepath_core::sheet::Existing;
use truepath_core::verify::{Picture, Provenance, STATES, Seen, State, Verdict};

const SHEET: &str = "sheet = 1\n[roots]\nout = \"/out\"\n[formats.f]\ntype = \"png\"\nbits = 8\nchannels = \"rgb\"\n\
    [defaults]\nformat = \"f\"\nsize = \"16x9\"\npasses = [\"beauty\", \"depth\"]\n\
    path = \"{out}/{job}_{pass}.{frame:4}.png\"\n\
    [[job]]\nname = \"quay\"\nscene = \"x\"\nframes = \"1-12\"\n\
    [[job]]\nname = \"mast\"\nscene = \"x\"\nframes = \"1-12\"\nshift = 100\n";

/// What can be written into a journal, small.
#[derive(Clone, Debug)]
enum Step {
    Series { series: usize, made: u8 },
    Landed { series: usize, frame: i64, bytes: u64, digest: u8 },
    Late { series: usize, frame: i64 },
    Call { series: usize, first: i64, ended: bool, landed: bool },
    Failed { series: usize, frame: i64 },
    Torn(usize),
    Over,
}

fn step() -> impl Strategy<Value = Step> {
    let (series, frame) = (0usize..4, 1i64..13);
    prop_oneof![
        2 => (series.clone(), 0u8..3).prop_map(|(series, made)| Step::Series { series, made }),
        9 => (series.clone(), frame.clone(), 1u64..4, 0u8..3)
            .prop_map(|(series, frame, bytes, digest)| Step::Landed { series, frame, bytes, digest }),
        1 => (series.clone(), frame.clone()).prop_map(|(series, frame)| Step::Late { series, frame }),
        2 => (series.clone(), frame.clone(), any::<bool>(), any::<bool>())
            .prop_map(|(series, first, ended, landed)| Step::Call { series, first, ended, landed }),
        1 => (series, frame).prop_map(|(series, frame)| Step::Failed { series, frame }),
        1 => (1usize..60).prop_map(Step::Torn),
        1 => Just(Step::Over),
    ]
}

/// A journal as a run writes it: one line an event, begun with who runs.
fn journal(plan: &Plan, turn: u64, steps: &[Step]) -> String {
    let mut text = Event::Began(Began { truepath: VERSION, turn, tag: format!("t{turn}"), ..Began::default() }).line();
    let id = |series: usize| plan.series[series].id.clone();
    for (at, step) in steps.iter().enumerate() {
        let landed = |series: usize, frame: i64, bytes: u64, digest: u8, call: &str| {
            let (series, digest, call) = (id(series), format!("{digest:02x}").repeat(32), call.to_owned());
            Event::Landed(Landed { series, frame, bytes, digest, call }).line()
        };
        match *step {
            Step::Series { series, made } => text.push_str(
                &Event::Series(SeriesOf {
                    series: id(series),
                    pattern: plan.series[series].place.clone(),
                    shift: plan.series[series].shift.0,
                    made: vec![("samples".to_owned(), made.to_string())],
                })
                .line(),
            ),
            Step::Landed { series, frame, bytes, digest } => text.push_str(&landed(series, frame, bytes, digest, "")),
            Step::Late { series, frame } => text.push_str(&Event::Late { series: id(series), frame }.line()),
            Step::Call { series, first, ended, landed: lands } => {
                let (call, frames) = (format!("call{at}"), Frames::range(first, first + 2));
                let job = plan.jobs[plan.series[series].job].name.clone();
                let (started, seconds) = (at as f64, 2.0);
                let begun = Started {
                    call: call.clone(),
                    job,
                    series: vec![id(series)],
                    frames,
                    t: started,
                    ..Started::default()
                };
                text.push_str(&Event::Started(begun).line());
                if lands {
                    text.push_str(&landed(series, first, 1, 0, &call));
                }
                if ended {
                    let end =
                        Ended { call, seconds, t: started + seconds, files: i64::from(lands), ..Ended::default() };
                    text.push_str(&Event::Ended(end).line());
                }
            }
            Step::Failed { series, frame } => {
                let (job, series) = (plan.jobs[plan.series[series].job].name.clone(), vec![id(series)]);
                let (call, why, log) = ("call0".to_owned(), "ended with 1".to_owned(), String::new());
                text.push_str(&Event::Failed { call, job, series, frames: Frames::one(frame), why, log }.line());
            }
            Step::Torn(bytes) => {
                let line = landed(0, 1, 9, 9, "a call whose line is never whole");
                text.push_str(&line[..bytes.min(line.len() - 2)]);
                text.push('\n');
            }
            Step::Over => text.push_str(
                &Event::Over {
                    landed: 0,
                    missing: 0,
                    outcome: "complete".to_owned(),
                    t: at as f64,
                    estimated: None,
                    took: None,
                }
                .line(),
            ),
        }
    }
    text
}

/// One landing: bytes, first byte of its digest, what it was made of.
type Fact = (u64, u8, String);

/// By pattern and number what landed, read slowly.
fn slowly(texts: &[&str]) -> BTreeMap<(String, i64), Vec<Fact>> {
    let mut all: BTreeMap<(String, i64), Vec<Fact>> = BTreeMap::new();
    for text in texts {
        let mut known: BTreeMap<String, (String, i64, String)> = BTreeMap::new();
        let mut own: Vec<((String, i64), Fact)> = Vec::new();
        for event in event::read(text) {
            match event {
                Event::Series(of) => drop(known.insert(of.series, (of.pattern, of.shift, of.made[0].1.clone()))),
                Event::Landed(landed) => {
                    let Some((pattern, shift, made)) = known.get(&landed.series) else { continue };
                    let digest = u8::from_str_radix(&landed.digest[..2], 16).unwrap();
                    own.push(((pattern.clone(), landed.frame + shift), (landed.bytes, digest, made.clone())));
                }
                Event::Late { series, frame } => {
                    let Some((pattern, shift, _)) = known.get(&series) else { continue };
                    let name = (pattern.clone(), frame + shift);
                    if let Some(at) = own.iter().rposition(|(own, _)| *own == name) {
                        own.remove(at);
                    }
                }
                _ => {}
            }
        }
        for (name, fact) in own {
            let facts = all.entry(name).or_default();
            if facts.last() != Some(&fact) {
                facts.push(fact);
            }
        }
    }
    all
}

fn read(texts: &[&str], depth: Depth, buffer: usize) -> History {
    let mut history = History::default();
    for text in texts {
        history
            .read(BufReader::with_capacity(buffer, text.as_bytes()), depth, &truepath_core::threads::OneByOne)
            .unwrap();
    }
    history.sort();
    history
}

fn facts(history: &History, series: &Series) -> Vec<(i64, Fact)> {
    let fact = |(number, record): &(Number, truepath_core::run::history::Record)| {
        assert!(record.digest.iter().all(|byte| *byte == record.digest[0]));
        (number.value(), (record.bytes, record.digest[0], history.made(record)[0].1.clone()))
    };
    history.of(series).iter().map(fact).collect()
}

fn seen(kind: u8) -> Seen {
    let whole = |width: u32| {
        let (bits, channels) = (Some(Bits::Eight), Some(Channels::Rgb));
        Seen::Whole(Picture { bits, channels, ..Picture::plain("png", width, 9) })
    };
    match kind {
        0 => Seen::Missing,
        1 => Seen::Broken("the file is cut off".to_owned()),
        2 => whole(32),
        3 => Seen::AsLanded,
        _ => whole(16),
    }
}

fn stands(kind: u8) -> Provenance {
    match kind {
        0 => Provenance::Stale("samples 9, was 4".to_owned()),
        1 => Provenance::Changed("3 bytes, landed with 2".to_owned()),
        2 => Provenance::Foreign,
        3 => Provenance::Odd(truepath_core::picture::Oddity {
            kind: truepath_core::picture::OddKind::Black,
            why: "it is black".to_owned(),
        }),
        _ => Provenance::Fresh,
    }
}

/// Frames that share nothing; all of them.
fn apart(parts: &[&Frames]) -> Frames {
    let all = parts.iter().fold(Frames::none(), |sum, part| sum.union(part));
    assert_eq!(all.count(), parts.iter().map(|part| part.count()).sum::<i64>(), "{parts:?}");
    all
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn one_pass_says_what_a_slow_reading_says_wherever_a_journal_is_cut(
        runs in prop::collection::vec(prop::collection::vec(step(), 0..40), 1..4), cut in 0usize..100_000, buffer in 1usize..300,
    ) {
        let (plan, _) = planned(SHEET);
        let mut texts: Vec<String> = runs.iter().enumerate().map(|(at, steps)| journal(&plan, at as u64, steps)).collect();
        let last = texts.last_mut().unwrap();
        last.truncate(last.len() - cut % last.len());
        let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
        let (landings, calls) = (read(&texts, Depth::Landings, buffer), read(&texts, Depth::Calls, 8192));
        let slow = slowly(&texts);
        for series in &plan.series {
            let pattern = series.place.clone();
            let expected: Vec<(i64, Fact)> = slow.iter().filter(|((own, _), _)| *own == pattern).flat_map(|((_, number), facts)| facts.iter().map(|fact| (*number, fact.clone()))).collect();
            prop_assert_eq!(&facts(&landings, series), &expected);
            prop_assert_eq!(&facts(&calls, series), &expected);
            // Of a file on disk: the newest landing of its size, else the newest of all.
            for (number, bytes) in (1..=112).flat_map(|number| [(number, 1u64), (number, 2), (number, 9)]) {
                let own: Vec<&Fact> = expected.iter().filter(|(own, _)| *own == number).map(|(_, fact)| fact).collect();
                let same = own.iter().rev().find(|fact| fact.0 == bytes);
                let wanted = same.or(own.last()).map(|fact| (fact.0, fact.1, fact.0 == bytes));
                let found = past(landings.of(series), Number::new(number), bytes);
                prop_assert_eq!(found.map(|(record, same)| (record.bytes, record.digest[0], same)), wanted);
                let stood = standing(found, bytes, None);
                prop_assert_eq!(matches!(stood, Provenance::Foreign), own.is_empty());
                prop_assert_eq!(matches!(stood, Provenance::Changed(_)), !own.is_empty() && same.is_none());
            }
        }
        prop_assert_eq!(landings.sessions.len(), texts.len());
        prop_assert!(landings.sessions.iter().all(|session| session.calls.is_empty()));
        for (session, text) in calls.sessions.iter().zip(&texts) {
            let started = event::read(text).filter(|event| matches!(event, Event::Started(_))).count();
            prop_assert_eq!(session.calls.len(), started);
        }
    }

    #[test]
    fn every_frame_has_one_state_and_a_run_asks_for_what_its_state_says(
        found in prop::collection::vec((0u8..8, 0u8..8), 12), runs in prop::collection::vec(prop::collection::vec(step(), 0..30), 0..3),
        alive in prop::collection::vec(any::<bool>(), 3),
    ) {
        let (plan, _) = planned(SHEET);
        let of = |at: usize| {
            let frames = found.iter().enumerate().map(|(frame, (what, how))| (frame as i64 + 1, seen(*what), stands(*how)));
            Verdict::gather((at, &plan.series[at]), (&["beauty"], &plan.policy), frames)
        };
        let verdicts: Vec<Verdict> = (0..plan.series.len()).map(of).collect();
        let verdict = &verdicts[0];
        let states: Vec<&Frames> = STATES.iter().map(|(_, state)| verdict.in_state(*state)).collect();
        prop_assert_eq!(apart(&states), Frames::range(1, 12));
        for (frame, (what, how)) in found.iter().enumerate() {
            let expected = match (what, how) {
                (0, _) => State::Missing,
                (1, _) => State::Broken,
                (2, _) => State::Wrong,
                (_, 0) => State::Stale,
                (_, 1) => State::Changed,
                (_, 2) => State::Foreign,
                (_, 3) => State::Odd,
                _ => State::Good,
            };
            prop_assert!(verdict.in_state(expected).contains(frame as i64 + 1), "{frame} {expected:?} {verdict:?}");
        }
        // Every reason has frames of its own state, and every frame that has one is named once.
        let told: Vec<&Frames> = verdict.findings.iter().map(|(_, _, frames)| frames).collect();
        prop_assert_eq!(apart(&told), Frames::range(1, 12).minus(&verdict.in_any(&[State::Missing, State::Good])));
        prop_assert!(verdict.findings.iter().all(|(state, _, frames)| frames.minus(verdict.in_state(*state)).is_empty()));
        // Never a whole frame that is to be kept; always what is missing or broken.
        let missing = verdict.in_any(&[State::Missing, State::Broken]);
        prop_assert_eq!(outstanding(verdict, Existing::Keep), missing.clone());
        prop_assert_eq!(outstanding(verdict, Existing::Stop), missing.clone());
        prop_assert_eq!(outstanding(verdict, Existing::Renew), missing.union(&verdict.in_any(&[State::Wrong, State::Stale])));
        prop_assert_eq!(outstanding(verdict, Existing::Replace), Frames::range(1, 12));
        prop_assert_eq!(there(verdict), Frames::range(1, 12).minus(verdict.in_state(State::Missing)));
        // Seen with the journals, too, each frame is done, being worked on, given up or missing.
        let texts: Vec<String> = runs.iter().enumerate().map(|(at, steps)| journal(&plan, at as u64, steps)).collect();
        let history = read(&texts.iter().map(String::as_str).collect::<Vec<_>>(), Depth::Calls, 8192);
        let is_alive = |session: &truepath_core::run::history::Session| alive[usize::try_from(session.began.turn).unwrap()];
        let rows = tally(&plan, verdicts.clone(), &history, &is_alive);
        for row in &rows {
            let running = row.running.iter().fold(Frames::none(), |sum, call| sum.union(&call.frames));
            let done = Frames::range(1, 12).minus(&missing);
            let idle = missing.minus(&running).minus(&row.failed);
            prop_assert_eq!(apart(&[&done, &running, &row.failed, &idle]), Frames::range(1, 12));
            let open = history.sessions.iter().filter(|session| is_alive(session)).flat_map(|session| &session.calls);
            let open = open.filter(|call| call.ended.is_none() && call.started.series[0] == plan.series[row.verdict.series].id);
            let asked: BTreeSet<i64> = open.flat_map(|call| call.started.frames.iter().collect::<Vec<_>>()).collect();
            let asked: BTreeSet<i64> = asked.into_iter().filter(|frame| missing.contains(*frame)).collect();
            prop_assert_eq!(running.iter().collect::<BTreeSet<_>>(), asked);
        }
    }
}

#[test]
fn a_journal_that_is_longer_than_what_is_read_at_a_time_loses_no_line() {
    let (plan, _) = planned(&SHEET.replace("1-12", "1-90000"));
    let series = |series: usize| Step::Series { series, made: 1 };
    let landed = |at: i64| Step::Landed { series: at as usize % 2, frame: at / 2 + 1, bytes: at as u64, digest: 7 };
    let steps: Vec<Step> = (0..2).map(series).chain((0..80_000).map(landed)).collect();
    let text = journal(&plan, 0, &steps);
    assert!(text.len() > 8 << 20, "{} bytes", text.len());
    let history = read(&[&text], Depth::Landings, 8192);
    for at in 0..2 {
        let bytes: Vec<(i64, u64)> =
            facts(&history, &plan.series[at]).iter().map(|(number, fact)| (*number, fact.0)).collect();
        let expected: Vec<(i64, u64)> = (0..40_000).map(|frame| (frame + 1, frame as u64 * 2 + at as u64)).collect();
        assert!(bytes == expected, "series {at}: {} of {}", bytes.len(), expected.len());
    }
}
