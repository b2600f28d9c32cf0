//! Movies among the calls of a run: what they come after, whether their frames are complete, and what they are made of.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::PoisonError;

use truepath_core::check::Machine;
use truepath_core::invoke::command_line::CommandLines;
use truepath_core::plan::Call;
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::Depth;
use truepath_core::verify::NOT_GOOD;

use super::context::Context;
use super::supply::Order;
use crate::failure::Failure;
use crate::looking::Looking;
use crate::observe::Look;
use crate::record;
use crate::state::journal;

/// All calls as orders, with their licences. A movie comes after all calls that write frames of it.
pub fn queue(command_lines: CommandLines<'_>, calls: Vec<Call>) -> Vec<Order<Call>> {
    let plan = command_lines.plan;
    let after = |sources: &[usize]| -> Vec<u64> {
        let writes = |call: &Call| call.series.iter().any(|at| sources.contains(at));
        (0..).zip(&calls).filter(|(_, call)| writes(call)).map(|(at, _)| at).collect()
    };
    let waits = |call: &Call| match call.is_movie(plan) {
        true => after(&call.sources(plan)),
        false => Vec::new(),
    };
    let after: Vec<Vec<u64>> = calls.iter().map(waits).collect();
    let order = |(call, after): (Call, Vec<u64>)| {
        let licences =
            command_lines.adapter_of(&call).map(|adapter| adapter.needs.licences.clone()).unwrap_or_default();
        Order { licences, job: call.group(plan), call, tried: 0, lacked: BTreeSet::new(), after }
    };
    calls.into_iter().zip(after).map(order).collect()
}

impl<'c> Context<'c> {
    /// What an output is made of. What a movie is made of was found out when its frames were looked at.
    pub(super) fn made(&self, at: usize) -> Result<Option<Cow<'c, Fingerprint>>, Failure> {
        if at < self.plan().series.len() {
            return Ok(self.project.made.get(at).and_then(Option::as_ref).map(Cow::Borrowed));
        }
        Ok(self.films.lock().unwrap_or_else(PoisonError::into_inner).get(&at).cloned().map(Cow::Owned))
    }

    /// Why a movie cannot be made yet: frames of it that are not as they should be. Where all are, it is kept what they are,
    /// as the movie is made of just these.
    pub fn unready(&self, call: &Call) -> Result<Option<String>, Failure> {
        let (plan, Some(at)) = (self.plan(), call.series.first()) else { return Ok(None) };
        let Some(film) = plan.output(*at).film.as_deref().filter(|_| call.is_movie(plan)) else { return Ok(None) };
        let machine = Machine {
            history: journal::read(self.project.state, Depth::Landings)?,
            made_of: self.project.made.to_vec(),
            ..Machine::default()
        };
        // The sheet's own frames, whichever of them this run was asked for.
        let look = Look::Trusting;
        let looking = Looking { plan, machine: &machine, state: self.project.state, look, beside: &[], told: &|_| {} };
        for clip in &film.clips {
            let verdict = looking.of_series(clip.series)?;
            let missing = NOT_GOOD.iter().map(|state| (*state, verdict.in_state(*state).intersect(&clip.frames)));
            if let Some((state, frames)) = missing.into_iter().find(|(_, frames)| !frames.is_empty()) {
                let (id, state) = (&plan.series[clip.series].id, state.name());
                return Ok(Some(format!("its frames are not complete: {frames} of {id} {} {state}", frames.are())));
            }
        }
        let state = (self.project.command_lines.adapters, self.project.state);
        if let Some(made) = record::movie::one(plan, plan.output(*at), state, &machine.history) {
            self.films.lock().unwrap_or_else(PoisonError::into_inner).insert(*at, made);
        }
        Ok(None)
    }
}
