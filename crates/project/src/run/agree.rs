//! What the members of a shared run mean: whoever means something else for the same frames is refused, whoever means another
//! part shares frame by frame.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use truepath_core::run::fingerprint::Difference;
use truepath_core::run::meant::{Intent, version};
use truepath_core::sheet::{EXISTING, Existing};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::share::{self, Agreed, Claims, Member, Other, Times};
use truepath_exec::state::StateFolder;

use crate::listener::{Listener, News, Note};
use crate::open::Loaded;

/// How often a member gives signs of life, and how long the others wait for one.
pub(super) fn times(loaded: &Loaded) -> Times {
    Times { heartbeat: loaded.plan.run.heartbeat, takeover: loaded.plan.run.takeover }
}

/// What this member means, and the name of that: members with one name share calls.
pub(super) struct Own {
    meant: Intent,
    name: String,
    end: String,
}

fn named_by(meant: &Intent) -> String {
    let text = serde_json::to_string(meant).unwrap_or_default();
    blake3::hash(text.as_bytes()).to_hex()[..16].to_owned()
}

impl Own {
    pub(super) fn of(loaded: &Loaded, choice: Existing) -> Own {
        let meant = meant(loaded, choice);
        Own { name: named_by(&meant), end: named_by(&meant.of_files()), meant }
    }

    /// A name for the end of the plan: members that mean the same files have one.
    pub(super) fn end(&self) -> &str {
        &self.end
    }

    /// Ends the newest round of members that all went before they did.
    pub(super) fn end_left(&self, state: &StateFolder) -> Result<bool, Failure> {
        Claims::end_left(state, &self.name)
    }

    /// Joins the members that mean the same.
    pub(super) fn join(
        &self,
        loaded: &Loaded,
        mut member: Member,
        choice: Existing,
        listener: &dyn Listener,
    ) -> Result<Claims, Failure> {
        member.versions = versions(loaded);
        let agreed = Agreed { name: &self.name, meant: Some(&self.meant) };
        let claims = Claims::join(&loaded.state, agreed, &member, times(loaded), choice == Existing::Replace)?;
        let others = share::others(&loaded.state);
        let others =
            others.into_iter().filter(|other| other.plan != share::EXPORTS && other.worker.journal != member.journal);
        let met = self.settle(loaded, others.collect(), &member, listener);
        if met.is_err() {
            claims.leave();
        }
        met.map(|()| claims)
    }

    /// Compares this member with the others: one failure for what cannot be rendered together, words for the rest.
    fn settle(
        &self,
        loaded: &Loaded,
        others: Vec<Other>,
        own: &Member,
        listener: &dyn Listener,
    ) -> Result<(), Failure> {
        let one_version = loaded.written.policy.one_version.unwrap_or(false);
        let (mut refused, mut told) = (Vec::new(), Vec::new());
        for other in others {
            let meant = other.meant().filter(|_| other.plan != self.name);
            let conflict = meant.as_ref().and_then(|meant| self.meant.conflict(meant));
            let name = named(&other, &own.host);
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
                    false => told.push(Note::OtherVersion { member: name, adapter, theirs, here }),
                }
                continue;
            }
            if let Some(words) = meant.map(|meant| self.meant.differs(&meant)).filter(|words| !words.is_empty()) {
                let words = words.join("; ");
                told.push(Note::OtherPlan { member: name, words });
            }
        }
        told.sort();
        told.dedup();
        told.iter().for_each(|note| listener.hear(News::Note(note)));
        if refused.is_empty() {
            return Ok(());
        }
        let (others, whys): (Vec<Other>, Vec<String>) = refused.into_iter().unzip();
        match living(&others, times(loaded), (&own.host, listener)) {
            None => Ok(()),
            Some(at) => Err(Failure::new(Cause::Refused, whys[at].clone())
                .help("wait until it has ended, or end it; frames of both would be mixed. Another version keeps both")),
        }
    }
}

/// What a sheet means as it was loaded.
pub(super) fn meant(loaded: &Loaded, choice: Existing) -> Intent {
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

fn named(other: &Other, here: &str) -> String {
    let Member { host, process, .. } = &other.worker;
    if host == here { format!("process {process} on this machine") } else { host.clone() }
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
pub(super) fn living(others: &[Other], times: Times, (here, listener): (&str, &dyn Listener)) -> Option<usize> {
    let first: Vec<Option<String>> = others.iter().map(Other::sign).collect();
    if let Some(other) = others.iter().find(|other| other.worker.host != here) {
        let host = other.worker.host.clone();
        listener.hear(News::Note(&Note::WaitsForSign { host, patience: times.takeover }));
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
