//! Many members share one folder: simulated, with the decisions that `run --share` makes. Nothing here waits.
//!
//! `cargo bench -p truepath-core --bench sharing`
//!
//! Each member walks through the calls of a plan. It knows the claims of its last listing; to take a call it makes a file,
//! which takes the share some milliseconds and succeeds for the first one only. Some members are lost, some stall for longer
//! than the others wait, some are slow. What a lost member has landed is there, and whoever takes its call over renders the
//! rest.
#![allow(missing_docs, clippy::unwrap_used)]

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::time::Duration;

use truepath_core::run::claim::{ClaimState, Listing, Step, beginning, step};

/// Seconds between two looks of those who have nothing to do, and of silence until calls are taken over.
const PATIENCE: f64 = 5.0;
const TAKEOVER: f64 = 90.0;
/// Seconds that the share takes to make a claim, and to list one of them.
const CREATION: f64 = 0.004;
const NAME: f64 = 5e-6;
/// Frames of a call.
const CHUNK: usize = 12;

/// Chance that can be repeated (Steele, Lea and Flood, "Fast splittable pseudorandom number generators", 2014).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Between half and one and a half of a value; once in a thousand times, a hundred times it: a share that hangs.
    fn about(&mut self, value: f64) -> f64 {
        let hangs = if self.next() < 0.001 { 100.0 } else { 1.0 };
        value * (0.5 + self.next()) * hangs
    }
}

/// A call as the share has it.
#[derive(Clone, Copy)]
struct Call {
    generation: u8,
    owner: u16,
    claimed: f64,
    over: f64,
    landed: u8,
}

struct Member {
    /// Seconds of one frame of the cheapest kind.
    pace: f64,
    /// When it is lost; it never works again.
    lost: f64,
    /// When it stalls, and until when.
    stall: (f64, f64),
    /// When it listed the claims last.
    listed: f64,
    listing: Listing,
    /// Where it begins, and how many calls it has passed over since.
    start: usize,
    walked: usize,
    idle: bool,
}

#[derive(Default)]
struct Counts {
    creations: u64,
    refused: u64,
    listings: u64,
    names: u64,
    looks: u64,
    landed: u64,
    late: u64,
    again: u64,
}

/// A time, in an order that holds for every number.
#[derive(Clone, Copy)]
struct When(f64);

impl PartialEq for When {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for When {}

impl PartialOrd for When {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for When {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.0.total_cmp(&other.0)
    }
}

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Event {
    /// It looks for a call.
    Look,
    /// The share has made its claim, or not.
    Made { call: u32, generation: u8 },
    /// It has rendered a call.
    Rendered { call: u32, generation: u8 },
}

/// All members at work on one plan.
struct Share {
    chance: Chance,
    calls: Vec<Call>,
    costs: Vec<f32>,
    crew: Vec<Member>,
    counts: Counts,
    claims: u64,
    over: usize,
    /// The calls that are not over, once they are few: so many members look through them again and again.
    open: Vec<usize>,
}

impl Share {
    fn new(members: usize, frames: usize, lost: f64) -> Share {
        let mut chance = Chance(members as u64 * 1_000_003 + frames as u64);
        let count = frames.div_ceil(CHUNK);
        let free = Call { generation: 0, owner: u16::MAX, claimed: f64::INFINITY, over: f64::INFINITY, landed: 0 };
        // Frames cost between one and ten times as much.
        let costs: Vec<f32> = (0..count).map(|_| (1.0 + 9.0 * chance.next()) as f32).collect();
        let guess = costs.iter().map(|cost| f64::from(*cost) * CHUNK as f64).sum::<f64>() * 6.0 / members as f64;
        let member = |at: usize| {
            let slow = if chance.next() < 0.05 { 5.0 } else { 1.0 };
            let is_lost = chance.next() < lost && at > 0;
            let stalls = chance.next() < lost / 2.0;
            let (end, stall) = (chance.next() * guess, chance.next() * guess);
            Member {
                pace: 6.0 * slow * (0.7 + 0.6 * chance.next()),
                lost: if is_lost { end } else { f64::INFINITY },
                stall: if stalls { (stall, stall + 3.0 * TAKEOVER) } else { (f64::INFINITY, f64::INFINITY) },
                listed: 0.0,
                listing: Listing::default(),
                start: beginning(count, members, (chance.next() * 16_777_216.0) as u64),
                walked: 0,
                idle: false,
            }
        };
        let crew = (0..members).map(member).collect();
        Share {
            chance,
            calls: vec![free; count],
            costs,
            crew,
            counts: Counts::default(),
            claims: 0,
            over: 0,
            open: Vec::new(),
        }
    }

    /// Until every call is over; how long that took.
    fn run(&mut self) -> f64 {
        let mut now = 0.0;
        let starts = (0..self.crew.len()).map(|at| Reverse((When(at as f64 * 0.01), at, Event::Look)));
        let mut queue: BinaryHeap<Reverse<(When, usize, Event)>> = starts.collect();
        while let Some(Reverse((When(time), who, event))) = queue.pop() {
            if self.over == self.calls.len() {
                break;
            }
            let (lost, stall) = (self.crew[who].lost, self.crew[who].stall);
            // Whoever is lost does nothing more; whoever stalls does it later.
            if time >= lost {
                continue;
            }
            if (stall.0..stall.1).contains(&time) {
                queue.push(Reverse((When(stall.1), who, event)));
                continue;
            }
            now = time;
            let (then, next) = match event {
                Event::Look => self.look(who, time),
                Event::Made { call, generation } => self.made((who, time), call as usize, generation),
                Event::Rendered { call, generation } => self.rendered((who, time), call as usize, generation),
            };
            queue.push(Reverse((When(then), who, next)));
        }
        now
    }

    /// A listing; when it is over.
    fn list(&mut self, who: usize, time: f64) -> f64 {
        let took = 0.005 + self.claims as f64 * NAME;
        let own = &mut self.crew[who];
        own.listed = time;
        own.listing = Listing::made(Duration::from_secs_f64(time), Duration::from_secs_f64(time + took));
        self.counts.listings += 1;
        self.counts.names += self.claims;
        time + took
    }

    fn look(&mut self, who: usize, time: f64) -> (f64, Event) {
        let idle = self.crew[who].idle;
        if idle && self.open.is_empty() && self.calls.len() - self.over < 20_000 {
            self.open = (0..self.calls.len()).filter(|at| self.calls[*at].over.is_infinite()).collect();
        }
        let few = idle && !self.open.is_empty();
        let count = if few { self.open.len() } else { self.calls.len() };
        while self.crew[who].walked < count {
            let own = &self.crew[who];
            let at = (own.start + own.walked) % count;
            let at = if few { self.open[at] } else { at };
            let call = self.calls[at];
            let generation = u64::from(call.generation);
            let standing = if call.over <= own.listed || call.owner as usize == who && call.over <= time {
                ClaimState::Over { generation }
            } else if call.claimed <= own.listed || call.owner as usize == who {
                ClaimState::Held { generation }
            } else {
                ClaimState::Free
            };
            let (counts, crew) = (&mut self.counts, &self.crew);
            let mut is_void = |_: u64| {
                counts.looks += 1;
                let other = &crew[call.owner as usize];
                let stalls = (other.stall.0 + TAKEOVER..other.stall.1).contains(&time);
                call.owner as usize != who && (time >= other.lost + TAKEOVER || stalls)
            };
            match step(standing, idle.then_some(&mut is_void)) {
                Step::Claim { generation } => {
                    self.counts.creations += 1;
                    let made = Event::Made { call: at as u32, generation: generation as u8 };
                    return (time + self.chance.about(CREATION), made);
                }
                Step::Leave | Step::Strike => self.crew[who].walked += 1,
            }
        }
        // Nothing is left but what others have: now that is looked at, and then again and again.
        self.crew[who].walked = 0;
        self.crew[who].idle = true;
        let rest = self.crew[who].listing.rest().as_secs_f64();
        let listed = self.list(who, if idle { time + rest.max(PATIENCE) } else { time });
        (listed, Event::Look)
    }

    fn made(&mut self, (who, time): (usize, f64), call: usize, generation: u8) -> (f64, Event) {
        let own = &mut self.calls[call];
        if own.generation >= generation {
            self.counts.refused += 1;
            self.crew[who].walked += 1;
            let is_due = self.crew[who].listing.refused(Duration::from_secs_f64(time));
            let then = if is_due { self.list(who, time) } else { time };
            return (then, Event::Look);
        }
        self.claims += 1;
        self.counts.again += u64::from(generation > 1);
        (own.generation, own.owner, own.claimed) = (generation, who as u16, time);
        // What has landed is there: only the rest is rendered.
        let left = CHUNK - own.landed as usize;
        let seconds = f64::from(self.costs[call]) * self.crew[who].pace * left as f64;
        let end = time + seconds;
        if end >= self.crew[who].lost {
            // What it lands before it is lost.
            let done = ((self.crew[who].lost - time) / seconds * left as f64) as u8;
            own.landed += done;
            self.counts.landed += u64::from(done);
        }
        (end, Event::Rendered { call: call as u32, generation })
    }

    fn rendered(&mut self, (who, time): (usize, f64), call: usize, generation: u8) -> (f64, Event) {
        let own = &mut self.calls[call];
        let left = u64::from(CHUNK as u8 - own.landed);
        if own.generation == generation {
            self.counts.landed += left;
            own.landed = CHUNK as u8;
            own.over = time;
            self.over += 1;
            self.claims += 1;
        } else {
            // It was taken over: nothing of it lands.
            self.counts.late += left;
        }
        self.crew[who].idle = false;
        (time, Event::Look)
    }
}

fn main() {
    let sizes = [
        (1, 10_000),
        (16, 100_000),
        (17, 100_000),
        (100, 100_000),
        (100, 1_000_000),
        (1000, 1_000_000),
        (1000, 10_000_000),
    ];
    println!("members     frames  lost    taken  creations  of these   listings  names read  looks at  makespan");
    println!("                            over   a frame    in vain    a frame   a frame     claims    to ideal");
    for (members, frames) in sizes {
        for lost in [0.0, 0.1] {
            let mut share = Share::new(members, frames, lost);
            let makespan = share.run();
            assert_eq!(share.over, share.calls.len(), "calls were lost");
            let planned = share.calls.len() * CHUNK;
            assert_eq!(share.counts.landed as usize, planned, "frames landed twice, or not at all");
            let work: f64 = share.costs.iter().map(|cost| f64::from(*cost) * CHUNK as f64).sum();
            let speed: f64 = share.crew.iter().map(|member| member.lost.min(makespan) / makespan / member.pace).sum();
            let counts = &share.counts;
            let each = |count: u64| count as f64 / planned as f64;
            println!(
                "{members:>7} {frames:>10}  {:>3.0}%  {:>6}  {:>9.4}  {:>9.4}  {:>9.5}  {:>10.2}  {:>8.4}  {:>8.3}",
                lost * 100.0,
                counts.again,
                each(counts.creations),
                each(counts.refused),
                each(counts.listings),
                each(counts.names),
                each(counts.looks),
                makespan / (work / speed)
            );
        }
    }
    println!("each time every frame landed once, and no call was lost");
}
