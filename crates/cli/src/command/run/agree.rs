//! What the members of a shared run mean: whoever means something else for the same frames is refused, whoever means another
//! part shares frame by frame, and a sheet that is edited under way is told.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use truepath_core::run::event::Event;
use truepath_core::run::fingerprint::Difference;
use truepath_core::run::meant::{Intent, version};
use truepath_core::sheet::{EXISTING, Existing};
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::share::{self, Agreed, Claims, Member, Other, Times};
use truepath_exec::state::StateFolder;
use truepath_exec::state::journal::Journal;

use super::RunRequest;
use crate::args::RunArgs;
use crate::lower::{Screen, Surroundings};
use crate::pipeline::{self, LoadOptions, Loaded, Queue};
use crate::show;

/// How often a member gives signs of life, and how long the others wait for one.
pub fn times(loaded: &Loaded) -> Times {
    Times { heartbeat: loaded.plan.run.heartbeat, takeover: loaded.plan.run.takeover }
}

/// What this member means, and the name of that: members with one name share calls.
pub struct Own {
    meant: Intent,
    name: String,
    end: String,
}

fn named_by(meant: &Intent) -> String {
    let text = serde_json::to_string(meant).unwrap_or_default();
    blake3::hash(text.as_bytes()).to_hex()[..16].to_owned()
}

impl Own {
    pub fn of(loaded: &Loaded, choice: Existing) -> Own {
        let meant = meant(loaded, choice);
        Own { name: named_by(&meant), end: named_by(&meant.of_files()), meant }
    }

    /// A name for the end of the plan: members that mean the same files have one.
    pub fn end(&self) -> &str {
        &self.end
    }

    /// Ends the newest round of members that all went before they did.
    pub fn end_left(&self, state: &StateFolder) -> Result<bool, Failure> {
        Claims::end_left(state, &self.name)
    }

    /// Joins the members that mean the same.
    pub fn join(
        &self,
        loaded: &Loaded,
        journal: &Journal,
        choice: Existing,
        around: &Surroundings,
    ) -> Result<Claims, Failure> {
        let mut member = Member::own(&around.host, journal);
        member.versions = versions(loaded);
        let agreed = Agreed { name: &self.name, meant: Some(&self.meant) };
        let claims = Claims::join(&loaded.state, agreed, &member, times(loaded), choice == Existing::Replace)?;
        let others = share::others(&loaded.state);
        let others =
            others.into_iter().filter(|other| other.plan != share::EXPORTS && other.worker.journal != member.journal);
        let met = self.settle(loaded, others.collect(), &member, around);
        if met.is_err() {
            claims.leave();
        }
        met.map(|()| claims)
    }

    /// Compares this member with the others: one failure for what cannot be rendered together, words for the rest.
    fn settle(&self, loaded: &Loaded, others: Vec<Other>, own: &Member, around: &Surroundings) -> Result<(), Failure> {
        let one_version = loaded.written.policy.one_version.unwrap_or(false);
        let (mut refused, mut told) = (Vec::new(), Vec::new());
        for other in others {
            let meant = other.meant().filter(|_| other.plan != self.name);
            let conflict = meant.as_ref().and_then(|meant| self.meant.conflict(meant));
            let name = named(&other, around);
            if let Some(conflict) = conflict {
                let apart: Vec<String> = conflict.differences.iter().map(apart).collect();
                let why = format!(
                    "{name} renders frames {} of {} with other settings: {}",
                    conflict.frames,
                    conflict.series,
                    apart.join("; ")
                );
                refused.push((other, why));
                continue;
            }
            if let Some((adapter, theirs, here)) = other_version(&other.worker, own) {
                let why = format!("{name} renders with {adapter} {theirs}, and this machine has {here}");
                match one_version {
                    true => refused.push((other, format!("{why}; [policy] one_version = true"))),
                    false => told.push(format!("note: {why}")),
                }
                continue;
            }
            if let Some(words) = meant.map(|meant| self.meant.differs(&meant)).filter(|words| !words.is_empty()) {
                let words = words.join("; ");
                told.push(format!(
                    "{name} shares this sheet with another plan ({words}): frames are shared one by one"
                ));
            }
        }
        told.sort();
        told.dedup();
        told.iter().for_each(|line| show::tell(&format!("{line}\n")));
        if refused.is_empty() {
            return Ok(());
        }
        let (others, whys): (Vec<Other>, Vec<String>) = refused.into_iter().unzip();
        match living(&others, times(loaded), around) {
            None => Ok(()),
            Some(at) => Err(Failure::new(Cause::Refused, whys[at].clone())
                .help("wait until it has ended, or end it; frames of both would be mixed. Another version keeps both")),
        }
    }
}

/// What a sheet means as it was loaded.
fn meant(loaded: &Loaded, choice: Existing) -> Intent {
    let existing = EXISTING.iter().find(|(_, known)| *known == choice).map_or("", |(name, _)| *name);
    Intent::of(&loaded.plan, &loaded.ground.made_of, existing)
}

/// What the programs of a plan say their versions are, by adapter.
fn versions(loaded: &Loaded) -> BTreeMap<String, String> {
    let series = loaded.plan.series.iter().zip(&loaded.ground.made_of);
    let known = series.filter_map(|(series, made)| {
        let adapter = loaded.plan.jobs[series.job].adapter.clone()?;
        Some((adapter, version(made.as_ref()?)?.to_owned()))
    });
    known.collect()
}

/// A program of which another member has another version: adapter, theirs, ours.
fn other_version(other: &Member, own: &Member) -> Option<(String, String, String)> {
    own.versions.iter().find_map(|(adapter, here)| {
        let theirs = other.versions.get(adapter).filter(|theirs| *theirs != here)?;
        Some((adapter.clone(), theirs.clone(), here.clone()))
    })
}

fn named(other: &Other, around: &Surroundings) -> String {
    let Member { host, process, .. } = &other.worker;
    if *host == around.host { format!("process {process} on this machine") } else { host.clone() }
}

/// In what the others' frames differ from ours.
fn apart(difference: &Difference) -> String {
    let spelt = |value: &Option<String>| value.clone().unwrap_or_else(|| "not given".to_owned());
    match (&difference.was, &difference.is) {
        (Some(there), Some(here)) if there.len().max(here.len()) > 60 => format!("{} differ", difference.name),
        (there, here) => format!("{} {} there, {} here", difference.name, spelt(there), spelt(here)),
    }
}

/// The first of some members that lives: one of this machine for certain, another by a sign that it gives in time.
pub fn living(others: &[Other], times: Times, around: &Surroundings) -> Option<usize> {
    let first: Vec<Option<String>> = others.iter().map(Other::sign).collect();
    if let Some(other) = others.iter().find(|other| other.worker.host != around.host) {
        let patience = humantime::format_duration(times.takeover);
        let host = &other.worker.host;
        show::tell(&format!("{host} shares this sheet; waiting {patience} for a sign of life from it\n"));
    }
    let since = Instant::now();
    while !others.is_empty() {
        let lives = |at: &usize| {
            others[*at].is_surely_alive() || others[*at].sign().is_some_and(|now| Some(&now) != first[*at].as_ref())
        };
        if let Some(alive) = (0..others.len()).find(lives) {
            return Some(alive);
        }
        if since.elapsed() >= times.takeover {
            break;
        }
        std::thread::sleep((times.heartbeat / 3).min(Duration::from_secs(1)));
    }
    None
}

/// The files that a plan was read from, so that a change of them under way is noticed.
pub struct Edits<'e> {
    args: &'e RunArgs,
    at: usize,
    around: &'e Surroundings,
    files: Vec<(PathBuf, Option<disk::Stamp>)>,
    own: Intent,
    choice: Existing,
    /// When they may be looked at again: looking takes a small part of the time.
    due: Instant,
}

/// How much longer than a look the next one waits, and how long at least.
const REST: u32 = 50;
const PAUSE: Duration = Duration::from_secs(1);

impl<'e> Edits<'e> {
    pub(super) fn of(request: &RunRequest<'e>, loaded: &Loaded, choice: Existing) -> Edits<'e> {
        let RunRequest { args, around, texts, at } = *request;
        let scenes = loaded.plan.jobs.iter().filter_map(|job| Some(PathBuf::from(&job.scene.as_ref()?.value)));
        let mut files: Vec<PathBuf> = texts.iter().cloned().chain(scenes).collect();
        files.sort();
        files.dedup();
        let files = files.into_iter().map(|file| (file.clone(), stamp(&file))).collect();
        Edits { args, at: at.unwrap_or(0), around, files, own: meant(loaded, choice), choice, due: Instant::now() }
    }

    /// What changed since it was looked at last, in words: looked at where a call is over.
    pub fn noticed(&mut self, events: &[Event]) -> Option<String> {
        let began = Instant::now();
        if began < self.due || !events.iter().any(|event| matches!(event, Event::Ended(_))) {
            return None;
        }
        let mut changed = Vec::new();
        for (file, before) in &mut self.files {
            let now = stamp(file);
            if now != *before {
                *before = now;
                changed.push(pipeline::load::short(file, &self.around.folder));
            }
        }
        self.due = Instant::now() + (began.elapsed() * REST).max(PAUSE);
        let files = (!changed.is_empty()).then(|| changed.join(", "))?;
        let what = self.anew().unwrap_or_else(|| "it cannot be read as it is now".to_owned());
        // A comment, or another part of the sheet.
        (!what.is_empty()).then(|| format!("{files}: {what}"))
    }

    /// In what the sheet as it is now differs from the plan.
    fn anew(&self) -> Option<String> {
        let quiet = Screen { terminal: false, ..self.around.err };
        let around = Surroundings { err: quiet, ..self.around.clone() };
        let queue = pipeline::load(&self.args.common, &around, LoadOptions::default()).ok()?;
        let mut loaded = queue.sheets.into_iter().nth(self.at).filter(|loaded| loaded.stopped().is_none())?;
        if let Some(chunk) = self.args.chunk {
            loaded.plan.run.chunk = chunk;
        }
        pipeline::look_up_made(&mut loaded, &around);
        let now = meant(&loaded, self.choice);
        let mut words = self.own.differs(&now);
        if let Some(conflict) = now.conflict(&self.own) {
            words.extend(conflict.differences.iter().map(|one| format!("{}: {one}", conflict.series)));
        }
        Some(words.join("; "))
    }
}

fn stamp(file: &Path) -> Option<disk::Stamp> {
    disk::stamp(file)
}

/// The texts that the sheets of a call were read from.
pub fn texts(queue: &Queue, around: &Surroundings) -> Vec<PathBuf> {
    queue.sources.all().map(|source| around.folder.join(&source.name)).filter(|path| path.is_file()).collect()
}
