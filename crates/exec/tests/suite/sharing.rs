//! Members whose folder for claims fails: the error is reported, the member stops, and the files it made stay whole.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use crate::support::{Act, Fakes, Morning, Night, until};
use truepath_core::frames::Frames;
use truepath_core::run::event::Event;
use truepath_exec::landing::Disk;
use truepath_exec::share::{Agreed, ClaimWish, Claims, Member, Times};

/// Nobody is silent for so long, however busy this machine is.
const CALM: Times = Times { heartbeat: Duration::from_millis(50), takeover: Duration::from_secs(3000) };
/// Silence that is over soon.
const SHORT: Times = Times { heartbeat: Duration::from_millis(50), takeover: Duration::from_millis(400) };

const PLAN: Agreed<'_> = Agreed { name: "plan", meant: None };

fn night() -> Night {
    Night::new(&[("quay", 40, None), ("mast", 20, None)], "workers = 1\nchunk = 2")
}

fn share(night: &Night, fakes: &Fakes, show: impl FnMut(&[Event], &Claims)) -> Morning {
    let journal = night.open_journal(true);
    let claims = Claims::join(&night.state(), PLAN, &Member::own("here", &journal), CALM, false).unwrap();
    let mut show = show;
    let morning = night.run_sharing(fakes, &Disk, (&journal, Some(&claims)), |events| show(events, &claims));
    claims.leave();
    morning
}

#[test]
fn three_members_make_every_call_once() {
    let night = night();
    let all: Vec<(Fakes, Morning)> = std::thread::scope(|scope| {
        let one = |slow: u64| {
            let night = &night;
            scope.spawn(move || {
                let fakes = Fakes::new(&[slow, 1, 3], |_, _| Act::Writes);
                let morning = share(night, &fakes, |_, _| {});
                (fakes, morning)
            })
        };
        [one(0), one(2), one(7)].into_iter().map(|member| member.join().unwrap()).collect()
    });
    let mut times: BTreeMap<(String, i64), usize> = BTreeMap::new();
    for (fakes, morning) in &all {
        assert!(morning.ended.is_ok(), "{:?}", morning.ended);
        for job in ["quay", "mast"] {
            fakes.started(job).iter().flat_map(Frames::iter).for_each(|frame| {
                *times.entry((job.to_owned(), frame)).or_default() += 1;
            });
        }
    }
    assert!(times.len() == 60 && times.values().all(|count| *count == 1), "{times:?}");
    let landed: i64 = all.iter().map(|(_, morning)| morning.ended.as_ref().unwrap().landed).sum();
    assert_eq!(landed, 60);
}

#[test]
fn what_a_broken_member_has_not_failed_at_is_made_by_another() {
    let night = Night::new(&[("quay", 40, None)], "workers = 2\nchunk = 1\nretries = 1");
    let has_given_up = Arc::new(AtomicBool::new(false));
    let (broken, sound) = std::thread::scope(|scope| {
        let (seen, night) = (has_given_up.clone(), &night);
        let sound = scope.spawn(move || {
            let fakes = Fakes::new(&[1], move |_, _| {
                until("the other one gives up", || seen.load(Ordering::SeqCst));
                Act::Writes
            });
            share(night, &fakes, |_, _| {})
        });
        until("it has begun", || night.state().claims().is_dir());
        let fakes = Fakes::new(&[0, 3], |_, _| Act::WritesNothing);
        let broken = share(night, &fakes, |events, _| {
            if events.iter().any(|event| matches!(event, Event::GaveUp { .. })) {
                has_given_up.store(true, Ordering::SeqCst);
            }
        });
        (broken, sound.join().unwrap())
    });
    assert!(broken.ended.unwrap().gave_up && !sound.ended.unwrap().gave_up);
    let failed = broken.events.iter().filter_map(|event| match event {
        Event::Failed { frames, .. } => Some(frames.clone()),
        _ => None,
    });
    let failed = failed.fold(Frames::none(), |sum, frames| sum.union(&frames));
    assert!(!failed.is_empty());
    assert_eq!(sound.there["quay"], Frames::range(1, 40).minus(&failed), "{failed}");
}

#[test]
fn claims_that_can_no_longer_be_read_or_written_stop_the_member() {
    // The folder goes away; or a file stands where claims are made.
    for replace in [false, true] {
        let night = night();
        let fakes = Fakes::new(&[20], |_, _| Act::Writes);
        let folder = night.state().claims();
        let morning = share(&night, &fakes, |events, _| {
            if events.iter().any(|event| matches!(event, Event::Landed(_))) && folder.is_dir() {
                // Others may make files in it while it goes.
                while folder.is_dir() {
                    let _ = std::fs::remove_dir_all(&folder);
                }
                if replace {
                    std::fs::write(&folder, "no folder").unwrap();
                }
            }
        });
        let failure = morning.ended.unwrap_err();
        let words = ["cannot read the claims in", "cannot write the claim"];
        assert!(words.iter().any(|words| failure.message.starts_with(words)), "{failure}");
        let whole = morning.there.values().map(Frames::count).sum::<i64>();
        assert!((1..60).contains(&whole), "{:?}", morning.there);
    }
}

#[test]
fn a_silent_members_calls_are_taken_over_and_it_finds_out() {
    let night = night();
    let (first, second) = (night.open_journal(true), night.open_journal(true));
    let covers = vec![("quay".to_owned(), Frames::range(1, 2))];
    let join = |journal| Claims::join(&night.state(), PLAN, &Member::own("elsewhere", journal), SHORT, false).unwrap();
    // The first one never gives a sign of life; both are this very process, so that only silence can tell.
    let (silent, alive) = (join(&first), join(&second));
    assert_eq!(silent.wish("quay_1-2", &covers, true).unwrap(), ClaimWish::Granted { again: false });
    alive.look().unwrap();
    assert_eq!(alive.wish("quay_1-2", &covers, true).unwrap(), ClaimWish::Held);
    assert!(silent.is_mine("quay_1-2"));
    until("the end of its patience", || {
        alive.look().unwrap();
        alive.wish("quay_1-2", &covers, true).unwrap() == ClaimWish::Granted { again: true }
    });
    assert!(!silent.is_mine("quay_1-2") && alive.is_mine("quay_1-2"));
    // Its own end of the call counts no longer.
    silent.done("quay_1-2", "").unwrap();
    silent.look().unwrap();
    assert_eq!(silent.wish("quay_1-2", &covers, true).unwrap(), ClaimWish::Held);
    alive.done("quay_1-2", "").unwrap();
    silent.look().unwrap();
    assert_eq!(silent.wish("quay_1-2", &covers, true).unwrap(), ClaimWish::Over);
}

#[test]
fn of_members_with_other_plans_one_has_each_frame_and_whoever_comes_second_waits_or_yields() {
    let night = night();
    let join = |name: &'static str| {
        let journal = night.open_journal(true);
        let plan = Agreed { name, meant: None };
        Claims::join(&night.state(), plan, &Member::own("here", &journal), CALM, false).unwrap()
    };
    let of = |first, last| vec![("quay".to_owned(), Frames::range(first, last))];
    let (low, high) = (join("a"), join("b"));
    let wish = |claims: &Claims, call: &str, covers: &Vec<(String, Frames)>| {
        claims.look().unwrap();
        claims.wish(call, covers, true).unwrap()
    };
    let granted = ClaimWish::Granted { again: true };
    assert_eq!(wish(&low, "quay_1-6", &of(1, 6)), granted);
    // Frames that the other has wait, others do not.
    assert_eq!(wish(&high, "quay_4-9", &of(4, 9)), ClaimWish::Held);
    assert_eq!(wish(&high, "quay_7-9", &of(7, 9)), granted);
    low.done("quay_1-6", "").unwrap();
    assert_eq!(wish(&high, "quay_4-9", &of(4, 9)), granted);
    // A member that has left has nothing any more.
    high.leave();
    assert_eq!(wish(&low, "quay_4-8", &of(4, 8)), granted);
    low.leave();
    // Two that claim at the same moment: many times, by threads, and never both.
    let night = &night;
    for round in 1..=40i64 {
        let begun = std::sync::Mutex::new(BTreeMap::new());
        std::thread::scope(|scope| {
            for (name, size) in [("c", 4), ("d", 6), ("e", 9)] {
                let (begun, of) = (&begun, &of);
                scope.spawn(move || {
                    let journal = night.open_journal(true);
                    let name = format!("{name}{round}");
                    let plan = Agreed { name: &name, meant: None };
                    let claims =
                        Claims::join(&night.state(), plan, &Member::own("here", &journal), CALM, false).unwrap();
                    let mut left: Vec<i64> = (0..36 / size).collect();
                    while !left.is_empty() {
                        left.retain(|part| {
                            let covers = of(part * size + 1 + 100 * round, part * size + size + 100 * round);
                            claims.look().unwrap();
                            let call = format!("quay_{part}");
                            if claims.wish(&call, &covers, true).unwrap() == ClaimWish::Held {
                                return true;
                            }
                            let mut now = begun.lock().unwrap();
                            for frame in covers[0].1.iter() {
                                assert_eq!(now.insert(frame, size), None, "frame {frame} has two members");
                            }
                            drop(now);
                            std::thread::yield_now();
                            let mut now = begun.lock().unwrap();
                            for frame in covers[0].1.iter() {
                                now.remove(&frame);
                            }
                            drop(now);
                            claims.done(&call, "").unwrap();
                            false
                        });
                    }
                    claims.leave();
                });
            }
        });
    }
}
