//! The calls of a plan for somebody else to make: as scripts, as JSON, or as the tasks of a cluster.
//!
//! ```
//! use truepath_core::invoke::script::sh::Sh;
//! use truepath_project::build::{self, BuildRequest, Built, CallForm, WantedCalls};
//! use truepath_project::{LoadOptions, Request, Surroundings, open};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let folder = tempfile::tempdir()?;
//! std::fs::write(
//!     folder.path().join("truepath.toml"),
//!     r#"
//!     sheet = 1
//!     [[job]]
//!     name = "crossing"
//!     adapter = "understudy"
//!     scene = "ferry.gltf"
//!     camera = "quay"
//!     frames = "1-3"
//!     fps = 24
//!     size = "640x360"
//!     path = "renders/{job}.{frame:4}.png"
//!     "#,
//! )?;
//! let around = Surroundings::at(folder.path());
//! let mut queue = open(&Request::default(), &around, LoadOptions::default(), &())?;
//! let form = CallForm::Script(&Sh);
//! let request = BuildRequest::new(form);
//! build::prepare(&mut queue.sheets[0], &request, &around, &())?;
//! let built = Built::from(WantedCalls::of(&request, &queue.sheets[0], &around)?);
//! assert_eq!(built.steps[0].id, "crossing_1-3");
//! assert!(built.script(&Sh, &request)?.starts_with("#!/bin/sh"));
//! # Ok(())
//! # }
//! ```

mod calls;
mod document;
mod parts;
mod scheduler;
mod tasks;

use truepath_core::diagnostic::counted;
use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::script::cluster::Cluster;
use truepath_core::invoke::script::target::Target;
use truepath_core::invoke::script::{self, Script};
use truepath_core::pins::Anew;
use truepath_core::plan::Series;
use truepath_core::run::cost::Costs;
use truepath_core::run::history::Depth;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::state::journal;
use truepath_exec::threads::Cores;

pub use calls::WantedCalls;
pub use document::{of_part, through, write};
pub use parts::named as in_parts;
pub use scheduler::{Submitted, submit};
pub use tasks::Tasks;

use crate::listener::Listener;
use crate::open::Loaded;
use crate::surroundings::Surroundings;
use calls::Broken;

/// What calls are written as.
#[derive(Clone, Copy, Debug)]
pub enum CallForm {
    /// A script for a shell.
    Script(&'static dyn Target),
    /// A JSON document for any queue.
    Document,
    /// A script that submits itself to a cluster's scheduler as an array of tasks.
    Tasks(&'static dyn Cluster),
}

impl CallForm {
    /// What the names of its files end with.
    #[must_use]
    pub fn extension(self) -> &'static str {
        match self {
            CallForm::Script(target) => target.extension(),
            CallForm::Document => "json",
            CallForm::Tasks(cluster) => cluster.extension(),
        }
    }

    /// Whether its files are started by their own names, and so have to be allowed to.
    #[must_use]
    pub fn is_program(self) -> bool {
        match self {
            CallForm::Script(target) => target.is_program(),
            CallForm::Document => false,
            CallForm::Tasks(_) => true,
        }
    }

    /// What its files say of themselves in their first lines.
    #[must_use]
    pub fn mark(self) -> &'static str {
        if matches!(self, CallForm::Document) { script::json::MARK } else { script::MARK }
    }

    /// Whether its text goes in one piece to whoever reads JSON.
    fn is_document(self) -> bool {
        matches!(self, CallForm::Document)
    }
}

/// How calls are to be built.
#[derive(Clone, Copy, Debug)]
pub struct BuildRequest<'b> {
    /// What they are written as.
    pub form: CallForm,
    /// Whether `truepath run` makes each of them where it is started, so that every file is checked before it gets its name. In
    /// the tasks of a cluster it does, unless it is not installed there.
    pub guarded: bool,
    /// What `truepath run` has to be told to make the same calls, beside their names, their sheet and their length.
    pub again: &'b [String],
    /// Whether only what is missing or broken is made.
    pub missing: bool,
    /// Whether a script goes on after a failed call.
    pub keep_going: bool,
    /// Whether a script waits for a key at its end.
    pub pause: bool,
    /// Frames of a call, instead of the sheet's value.
    pub chunk: Option<i64>,
    /// What is looked up anew, whatever is pinned.
    pub anew: Anew,
    /// Whether settings of the request may change the picture under final names.
    pub is_final: bool,
}

impl BuildRequest<'_> {
    /// All calls in a form, and nothing else that is not usual.
    #[must_use]
    pub fn new(form: CallForm) -> BuildRequest<'static> {
        BuildRequest {
            form,
            guarded: false,
            again: &[],
            missing: false,
            keep_going: false,
            pause: false,
            chunk: None,
            anew: Anew::default(),
            is_final: false,
        }
    }
}

/// Gets a sheet ready for its calls to be written: looked-up values are pinned, and what could not be run is refused.
///
/// # Errors
/// When the sheet cannot be run, when there would be too many calls, or when others pinned other values in this moment.
pub fn prepare(
    loaded: &mut Loaded,
    request: &BuildRequest<'_>,
    around: &Surroundings,
    listener: &dyn Listener,
) -> Result<(), Failure> {
    loaded.guard_start(request.is_final)?;
    if !loaded.pin(request.anew)? {
        let message = "another True Path pinned other values for this sheet at the same time".to_owned();
        return Err(Failure::new(Cause::Machine, message).help("run the command again; it uses their values"));
    }
    if let Some(chunk) = request.chunk {
        loaded.plan.run.chunk = chunk;
    }
    crate::guards::calls(&loaded.plan, loaded.plan.series.iter().filter_map(Series::count))?;
    // A script says in its journal what frames are made of; whoever starts `truepath run` has that looked up there.
    if !request.form.is_document() && !request.guarded {
        loaded.look_up_made(around, listener);
    }
    Ok(())
}

/// What frames of a sheet were measured to cost.
///
/// # Errors
/// When the journals cannot be read.
pub fn costs(loaded: &Loaded) -> Result<Costs, Failure> {
    Ok(Costs::of(&loaded.plan, &journal::read(&loaded.state, Depth::Calls)?, &loaded.ground.made_of))
}

/// What is built of one sheet.
pub struct Built<'b> {
    /// The sheet.
    pub loaded: &'b Loaded,
    /// Its steps, in their order.
    pub steps: Vec<CommandLine>,
    broken: Broken,
}

impl<'b> From<WantedCalls<'b>> for Built<'b> {
    fn from(wanted: WantedCalls<'b>) -> Built<'b> {
        Built { loaded: wanted.loaded, steps: wanted.steps(), broken: wanted.broken }
    }
}

impl<'b> Built<'b> {
    /// Some of the steps.
    #[must_use]
    pub fn part(&self, steps: Vec<CommandLine>) -> Built<'b> {
        Built { loaded: self.loaded, steps, broken: self.broken.clone() }
    }

    /// What a script is told beside its steps.
    fn wish(&self, request: &BuildRequest<'_>) -> Script<'_> {
        let loaded = self.loaded;
        Script {
            keep_going: request.keep_going,
            pause: request.pause,
            portable: false,
            is_task: false,
            adapters: &loaded.adapters,
            made: &loaded.ground.made_of,
            turn: loaded.ground.history.next_turn(),
            broken: &self.broken,
        }
    }

    /// The steps as a script.
    ///
    /// # Errors
    /// When something in them cannot be said to the shell.
    pub fn script(&self, target: &dyn Target, request: &BuildRequest<'_>) -> Result<String, Failure> {
        target.script(&self.loaded.plan, &self.steps, &self.wish(request), &Cores).map_err(|why| {
            Failure::of(Cause::Unreadable, why)
                .help("change the value, make calls shorter with --chunk, or use --to json")
        })
    }
}

/// The only sheet of a script.
///
/// # Errors
/// Where there are several.
pub fn only<'s, 'b>(built: &'s [Built<'b>], form: CallForm) -> Result<&'s Built<'b>, Failure> {
    let [built] = built else {
        let (what, help) = match form {
            CallForm::Tasks(cluster) => {
                (format!("a script for {} can hold one sheet", cluster.name()), "build each sheet separately: -f SHEET")
            }
            _ => ("a script can hold one sheet".to_owned(), "build each sheet separately, or use --to json"),
        };
        return Err(Failure::unreadable(what).help(help));
    };
    Ok(built)
}

/// How many calls there are, in words.
#[must_use]
pub fn calls_in_words(count: usize) -> String {
    counted(i64::try_from(count).unwrap_or(i64::MAX), "call")
}
