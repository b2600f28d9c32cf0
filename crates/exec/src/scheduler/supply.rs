//! The calls that are left, the workers and licences for them, and when a job is given up. It waits for nothing and starts
//! nothing: it answers which call can start now.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use super::context::OwedFile;

/// After so many calls of a job of which nothing came out, the rest of it is left alone.
pub const HOPELESS: u64 = 3;
/// The same by starts of its renderer: with one complaint, and with several.
const FRUITLESS: (u64, u64) = (6, 8);
/// So many starts with one complaint are enough where as many as that have been made, those under way included.
const ALIKE: u64 = 3;

/// Starts of one order in vain before others of its job go first.
const TWICE: u64 = 2;

/// Something to be made, and what it needs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Order<C> {
    /// What is to be made.
    pub call: C,
    /// The job it belongs to.
    pub job: usize,
    /// Licences that it needs.
    pub licences: Vec<String>,
    /// How often it was tried without a file before others of its job went first.
    pub tried: u64,
    /// What it lacked then.
    pub lacked: BTreeSet<OwedFile>,
    /// Places in the order of the plan of those that have to be over first.
    pub after: Vec<u64>,
}

/// What came of a job.
#[derive(Debug, Default)]
struct Yield {
    /// Files that landed.
    landed: i64,
    /// Calls that failed for good.
    failed: u64,
    /// Starts, those under way included.
    begun: u64,
    /// Starts of which it is not known yet what came of them.
    under_way: u64,
    /// Starts that gave no file since the last one that gave one: all, and those in a row with one complaint.
    fruitless: (u64, u64),
    complaint: String,
    /// Starts in a row whose files were not believed, and how they ended.
    unbelieved: (u64, String),
}

impl Yield {
    /// Whether nothing has landed, enough has failed alike, and no further start is worth it.
    fn is_exhausted(&self) -> bool {
        self.landed == 0 && self.fruitless.1 >= ALIKE && self.begun >= FRUITLESS.1
    }
}

/// An order that was taken, with what it holds.
#[derive(Debug)]
pub struct TakenOrder<C> {
    /// The order.
    pub order: Order<C>,
    /// Its place in the order of the plan; also its ticket in the line for a worker.
    pub ticket: u64,
    /// The worker that it has; without one it has to stand in line.
    pub worker: Option<usize>,
    /// Whether it holds its licences.
    pub licensed: bool,
}

/// Who waits for a worker.
#[derive(Debug)]
struct Queued<W> {
    job: usize,
    licences: Vec<String>,
    /// Whether it holds them already.
    licensed: bool,
    who: W,
}

/// What is left to be done, and with what. `C` is what is to be made, `W` who waits for a worker.
#[derive(Debug)]
pub struct Supply<C, W> {
    /// Orders that nobody has taken, in their order.
    queue: BTreeMap<u64, Order<C>>,
    /// Those that are over or were left, by their places in the order of the plan.
    over: HashSet<u64>,
    /// The place in the order of the plan of each that was put behind all others, by its ticket.
    places: HashMap<u64, u64>,
    /// The highest ticket so far.
    last: u64,
    /// Orders that were taken, and of which it is not known yet whether they may be made here.
    asked: usize,
    /// Workers that are free.
    free: BTreeSet<usize>,
    /// Licences that are free, by name; those that nobody counts are always.
    licences: BTreeMap<String, i64>,
    /// Who is on the way to the line: nobody behind is served before.
    coming: BTreeSet<u64>,
    line: BTreeMap<u64, Queued<W>>,
    /// What came of each job.
    yields: HashMap<usize, Yield>,
    /// Jobs that are left alone.
    given_up: HashSet<usize>,
    /// Jobs of which nothing has come out in so many starts.
    hopeless: HashSet<usize>,
    /// Whether no job is ever given up for that.
    keep_going: bool,
    /// Files that landed.
    pub landed: i64,
}

impl<C, W> Supply<C, W> {
    /// All of `orders`, with `workers` and counted licences.
    #[must_use]
    pub fn new(orders: Vec<Order<C>>, workers: usize, licences: BTreeMap<String, i64>) -> Supply<C, W> {
        Supply {
            last: orders.len() as u64,
            queue: (0..).zip(orders).collect(),
            over: HashSet::new(),
            places: HashMap::new(),
            asked: 0,
            free: (1..=workers).collect(),
            licences,
            coming: BTreeSet::new(),
            line: BTreeMap::new(),
            yields: HashMap::new(),
            given_up: HashSet::new(),
            hopeless: HashSet::new(),
            keep_going: false,
            landed: 0,
        }
    }

    /// The same, with no job ever given up because nothing comes out of it.
    #[must_use]
    pub fn keep_going(self, keep_going: bool) -> Supply<C, W> {
        Supply { keep_going, ..self }
    }

    /// Whether nothing is left to be taken, for good.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.queue.is_empty() && self.asked == 0
    }

    /// Whether a worker is free while orders are left that could not be taken.
    #[must_use]
    pub fn is_idle(&self) -> bool {
        !self.free.is_empty() && !self.queue.is_empty()
    }

    /// Takes the first order with a ticket of at least `from` for which there are licences now, and a worker if one is free
    /// that nobody before waits for. With `at_once`, only where there is a worker. [`Supply::granted`],
    /// [`Supply::put_back`] or [`Supply::dropped`] has to follow.
    pub fn take(&mut self, from: u64, at_once: bool) -> Option<TakenOrder<C>> {
        let free = if at_once || (self.coming.is_empty() && self.line.is_empty()) { self.free.first() } else { None };
        let worker = free.copied();
        if at_once && worker.is_none() {
            return None;
        }
        let fits = |order: &Order<C>| order.licences.iter().all(|name| self.licences.get(name).is_none_or(|n| *n > 0));
        let ready = |order: &Order<C>| order.after.iter().all(|place| self.over.contains(place));
        let may_be = |order: &Order<C>| fits(order) && ready(order);
        let ticket = self.queue.range(from..).find(|(_, order)| may_be(order)).map(|(ticket, _)| *ticket)?;
        let ticket = self.instead(ticket, may_be);
        let order = self.queue.remove(&ticket)?;
        self.count(&order.licences, -1);
        match worker {
            Some(worker) => drop(self.free.remove(&worker)),
            None => drop(self.coming.insert(ticket)),
        }
        self.asked += 1;
        Some(TakenOrder { order, ticket, worker, licensed: true })
    }

    /// The order may be made here.
    pub fn granted(&mut self) {
        self.asked -= 1;
    }

    /// Somebody else has the order: it may become free again.
    pub fn put_back(&mut self, mut taken: TakenOrder<C>) {
        self.asked -= 1;
        self.release(&mut taken);
        self.queue.insert(taken.ticket, taken.order);
    }

    /// Somebody else has taken an order over that was granted here: it is watched until it is over.
    pub fn watch(&mut self, mut taken: TakenOrder<C>) {
        self.release(&mut taken);
        self.queue.insert(taken.ticket, taken.order);
    }

    /// Somebody else has made it.
    pub fn dropped(&mut self, mut taken: TakenOrder<C>) {
        self.asked -= 1;
        self.release(&mut taken);
        self.finished(taken.ticket);
    }

    /// An order is over, whatever came of it; those that come after it may be taken.
    pub fn finished(&mut self, ticket: u64) {
        self.over.insert(self.places.get(&ticket).copied().unwrap_or(ticket));
    }

    /// Gives back what an order holds.
    pub fn release(&mut self, taken: &mut TakenOrder<C>) {
        self.coming.remove(&taken.ticket);
        self.free.extend(taken.worker.take());
        if std::mem::take(&mut taken.licensed) {
            self.count(&taken.order.licences, 1);
        }
    }

    /// A worker and the licences of its call are free again.
    pub fn give(&mut self, worker: usize, licences: &[String]) {
        self.free.insert(worker);
        self.count(licences, 1);
    }

    /// Stands in line for a worker, and for the licences where they are not held.
    pub fn stand(&mut self, taken: &mut TakenOrder<C>, who: W) {
        self.coming.remove(&taken.ticket);
        self.free.extend(taken.worker.take());
        let (licences, licensed) = (taken.order.licences.clone(), taken.licensed);
        self.line.insert(taken.ticket, Queued { job: taken.order.job, licences, licensed, who });
    }

    /// Those before an order are not waited for any longer: they take too long to get ready.
    pub fn overtake(&mut self, ticket: u64) {
        self.coming.retain(|other| *other >= ticket);
    }

    /// Who gets a worker now, in the order of their tickets. Who waits for a licence keeps nobody else from a worker.
    pub fn serve(&mut self) -> Vec<(usize, W)> {
        let mut served = Vec::new();
        while !self.free.is_empty() {
            let fits = |waiting: &Queued<W>| {
                let licences = || waiting.licences.iter().all(|name| self.licences.get(name).is_none_or(|n| *n > 0));
                (waiting.licensed || licences()) && !self.is_held(waiting.job)
            };
            let first = self.line.iter().find(|(_, waiting)| fits(waiting)).map(|(ticket, _)| *ticket);
            let before = self.coming.first().copied();
            let Some(ticket) = first.filter(|first| before.is_none_or(|before| *first < before)) else { break };
            let job = self.line.get(&ticket).map(|first| first.job);
            if !job.is_some_and(|job| self.may_start(job)) {
                // Its job is given up. The waiting thread learns that when its sender is dropped.
                self.leave_line(|waiting| waiting == ticket);
                continue;
            }
            let (Some(waiting), Some(worker)) = (self.line.remove(&ticket), self.free.pop_first()) else { break };
            if !waiting.licensed {
                self.count(&waiting.licences, -1);
            }
            served.push((worker, waiting.who));
        }
        served
    }

    /// Nobody waits any longer: the run is being ended.
    pub fn close(&mut self) {
        self.line.clear();
    }

    /// A renderer has ended: the `number`th start of its order. The number of starts in a row that gave nothing, where its job
    /// is hopeless for that. `complaint` is what it said.
    #[must_use]
    pub fn tried(&mut self, job: usize, (number, landed): (u64, i64), complaint: &str) -> Option<u64> {
        self.landed += landed;
        let own = self.yields.entry(job).or_default();
        own.landed += landed;
        if landed > 0 {
            own.fruitless = (0, 0);
            own.complaint.clear();
            return None;
        }
        // Where something has come out of the job, one order that is cut into ever smaller parts says nothing about the others.
        if own.landed > 0 && number > TWICE {
            return None;
        }
        let alike = own.complaint == complaint;
        own.fruitless = (own.fruitless.0 + 1, if alike { own.fruitless.1 + 1 } else { 1 });
        complaint.clone_into(&mut own.complaint);
        let starts = own.fruitless.0;
        let is_hopeless = own.fruitless.1 >= FRUITLESS.0 || starts >= FRUITLESS.1 || own.is_exhausted();
        (is_hopeless && !self.keep_going).then(|| {
            self.hopeless.insert(job);
            starts
        })
    }

    /// A renderer has ended, and `how` says in which way where nobody believes that its files are whole. Their number where
    /// so many in a row ended alike that the job is left alone, with `keep_going` too: every further start would be in vain.
    #[must_use]
    pub fn unbelieved(&mut self, job: usize, how: Option<&str>) -> Option<u64> {
        let own = self.yields.entry(job).or_default();
        let Some(how) = how else {
            own.unbelieved = (0, String::new());
            return None;
        };
        let before = if own.unbelieved.1 == how { own.unbelieved.0 } else { 0 };
        own.unbelieved = (before + 1, how.to_owned());
        (own.unbelieved.0 >= HOPELESS).then(|| {
            self.hopeless.insert(job);
            own.unbelieved.0
        })
    }

    /// Counts a start; false where the job is given up, or is about to be by who found that out.
    pub fn may_start(&mut self, job: usize) -> bool {
        let may = !self.has_given_up(job);
        let own = self.yields.entry(job).or_default();
        own.begun += u64::from(may);
        own.under_way += u64::from(may);
        may
    }

    /// It is known what came of a start.
    pub fn known(&mut self, job: usize) {
        self.yields.entry(job).and_modify(|own| own.under_way -= 1);
    }

    /// Whether no further start of a job is made before it is known what came of those under way: without a file from one of
    /// them it is hopeless.
    #[must_use]
    pub fn is_held(&self, job: usize) -> bool {
        let own = self.yields.get(&job);
        !self.keep_going && own.is_some_and(|own| own.is_exhausted() && own.under_way > 0)
    }

    /// Takes orders out of the line; what they hold is free.
    fn leave_line(&mut self, goes: impl Fn(u64) -> bool) {
        let tickets: Vec<u64> = self.line.keys().copied().filter(|ticket| goes(*ticket)).collect();
        for waiting in tickets.iter().filter_map(|ticket| self.line.remove(ticket)).collect::<Vec<_>>() {
            if waiting.licensed {
                self.count(&waiting.licences, 1);
            }
        }
    }

    /// An order is over. True where the rest of its job is to be left alone: nothing of it came out in its first calls.
    #[must_use]
    pub fn ended(&mut self, job: usize, failed: bool) -> bool {
        let own = self.yields.entry(job).or_default();
        own.failed += u64::from(failed);
        (own.landed, own.failed) == (0, HOPELESS)
    }

    /// Whether anything of a job has landed.
    #[must_use]
    pub fn has_landed(&self, job: usize) -> bool {
        self.yields.get(&job).is_some_and(|own| own.landed > 0)
    }

    /// Whether a job is left alone, or is about to be.
    #[must_use]
    pub fn has_given_up(&self, job: usize) -> bool {
        self.given_up.contains(&job) || self.hopeless.contains(&job)
    }

    /// Whether orders of a job wait that were not tried yet.
    fn has_untried(&self, job: usize) -> bool {
        self.queue.values().any(|order| order.job == job && order.tried == 0)
    }

    /// Whether another order of a job is to show first that anything can come out of it now: while nothing does, and this one,
    /// `tried` before, was started twice in vain.
    #[must_use]
    pub fn is_better_later(&self, job: usize, number: u64, tried: u64) -> bool {
        tried == 0 && number >= TWICE && self.fruitless(job) > 0 && self.has_untried(job)
    }

    /// Starts in a row that gave nothing.
    fn fruitless(&self, job: usize) -> u64 {
        self.yields.get(&job).map_or(0, |own| own.fruitless.0)
    }

    /// The order to be taken in place of another one. A job from which something came, and now nothing for two orders, may have
    /// a bad stretch only: its last order shows that before it is given up.
    fn instead(&self, ticket: u64, may_be: impl Fn(&Order<C>) -> bool) -> u64 {
        let Some(first) = self.queue.get(&ticket) else { return ticket };
        if first.tried > 0 || !self.has_landed(first.job) || self.fruitless(first.job) < 2 * TWICE {
            return ticket;
        }
        let own = |order: &Order<C>| order.job == first.job && order.tried == 0 && may_be(order);
        self.queue.range(ticket..).rev().find(|(_, order)| own(order)).map_or(ticket, |(last, _)| *last)
    }

    /// Puts an order that was granted, and tried so often, behind all others, with what it still lacks.
    pub fn postpone(&mut self, mut taken: TakenOrder<C>, tried: u64, lacked: BTreeSet<OwedFile>) {
        self.release(&mut taken);
        self.last += 1;
        let place = self.places.get(&taken.ticket).copied().unwrap_or(taken.ticket);
        self.places.insert(self.last, place);
        self.queue.insert(self.last, Order { tried, lacked, ..taken.order });
    }

    /// Leaves the rest of a job alone. False where that was said before, or, unless it is `stuck`, nothing of it is left.
    pub fn give_up(&mut self, job: usize, stuck: bool) -> bool {
        let before = self.queue.len();
        let left: Vec<u64> =
            self.queue.iter().filter(|(_, order)| order.job == job).map(|(ticket, _)| *ticket).collect();
        left.iter().for_each(|ticket| self.finished(*ticket));
        self.queue.retain(|_, order| order.job != job);
        let own: BTreeSet<u64> =
            self.line.iter().filter(|(_, waiting)| waiting.job == job).map(|(ticket, _)| *ticket).collect();
        self.leave_line(|ticket| own.contains(&ticket));
        (stuck || self.queue.len() < before || !own.is_empty()) && self.given_up.insert(job)
    }

    /// Whether any job was left alone.
    #[must_use]
    pub fn gave_up(&self) -> bool {
        !self.given_up.is_empty()
    }

    fn count(&mut self, licences: &[String], more: i64) {
        for name in licences {
            self.licences.entry(name.clone()).and_modify(|free| *free += more);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use proptest::prelude::*;

    use super::{Order, Supply, TakenOrder};

    /// What can happen to a supply, by a number that picks among what is possible.
    #[derive(Clone, Debug)]
    enum SupplyStep {
        Take { from: u64, at_once: bool },
        Granted(usize),
        PutBack(usize),
        Dropped(usize),
        Stand(usize),
        Overtake(usize),
        Ended(usize),
    }

    fn step() -> impl Strategy<Value = SupplyStep> {
        prop_oneof![
            4 => (0u64..8, any::<bool>()).prop_map(|(from, at_once)| SupplyStep::Take { from, at_once }),
            3 => any::<usize>().prop_map(SupplyStep::Granted),
            1 => any::<usize>().prop_map(SupplyStep::PutBack),
            1 => any::<usize>().prop_map(SupplyStep::Dropped),
            3 => any::<usize>().prop_map(SupplyStep::Stand),
            1 => any::<usize>().prop_map(SupplyStep::Overtake),
            4 => any::<usize>().prop_map(SupplyStep::Ended),
        ]
    }

    fn pick<T>(list: &mut Vec<T>, at: usize) -> Option<T> {
        (!list.is_empty()).then(|| list.remove(at % list.len()))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(600))]
        /// Whatever happens in whatever order: no worker and no licence is given twice, each order is taken once, and all
        /// comes back in the end.
        #[test]
        fn nothing_is_given_twice_and_all_comes_back(
            needs in prop::collection::vec(prop::collection::btree_set(prop_oneof![Just("red"), Just("blue")], 0..3), 1..8),
            workers in 1usize..4,
            steps in prop::collection::vec(step(), 0..80),
        ) {
            let licences: BTreeMap<String, i64> = [("red".to_owned(), 1), ("blue".to_owned(), 2)].into_iter().collect();
            let order = |(call, needs): (usize, &BTreeSet<&str>)| Order {
                call,
                job: call % 2,
                licences: needs.iter().map(|name| (*name).to_owned()).collect(), ..Order::default()
            };
            let mut supply: Supply<usize, u64> = Supply::new(needs.iter().enumerate().map(order).collect(), workers, licences.clone());
            // Taken and not decided; granted, with or without a worker; in line, by ticket; running with a worker.
            let (mut asked, mut ready, mut line, mut running) = (Vec::new(), Vec::new(), Vec::<TakenOrder<usize>>::new(), Vec::new());
            let mut over = Vec::new();
            for step in steps {
                match step {
                    SupplyStep::Take { from, at_once } => asked.extend(supply.take(from, at_once)),
                    SupplyStep::Granted(at) => {
                        if let Some(taken) = pick(&mut asked, at) {
                            supply.granted();
                            ready.push(taken);
                        }
                    }
                    SupplyStep::PutBack(at) => if let Some(taken) = pick(&mut asked, at) { supply.put_back(taken) },
                    SupplyStep::Dropped(at) => if let Some(taken) = pick(&mut asked, at) {
                        over.push(taken.order.call);
                        supply.dropped(taken);
                    },
                    SupplyStep::Stand(at) => if let Some(mut taken) = pick(&mut ready, at) {
                        if let Some(worker) = taken.worker.take() {
                            running.push((worker, taken));
                        } else {
                            let ticket = taken.ticket;
                            supply.stand(&mut taken, ticket);
                            taken.licensed = false;
                            line.push(taken);
                        }
                    },
                    SupplyStep::Overtake(at) => supply.overtake(at as u64 % 8),
                    SupplyStep::Ended(at) => if let Some((worker, taken)) = pick(&mut running, at) {
                        over.push(taken.order.call);
                        supply.give(worker, &taken.order.licences);
                    },
                }
                let served = supply.serve();
                prop_assert!(served.windows(2).all(|pair| pair[0].1 < pair[1].1), "in the order of tickets");
                for (worker, ticket) in served {
                    let at = line.iter().position(|taken| taken.ticket == ticket).expect("it stood in line");
                    running.push((worker, line.remove(at)));
                }
                prop_assert!(supply.licences.values().all(|free| *free >= 0), "{:?}", supply.licences);
                let mut busy: Vec<usize> = running.iter().map(|(worker, _)| *worker).collect();
                busy.extend(asked.iter().chain(&ready).filter_map(|taken| taken.worker));
                busy.extend(&supply.free);
                busy.sort_unstable();
                prop_assert_eq!(busy, (1..=workers).collect::<Vec<_>>(), "each worker is in one place");
                for (name, all) in &licences {
                    let holds = |taken: &&TakenOrder<usize>| taken.order.licences.contains(name);
                    let held = running.iter().map(|(_, taken)| taken).filter(holds).count()
                        + asked.iter().chain(&ready).chain(&line).filter(holds).count();
                    prop_assert_eq!(supply.licences[name] + held as i64, *all, "{}", name);
                }
                let mut calls: Vec<usize> = supply.queue.values().map(|order| order.call).chain(over.iter().copied()).collect();
                calls.extend(asked.iter().chain(&ready).chain(&line).map(|taken| taken.order.call));
                calls.extend(running.iter().map(|(_, taken)| taken.order.call));
                calls.sort_unstable();
                prop_assert_eq!(calls, (0..needs.len()).collect::<Vec<_>>(), "each order is in one place");
                prop_assert_eq!(supply.is_over(), supply.queue.is_empty() && asked.is_empty());
            }
        }
    }

    #[test]
    fn a_job_is_hopeless_by_its_starts_whatever_its_calls_are_cut_to() {
        let mut supply: Supply<usize, ()> = Supply::new(Vec::new(), 1, BTreeMap::new());
        let mut tried = |job, landed, complaint: &str| supply.tried(job, (1, landed), complaint);
        let alike: Vec<Option<u64>> = (0..6).map(|_| tried(0, 0, "no camera")).collect();
        assert_eq!(alike, [None, None, None, None, None, Some(6)]);
        let many: Vec<Option<u64>> = (0..8).map(|at| tried(1, 0, &at.to_string())).collect();
        assert_eq!((many[..7].iter().all(Option::is_none), many[7]), (true, Some(8)));
        let last: Vec<Option<u64>> = (0..9).map(|at| tried(2, i64::from(at == 5), "")).collect();
        assert!(last.iter().all(Option::is_none), "something came out of it");
        assert_eq!(
            [tried(2, 0, ""), tried(2, 0, ""), tried(2, 0, "")],
            [None, None, Some(6)],
            "and then nothing any more"
        );
        assert_eq!(supply.tried(3, (1, 1), ""), None);
        let one: Vec<Option<u64>> = (1..21).map(|number| supply.tried(3, (number, 0), "no camera")).collect();
        assert!(one.iter().all(Option::is_none), "one order in ever smaller parts");
        let next: Vec<Option<u64>> =
            [1, 2, 1, 2].iter().map(|number| supply.tried(3, (*number, 0), "no camera")).collect();
        assert_eq!(next, [None, None, None, Some(6)]);
    }

    #[test]
    fn a_job_whose_last_call_waits_in_line_is_said_to_be_given_up() {
        let orders = vec![Order { call: 0, ..Order::default() }];
        let mut supply: Supply<usize, u64> = Supply::new(orders, 0, BTreeMap::new());
        let mut last = supply.take(0, false).expect("there is one");
        supply.granted();
        let ticket = last.ticket;
        supply.stand(&mut last, ticket);
        assert!(supply.give_up(0, false) && supply.has_given_up(0) && supply.line.is_empty());
    }

    #[test]
    fn a_start_waits_for_those_that_may_show_that_it_is_in_vain() {
        // Whether one of those under way gives a file.
        for lands in [false, true] {
            let orders = (0..12).map(|call| Order { call, ..Order::default() }).collect();
            let mut supply: Supply<usize, u64> = Supply::new(orders, 8, BTreeMap::new());
            for _ in 0..8 {
                supply.take(0, false).expect("there are workers");
                supply.granted();
                assert!(supply.may_start(0));
            }
            for _ in 0..2 {
                assert_eq!(supply.tried(0, (1, 0), "no camera"), None);
                supply.known(0);
            }
            // The third worker is free before it is known what came of its call.
            supply.give(1, &[]);
            let mut ninth = supply.take(0, false).expect("there is a worker");
            supply.granted();
            assert!(!supply.is_held(0));
            let hopeless = supply.tried(0, (1, i64::from(lands)), "no camera");
            assert_eq!((hopeless, supply.is_held(0)), (if lands { None } else { Some(3) }, !lands));
            let ticket = ninth.ticket;
            supply.stand(&mut ninth, ticket);
            assert_eq!(supply.serve().len(), usize::from(lands));
            for _ in 0..6 {
                supply.known(0);
            }
            assert!(!supply.is_held(0), "nothing is under way that could end it");
        }
    }

    #[test]
    fn a_bad_stretch_is_passed_by_its_other_end() {
        let order = |call| Order { call, ..Order::default() };
        let mut supply: Supply<usize, ()> = Supply::new((0..9).map(order).collect(), 1, BTreeMap::new());
        let mut made = Vec::new();
        // Orders 2 to 4 give nothing, whatever is done.
        while let Some(mut taken) = supply.take(0, false) {
            supply.granted();
            let (call, before) = (taken.order.call, taken.order.tried);
            let is_bad = (2..5).contains(&call);
            let hopeless = (1..=2)
                .map(|number| supply.tried(0, (before + number, i64::from(!is_bad)), ""))
                .any(|own| own.is_some());
            assert!(!hopeless, "after {made:?}");
            made.push(call);
            if is_bad && supply.is_better_later(0, before + 2, before) {
                supply.postpone(taken, 2, BTreeSet::new());
            } else {
                supply.release(&mut taken);
            }
        }
        assert_eq!(made, [0, 1, 2, 3, 8, 4, 5, 6, 7, 2, 3, 4]);
    }

    #[test]
    fn what_is_postponed_comes_after_all_others() {
        let orders = (0..3).map(|call| Order { call, ..Order::default() }).collect();
        let mut supply: Supply<usize, ()> = Supply::new(orders, 1, BTreeMap::new());
        let first = supply.take(0, false).expect("there are three");
        supply.granted();
        assert!(supply.has_untried(0));
        supply.postpone(first, 2, BTreeSet::new());
        let mut left = Vec::new();
        while let Some(mut taken) = supply.take(0, false) {
            supply.granted();
            supply.release(&mut taken);
            left.push((taken.order.call, taken.order.tried));
        }
        assert_eq!(left, [(1, 0), (2, 0), (0, 2)]);
        assert!(!supply.has_untried(0) && supply.is_over());
    }

    #[test]
    fn a_job_is_hopeless_when_its_first_calls_gave_nothing() {
        let orders = (0..6).map(|call| Order { call, job: call % 2, ..Order::default() }).collect();
        let mut supply: Supply<usize, ()> = Supply::new(orders, 1, BTreeMap::new());
        assert!(supply.tried(1, (1, 1), "").is_none() && supply.has_landed(1) && !supply.has_landed(0));
        assert_eq!([supply.ended(0, true), supply.ended(0, true), supply.ended(1, true)], [false; 3]);
        assert!(supply.ended(0, true) && supply.give_up(0, false) && supply.gave_up());
        assert!(!supply.ended(1, true) && !supply.ended(1, true), "something came out of it");
        let left: Vec<usize> = std::iter::from_fn(|| supply.take(0, false)).map(|taken| taken.order.call).collect();
        assert_eq!(left, [1, 3, 5]);
        assert!(!supply.give_up(0, true) && !supply.give_up(1, false), "it was said, and nothing is left of the other");
        assert!(supply.give_up(1, true));
    }
}
