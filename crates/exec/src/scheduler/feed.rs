//! Events on their way to the display: many at a time, so that work is not held up by being looked at.

use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

use truepath_core::run::event::Event;

/// How long nothing may happen before the display is called nevertheless, and how long events gather.
const WAIT: (Duration, Duration) = (Duration::from_millis(500), Duration::from_millis(80));

/// Events that were not shown yet.
#[derive(Default)]
pub struct Feed {
    state: Mutex<FeedState>,
    bell: Condvar,
}

#[derive(Default)]
struct FeedState {
    events: Vec<Event>,
    over: bool,
}

impl Feed {
    /// Something happened.
    pub fn send(&self, event: Event) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.events.push(event);
        if state.events.len() == 1 {
            self.bell.notify_one();
        }
    }

    /// Nothing more will happen.
    pub fn end(&self) {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).over = true;
        self.bell.notify_one();
    }

    /// What happened meanwhile, which may be nothing; `None` when nothing more can come.
    pub fn gather(&self) -> Option<Vec<Event>> {
        let state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let quiet = |state: &mut FeedState| state.events.is_empty() && !state.over;
        let waited = self.bell.wait_timeout_while(state, WAIT.0, quiet);
        let (mut state, _) = waited.unwrap_or_else(PoisonError::into_inner);
        if !state.events.is_empty() {
            let waited = self.bell.wait_timeout_while(state, WAIT.1, |state| !state.over);
            (state, _) = waited.unwrap_or_else(PoisonError::into_inner);
        }
        let events = std::mem::take(&mut state.events);
        (!state.over || !events.is_empty()).then_some(events)
    }
}
