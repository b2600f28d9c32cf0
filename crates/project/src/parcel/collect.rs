//! What came out of parcels, checked and landed. Nothing in a parcel is started, and nothing that it says of
//! itself is believed: what it held is known from what its sender kept.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use sha2::{Digest, Sha256};
use truepath_core::check::Machine;
use truepath_core::frames::Frames;
use truepath_core::invoke::quote;
use truepath_core::invoke::stage::stage_base;
use truepath_core::parcel::{self, Packed};
use truepath_core::picture::Oddity;
use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths;
use truepath_core::run::event::{Ended, Event, Started};
use truepath_core::run::fingerprint::{Fingerprint, RENDERER, UNKNOWN};
use truepath_core::run::history::{Depth, History, NO_DIGEST, PastCall, Record, past};
use truepath_core::template::slug;
use truepath_core::verify::{State, Verdict};
use truepath_exec::disk;
use truepath_exec::failure::{Failure, Trouble};
use truepath_exec::landing::{Disk, Fate, Landing, Watcher, land, recover, stage};
use truepath_exec::looking::Looking;
use truepath_exec::observe::Look;
use truepath_exec::state::journal::{self, Journal, Opening};

use super::collected::Collected;
use super::sent::{self, SentParcel};
use crate::alone::{Alone, alone};
use crate::open::Loaded;
use crate::surroundings::Surroundings;

/// Parcels that are being collected into a project, in any order, as often as anybody likes. Nobody renders its sheet meanwhile.
pub struct Collection<'c> {
    loaded: &'c Loaded,
    around: &'c Surroundings,
    _held: Alone,
}

impl<'c> Collection<'c> {
    /// Holds the sheet that parcels were packed from.
    ///
    /// # Errors
    /// While anybody renders it.
    pub fn begin(loaded: &'c Loaded, around: &'c Surroundings) -> Result<Collection<'c>, Failure> {
        Ok(Collection { loaded, around, _held: alone(loaded, around)? })
    }

    /// One parcel: compared with what the ones before it brought, and landed. What is wrong with it is its own affair; what this
    /// project cannot do ends the collection.
    ///
    /// # Errors
    /// Which of the two it is.
    pub fn one(&self, path: &Path) -> Result<Collected, Trouble> {
        let (before, now) = again(self.loaded).map_err(Trouble::Run)?;
        let sent = sent::open(path, self.loaded)?;
        let collecting = Collecting { loaded: self.loaded, now: &now.history, sent: &sent, around: self.around };
        collecting.all(&before).map_err(Trouble::Run)
    }

    /// What lies in the project after all of them.
    ///
    /// # Errors
    /// When the disk cannot be looked at.
    pub fn end(self) -> Result<Vec<Verdict>, Failure> {
        let loaded = self.loaded;
        drop(self);
        recover::remove_empty_bases(&loaded.plan);
        Ok(again(loaded)?.0)
    }
}

/// What lies in the project now, with what its journals say.
fn again(loaded: &Loaded) -> Result<(Vec<Verdict>, Machine), Failure> {
    let machine = loaded.ground_now()?;
    let told = |_: u64| {};
    let (plan, state, look) = (&loaded.plan, &loaded.state, Look::Heads);
    let verdicts = Looking { plan, machine: &machine, state, look, beside: &[], told: &told }.all()?;
    Ok((verdicts, machine))
}

/// A parcel that is being collected.
struct Collecting<'c> {
    loaded: &'c Loaded,
    /// What the project's journals say.
    now: &'c History,
    /// The parcel.
    sent: &'c SentParcel,
    around: &'c Surroundings,
}

/// What is written down and looked at while the files of one run of the parcel land.
struct ParcelSession<'g> {
    journal: &'g Journal,
    watcher: Watcher,
}

impl ParcelSession<'_> {
    /// Writes down what is odd about a file, and remembers to say it.
    fn tell(&self, series: &str, (frame, odd): (i64, Oddity), told: &mut Collected) -> Result<(), Failure> {
        let series = series.to_owned();
        told.odd.entry((series.clone(), odd.why.clone())).or_default().push(frame);
        self.journal.write(&Event::Odd { series, frame, check: odd.kind.check().to_owned(), why: odd.why })
    }
}

/// A file that may be landed: the output of the plan, its frame, and what the parcel's journals say of it.
struct Sent<'c> {
    at: usize,
    packed: &'c Packed,
    frame: i64,
    record: Record,
}

impl Collecting<'_> {
    fn all(&self, before: &[Verdict]) -> Result<Collected, Failure> {
        let mut told = Collected::default();
        let mut sent: BTreeMap<u32, Vec<Sent<'_>>> = BTreeMap::new();
        for packed in &self.sent.own.series {
            let plan = &self.loaded.plan;
            let Some(at) = plan.series.iter().position(|series| series.place == packed.place) else {
                let why = self.unplanned();
                packed.frames.iter().for_each(|frame| told.leave(&packed.series, frame, why.clone()));
                continue;
            };
            let series = plan.output(at);
            let stands = before.iter().find(|verdict| verdict.series == at);
            let missing = stands.map(|own| own.in_any(&[State::Missing, State::Broken])).unwrap_or_default();
            for frame in packed.frames.iter() {
                if !series.frames.as_ref().is_some_and(|own| own.contains(frame)) {
                    told.leave(&packed.series, frame, self.unplanned());
                } else if let Some(own) = self.sent(at, packed, frame, &mut told)? {
                    if missing.contains(frame) {
                        sent.entry(own.record.session).or_default().push(own);
                    } else if self.is_same(series, frame, &own.record) {
                        told.there += 1;
                    } else {
                        told.leave(&packed.series, frame, "the project has another file, which was kept");
                    }
                }
            }
        }
        for (session, files) in sent {
            self.session(session, &files, &mut told)?;
        }
        Ok(told)
    }

    /// Why what was packed may not be in the plan.
    fn unplanned(&self) -> String {
        let said: Vec<String> = self.sent.own.said.iter().map(|word| quote::sh::word(word)).collect();
        if said.is_empty() {
            return "no longer planned".to_owned();
        }
        format!("not in this plan; it was packed with {}", said.join(" "))
    }

    /// What the parcel has of a frame, if it is fit to be looked at.
    fn sent<'c>(
        &'c self,
        at: usize,
        packed: &'c Packed,
        frame: i64,
        told: &mut Collected,
    ) -> Result<Option<Sent<'c>>, Failure> {
        let series = self.loaded.plan.output(at);
        let Some(path) = self.file(series, frame) else {
            told.leave(&packed.series, frame, "a folder on the way to it is a link");
            return Ok(None);
        };
        let about = match path.symlink_metadata() {
            Ok(about) => about,
            Err(_) => {
                told.leave(&packed.series, frame, "not rendered, or not sent");
                return Ok(None);
            }
        };
        if let Some(what) = disk::no_file(&path) {
            told.leave(&packed.series, frame, format!("it is {what}, not a file"));
            return Ok(None);
        }
        let Some((record, _)) = past(self.sent.history.of(series), series.number(frame), about.len()) else {
            told.leave(
                &packed.series,
                frame,
                "the parcel has no record of it; look at it, then accept it with verify --adopt",
            );
            return Ok(None);
        };
        let packed_as = Fingerprint { parts: packed.made.clone() };
        let differs =
            packed_as.differences(self.sent.history.made(&record)).into_iter().filter(|own| own.name != RENDERER);
        let differs: Vec<String> = differs.map(|own| own.name).collect();
        if !differs.is_empty() {
            told.leave(
                &packed.series,
                frame,
                format!("not rendered from what was packed: {} changed", differs.join(", ")),
            );
            return Ok(None);
        }
        Ok(Some(Sent { at, packed, frame, record }))
    }

    /// Where the parcel has a frame. A link on the way would lead out of it.
    fn file(&self, series: &Series, frame: i64) -> Option<PathBuf> {
        let name = parcel::file(&self.loaded.plan, series, frame)?;
        let mut path = self.sent.folder.to_owned();
        for part in paths::parent(&name).split('/') {
            path.push(part);
            if path.is_symlink() {
                return None;
            }
        }
        Some(self.sent.folder.join(name))
    }

    /// Whether the project's file is the one that the parcel's journal speaks of.
    fn is_same(&self, series: &Series, frame: i64, record: &Record) -> bool {
        let own = self.now.of(series);
        let bytes = std::fs::metadata(series.name(frame)).map_or(0, |about| about.len());
        past(own, series.number(frame), bytes)
            .is_some_and(|(own, same)| same && (own.digest == record.digest || record.digest == NO_DIGEST))
    }

    /// Lands the files of one run of the parcel, in a journal that says who made them and how long that took.
    fn session(&self, session: u32, files: &[Sent<'_>], told: &mut Collected) -> Result<(), Failure> {
        let Some(session) = self.sent.history.sessions.get(session as usize) else { return Ok(()) };
        let began = &session.began;
        let now = self.around.now().timestamp();
        let host = slug(&began.host);
        let at = began.at.parse::<jiff::Timestamp>().map_or_else(|_| now.to_string(), |at| at.to_string());
        let opening = Opening { host: &host, at, second: now.as_second(), share: false, task: None };
        let state = &self.loaded.state;
        let turn = journal::read(state, Depth::Landings)?.next_turn();
        let journal = Journal::new(state, &opening, turn);
        journal.write(&journal.began(files.len() as i64, &self.loaded.pins))?;
        let of_call = |call: &PastCall, file: &Sent<'_>| {
            call.landed.iter().any(|(name, frames)| *name == file.packed.own && frames.contains(&file.frame))
        };
        let mut going = ParcelSession { journal: &journal, watcher: Watcher::default() };
        let mut rest: Vec<&Sent<'_>> = files.iter().collect();
        for call in &session.calls {
            let (own, others): (Vec<&Sent<'_>>, Vec<&Sent<'_>>) =
                rest.into_iter().partition(|file| of_call(call, file));
            rest = others;
            self.call(call, &own, (&mut going, &mut *told))?;
        }
        for file in rest {
            self.land(file, "", &mut going, told)?;
        }
        for (at, frame, odd) in going.watcher.rest(&self.loaded.plan) {
            going.tell(&self.loaded.plan.output(at).id, (frame, odd), told)?;
        }
        let left: i64 = told.left.values().map(|frames| frames.len() as i64).sum();
        let outcome = if left == 0 { "complete" } else { "incomplete" };
        let (landed, missing, outcome) = (told.landed, left, outcome.to_owned());
        journal.write(&Event::Over { landed, missing, outcome, t: journal.t(), estimated: None, took: None })
    }

    /// Lands the files of one call.
    fn call(
        &self,
        call: &PastCall,
        own: &[&Sent<'_>],
        (going, told): (&mut ParcelSession<'_>, &mut Collected),
    ) -> Result<(), Failure> {
        let Some(first) = own.first() else { return Ok(()) };
        let all: usize = call.landed.iter().map(|(_, frames)| frames.len()).sum();
        let job = self.loaded.plan.jobs[self.loaded.plan.output(first.at).job].name.clone();
        let mut series: Vec<String> = own.iter().map(|file| file.packed.series.clone()).collect();
        series.dedup();
        let frames = Frames::from_any(own.iter().map(|file| file.frame).collect());
        let name = slug(&call.started.call);
        going.journal.write(&Event::Started(Started {
            call: name.clone(),
            job,
            series,
            frames,
            worker: 1,
            ..Started::default()
        }))?;
        let mut landed = 0;
        for file in own {
            landed += i64::from(self.land(file, &name, going, told)?);
        }
        let ended = call.ended.clone().unwrap_or_default();
        let seconds = ended.seconds * landed as f64 / all.max(1) as f64;
        let ended = Ended {
            call: name,
            code: Some(0),
            ok: true,
            files: landed,
            seconds,
            memory: ended.memory,
            ..Ended::default()
        };
        going.journal.write(&Event::Ended(ended))?;
        Ok(())
    }

    /// Lands one file: copied into the stage, compared with what the parcel's journal says, looked through and given its name.
    fn land(
        &self,
        file: &Sent<'_>,
        call: &str,
        going: &mut ParcelSession<'_>,
        told: &mut Collected,
    ) -> Result<bool, Failure> {
        let plan: &Plan = &self.loaded.plan;
        let series = plan.output(file.at);
        let (frame, name) = (file.frame, &file.packed.series);
        let Some(source) = self.file(series, frame) else { return Ok(false) };
        let root = series.root.and_then(|root| plan.roots[root].path.as_deref()).unwrap_or(&plan.home.folder);
        let folder = PathBuf::from(format!("{}/parcel~{}", stage_base(plan, root), going.journal.tag()));
        stage::prepare(&folder)?;
        let target = series.name(frame);
        let staged = folder.join(paths::file_name(&target));
        let copied = std::fs::copy(&source, &staged);
        copied.map_err(|error| Failure::machine("copy", &source, &error))?;
        let unread = |error: std::io::Error| Failure::machine("read", &staged, &error);
        let sum = self.sent.sums.get(&(file.packed.own.clone(), frame));
        let is_same = match (file.record.digest, sum) {
            (NO_DIGEST, None) => true,
            (NO_DIGEST, Some(sum)) => sha256(&staged).map_err(unread)? == *sum,
            (digest, _) => truepath_media::digest(&staged).map_err(unread)?.0 == digest,
        };
        let fate = match is_same {
            true => self.fate(file, (&staged, call), going.journal)?,
            false => Fate::Refused("its bytes changed after it was rendered, or it was cut off on the way".to_owned()),
        };
        let landed = match fate {
            Fate::Landed(down) => {
                told.without_sum += i64::from(file.record.digest == NO_DIGEST && sum.is_none());
                for odd in going.watcher.landed(plan, (file.at, frame), &down) {
                    going.tell(&series.id, odd, told)?;
                }
                true
            }
            Fate::Late => {
                told.there += 1;
                false
            }
            Fate::NotThere => {
                told.leave(name, frame, "it is empty");
                false
            }
            Fate::Refused(why) => {
                told.leave(name, frame, why);
                false
            }
        };
        stage::clear(&folder)?;
        told.landed += i64::from(landed);
        Ok(landed)
    }

    /// Looks through a staged file and gives it its name.
    fn fate(&self, file: &Sent<'_>, (staged, call): (&Path, &str), journal: &Journal) -> Result<Fate, Failure> {
        let plan: &Plan = &self.loaded.plan;
        let series = plan.output(file.at);
        let (made, target, labels) = (self.made(file), series.name(file.frame), plan.labels(series));
        let landing = Landing {
            staged,
            target: Path::new(&target),
            call,
            series,
            labels: &labels,
            frame: file.frame,
            made: Some(&made),
            // Only what is missing or broken comes here.
            over: true,
            asked: plan.asked(series),
            policy: &plan.policy,
        };
        Ok(land(&landing, journal, &Disk)?)
    }

    /// What a file is made of: what its parcel was packed from, by the renderer that was there.
    fn made(&self, file: &Sent<'_>) -> Fingerprint {
        let there = self.sent.history.made(&file.record).iter().find(|(name, _)| name == RENDERER);
        let version = there.map_or(UNKNOWN, |(_, version)| version);
        Fingerprint { parts: file.packed.here.clone() }.with_version(version)
    }
}

/// SHA-256 of a file's bytes in hexadecimal, as the usual tools print it.
fn sha256(path: &Path) -> std::io::Result<String> {
    let mut hash = Sha256::new();
    std::io::copy(&mut disk::open(path)?, &mut hash)?;
    Ok(hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect())
}
