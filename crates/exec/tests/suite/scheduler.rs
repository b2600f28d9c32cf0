//! The scheduler with programs that are none: what one of them does wrong costs no other job a frame, and whatever breaks,
//! the run ends.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::Ordering;
use std::sync::{Arc, OnceLock};

use crate::support::{Act, Fakes, Night, Refuses, until};
use proptest::prelude::*;
use truepath_core::frames::Frames;
use truepath_core::run::event::Event;
use truepath_exec::landing::Disk;

fn gave_up(events: &[Event]) -> Vec<(String, String)> {
    let told = events.iter().filter_map(|event| match event {
        Event::GaveUp { job, why } => Some((job.clone(), why.clone())),
        _ => None,
    });
    told.collect()
}

#[test]
fn what_one_program_does_wrong_costs_no_other_job_a_frame() {
    for (act, refused, why, starts) in [
        (Act::NoStart, "nothing", "cannot start", 2),
        (Act::NoLog, "nothing", "cannot write", 0),
        (Act::Writes, "/bad.", "read-only", 2),
        (Act::WritesNothing, "nothing", "produced nothing", 2),
    ] {
        let night = Night::new(&[("bad", 40, None), ("good", 40, None)], "workers = 2\nchunk = 4\nretries = 1");
        let fakes = Fakes::new(&[0], move |job, _| if job == "bad" { act } else { Act::Writes });
        let morning = night.run(&fakes, &Refuses(refused), |_| {});
        let outcome = morning.ended.unwrap_or_else(|failure| panic!("{act:?}: {failure}"));
        assert!(outcome.gave_up && !outcome.interrupted && outcome.landed == 40, "{act:?}: {outcome:?}");
        assert_eq!(morning.there["good"], Frames::range(1, 40), "{act:?}");
        assert!(morning.there["bad"].is_empty(), "{act:?}");
        let good: Vec<String> = fakes.started("good").iter().map(ToString::to_string).collect();
        assert_eq!(good.len(), 10, "each call of the other job is made once: {good:?}");
        // The calls that were under way when it was given up have been made, too.
        assert!(fakes.started("bad").len() <= starts * 4, "{act:?}: {:?}", fakes.started("bad"));
        let given_up = gave_up(&morning.events);
        assert!(given_up.len() == 1 && given_up[0].0 == "bad", "{act:?}: {given_up:?}");
        assert!(given_up[0].1.to_lowercase().contains(why), "{act:?}: {given_up:?}");
        assert_eq!(gave_up(&night.journal()), given_up, "it is written down");
    }
}

#[test]
fn a_panic_anywhere_ends_the_run_with_one_word_and_at_once() {
    for act in [Act::PanicsAtStart, Act::PanicsUnderWay, Act::Writes] {
        let night = Night::new(&[("bad", 40, None), ("long", 40, None)], "workers = 2\nchunk = 4");
        let fakes = Fakes::new(&[0], move |job, _| if job == "bad" { act } else { Act::Hangs });
        let morning = night.run(&fakes, &Disk, |_| assert!(act != Act::Writes, "the display breaks"));
        let failure = morning.ended.unwrap_err();
        assert!(failure.message.starts_with("this is a bug in True Path: "), "{act:?}: {failure}");
        assert!(night.state().lock("here", false).is_ok(), "the lock is free");
    }
}

#[test]
fn a_journal_that_cannot_be_written_stops_the_run_and_nothing_lands_unwritten() {
    let night = Night::new(&[("bad", 40, None), ("long", 8, None)], "workers = 2\nchunk = 4");
    let state = night.folder.path().join(".truepath/s");
    std::fs::create_dir_all(&state).unwrap();
    std::fs::write(state.join("journal"), "a file where the folder belongs").unwrap();
    let fakes = Fakes::new(&[0], |job, _| if job == "bad" { Act::Writes } else { Act::Hangs });
    let morning = night.run(&fakes, &Disk, |_| {});
    let failure = morning.ended.unwrap_err();
    assert!(failure.message.starts_with("cannot write the journal"), "{failure}");
    assert!(morning.there.values().all(Frames::is_empty));
}

#[test]
fn calls_begin_in_their_order_however_long_they_take_to_get_ready() {
    for round in 0..12 {
        let night = Night::new(&[("quay", 24, None)], "workers = 1\nchunk = 2");
        // Every second one is ready late: what comes behind it waits.
        let fakes = Fakes::new(if round % 2 == 0 { &[0, 30] } else { &[15, 0, 40] }, |_, _| Act::Writes);
        let morning = night.run(&fakes, &Disk, |_| {});
        assert_eq!(morning.ended.unwrap().landed, 24);
        let order: Vec<i64> = fakes.started("quay").iter().map(|frames| frames.first().unwrap()).collect();
        assert_eq!(order, (1..24).step_by(2).collect::<Vec<i64>>(), "round {round}");
    }
}

#[test]
fn one_that_never_gets_ready_is_overtaken() {
    let night = Night::new(&[("quay", 6, None)], "workers = 2\nchunk = 1");
    let known: Arc<OnceLock<Fakes>> = Arc::default();
    let seen = known.clone();
    let fakes = Fakes::new(&[0], move |_, frames| {
        if frames.contains(3) {
            until("all others", || seen.get().is_some_and(|fakes| fakes.started("quay").len() == 5));
        }
        Act::Writes
    });
    assert!(known.set(fakes.clone()).is_ok());
    let morning = night.run(&fakes, &Disk, |_| {});
    assert_eq!(morning.ended.unwrap().landed, 6);
    let order: Vec<i64> = fakes.started("quay").iter().map(|frames| frames.first().unwrap()).collect();
    assert_eq!((order[5], order.len()), (3, 6), "{order:?}");
}

#[test]
fn what_landed_before_others_went_first_is_not_made_again() {
    let night = Night::new(&[("mast", 12, None)], "workers = 1\nchunk = 4\nretries = 1");
    let fakes = Fakes::new(&[0], |_, frames| if frames.contains(2) { Act::WritesUntil(2) } else { Act::Writes });
    let morning = night.run(&fakes, &Disk, |_| {});
    assert_eq!(morning.ended.unwrap().landed, 11);
    assert_eq!(morning.there["mast"].to_string(), "1,3-12");
    let starts: Vec<String> = fakes.started("mast").iter().map(ToString::to_string).collect();
    assert_eq!(starts.iter().filter(|frames| frames.starts_with("1-")).count(), 1, "{starts:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    /// Any jobs with any frames that fail: all others land once, what fails is named, no worker and no licence is given
    /// twice.
    #[test]
    fn whatever_fails_everything_else_lands_once(
        jobs in prop::collection::vec((1i64..9, prop::option::of(0usize..2), prop::collection::btree_set(1i64..9, 0..3)), 1..4),
        workers in 1usize..4,
        chunk in 1i64..5,
        retries in 0i64..2,
        slow in prop::collection::vec(0u64..4, 1..4),
    ) {
        let names = ["quay", "mast", "buoy"];
        let licences = ["red", "blue"];
        let of: Vec<(&str, i64, Option<&str>)> =
            jobs.iter().zip(names).map(|((frames, licence, _), name)| (name, *frames, licence.map(|at| licences[at]))).collect();
        let night = Night::new(&of, &format!("workers = {workers}\nchunk = {chunk}\nretries = {retries}\nlicences = {{ red = 1, blue = 2 }}"));
        let fails: BTreeMap<String, BTreeSet<i64>> = names.iter().zip(&jobs).map(|(name, (.., fails))| ((*name).to_owned(), fails.clone())).collect();
        let own = fails.clone();
        let fakes = Fakes::new(&slow, move |job, frames| {
            own[job].iter().find(|frame| frames.contains(**frame)).map_or(Act::Writes, |frame| Act::WritesUntil(*frame))
        });
        let morning = night.run(&fakes, &Disk, |_| {});
        let outcome = morning.ended.unwrap();
        let left: BTreeSet<String> = gave_up(&morning.events).into_iter().map(|(job, _)| job).collect();
        prop_assert!(fakes.0.most.load(Ordering::SeqCst) <= workers);
        let mut landed: BTreeMap<String, Vec<i64>> = BTreeMap::new();
        let journal = night.journal();
        for event in &journal {
            if let Event::Landed(one) = event {
                landed.entry(one.series.split('/').next().unwrap().to_owned()).or_default().push(one.frame);
            }
        }
        prop_assert_eq!(landed.values().map(Vec::len).sum::<usize>(), usize::try_from(outcome.landed).unwrap(), "{:#?}", journal);
        for (name, frames, _) in &of {
            let lost: BTreeSet<i64> = fails[*name].iter().copied().filter(|frame| frame <= frames).collect();
            let good = Frames::range(1, *frames).minus(&Frames::from_ascending(lost.iter().copied()));
            let mut own = landed.remove(*name).unwrap_or_default();
            own.sort_unstable();
            let there = morning.there[*name].clone();
            prop_assert_eq!(Frames::from_ascending(own.iter().copied()).count(), own.len() as i64, "each once");
            prop_assert_eq!(&Frames::from_any(own), &there);
            if left.contains(*name) {
                prop_assert!(there.is_empty() || !lost.is_empty());
            } else {
                prop_assert_eq!(there, good, "{}", name);
            }
            let named = morning.events.iter().filter_map(|event| match event {
                Event::Failed { job, frames, .. } if job == name => Some(frames.clone()),
                _ => None,
            });
            let named = named.fold(Frames::none(), |sum, frames| sum.union(&frames));
            prop_assert!(left.contains(*name) || named == Frames::from_ascending(lost.iter().copied()), "{} {}", name, named);
        }
    }
}
