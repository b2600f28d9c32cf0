//! One run, as its journal tells it.

use std::collections::HashMap;

use crate::frames::Frames;
use crate::run::event::{Began, Ended, Event, Saved, SeriesOf, Started};

/// One process that ran the sheet.
#[derive(Clone, Debug, Default)]
pub struct Session {
    /// Who, where and for what.
    pub began: Began,
    /// What its series were made of.
    pub series: Vec<SeriesOf>,
    /// Its calls in the order in which they were started.
    pub calls: Vec<PastCall>,
    /// Frames that were given up, by the job and its series: what was said of them.
    pub failures: Vec<GivenUp>,
    /// Files that were copied beside their final names: series and frame.
    pub copies: Vec<(String, i64)>,
    /// Half-rendered frames that were put by.
    pub saved: Vec<Saved>,
    /// How it ended; `None` for one that still runs, or was cut short.
    pub outcome: Option<String>,
    /// Files that landed.
    pub files: i64,
    /// Seconds from its beginning to its last event.
    pub seconds: f64,
}

/// One call of a renderer.
#[derive(Clone, Debug, Default)]
pub struct PastCall {
    /// How it was started.
    pub started: Started,
    /// How it ended; `None` while it runs, or when the run was cut short.
    pub ended: Option<Ended>,
    /// Files of it that landed, by series, as frames.
    pub landed: Vec<(String, Vec<i64>)>,
    /// What was said of it otherwise: refused files, strays, waits.
    pub said: Vec<Event>,
}

/// Frames that were given up.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct GivenUp {
    /// The call.
    pub call: String,
    /// The job.
    pub job: String,
    /// Its series.
    pub series: Vec<String>,
    /// The frames.
    pub frames: Frames,
    /// Why.
    pub why: String,
    /// The log of the last try.
    pub log: String,
}

impl Session {
    /// Takes in what was said of calls. `open` are those that run, by name.
    pub(super) fn add(&mut self, open: &mut HashMap<String, usize>, event: Event) {
        let call_of = |event: &Event| match event {
            Event::Stray { call, .. }
            | Event::Waiting { call, .. }
            | Event::Lost { call }
            | Event::Refused { call, .. }
            | Event::Rewritten { call, .. } => open.get(call).copied(),
            _ => None,
        };
        match event {
            Event::Started(started) => {
                self.seconds = self.seconds.max(started.t);
                open.insert(started.call.clone(), self.calls.len());
                self.calls.push(PastCall { started, ..PastCall::default() });
            }
            Event::Ended(ended) => {
                self.seconds = self.seconds.max(ended.t);
                if let Some(at) = open.remove(&ended.call) {
                    self.calls[at].ended = Some(ended);
                }
            }
            Event::Failed { call, job, series, frames, why, log } => {
                self.failures.push(GivenUp { call, job, series, frames, why, log });
            }
            Event::Saved(saved) => self.saved.push(saved),
            Event::Copying { series, frame } => self.copies.push((series, frame)),
            event => {
                if let Some(at) = call_of(&event) {
                    self.calls[at].said.push(event);
                }
            }
        }
    }
}
