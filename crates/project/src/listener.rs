//! What the library tells while it works. The caller decides what of it is shown.

use std::fmt;
use std::path::PathBuf;
use std::time::Duration;

use truepath_core::diagnostic::{Finding, counted};
use truepath_core::flaw::Flaw;
use truepath_core::plan::Plan;
use truepath_core::run::event::Event;
use truepath_core::run::pace::Load;
use truepath_core::source::Sources;

/// Hears what happens while a project is opened, looked at or run. It may be called from several threads at a time.
///
/// `()` hears nothing, and a closure is one, too:
///
/// ```
/// use truepath_project::{Listener, News};
///
/// let listener = |news: News<'_>| {
///     if let News::Note(note) = news {
///         println!("{note}");
///     }
/// };
/// listener.hear(News::ReadingOver);
/// ().hear(News::ReadingOver);
/// ```
pub trait Listener: Sync {
    /// Something happened.
    fn hear(&self, news: News<'_>);
}

impl Listener for () {
    fn hear(&self, _: News<'_>) {}
}

impl<F: Fn(News<'_>) + Sync> Listener for F {
    fn hear(&self, news: News<'_>) {
        self(news);
    }
}

/// Something that happened.
#[derive(Clone, Copy)]
pub enum News<'n> {
    /// So much more was read: megabytes of scenes, or files.
    Reading(Read, u64),
    /// That reading is over.
    ReadingOver,
    /// Sheets that are about to be run were opened. They may still be stopped by what was found in them.
    Opened {
        /// Their paths.
        sheets: &'n [PathBuf],
        /// What was found in them.
        findings: &'n [Finding],
        /// The texts that findings point into.
        sources: &'n Sources,
    },
    /// So many frames of a movie have been encoded.
    Encoded(usize),
    /// An encoder that is a program of its own said a line.
    EncoderSaid(&'n str),
    /// Frames are about to be rendered.
    Rendering(Rendering<'n>),
    /// What happened to calls and files, in its order.
    Events(&'n [Event]),
    /// No call is under way any more.
    RenderingOver,
    /// Something that a person should know.
    Note(&'n Note),
}

/// What is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Read {
    /// Scenes, in megabytes.
    Scenes,
    /// Files that were rendered, one by one.
    Files,
}

/// What is about to be rendered.
#[derive(Clone, Copy)]
pub struct Rendering<'n> {
    /// Of which plan.
    pub plan: &'n Plan,
    /// How much there is of each kind of call.
    pub loads: &'n [Load],
    /// Files that are needed.
    pub files: i64,
}

/// Something that a person should know. Its text is a sentence without its full stop.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Note {
    /// Renderers of an interrupted run were still working.
    EndedRenderers(i64),
    /// A file at which the reader crashed in an earlier run.
    SetAside(PathBuf),
    /// Whole files of an interrupted run that landed now.
    LandedLate(i64),
    /// Another member has another version of a program.
    OtherVersion {
        /// The member.
        member: String,
        /// The program's adapter.
        adapter: String,
        /// The member's version.
        theirs: String,
        /// Our version.
        here: String,
    },
    /// Another member renders another part.
    OtherPlan {
        /// The member.
        member: String,
        /// In what its plan differs.
        words: String,
    },
    /// A machine has a member, and is waited for.
    WaitsForSign {
        /// The machine.
        host: String,
        /// How long at most.
        patience: Duration,
    },
    /// A scene is exported, or was.
    Export(String),
    /// A command of `after` that did not end well.
    After(String),
    /// A parcel was packed.
    Packed {
        /// Its folder, or its file.
        place: PathBuf,
        /// How many files it is to become.
        files: i64,
        /// Whether an earlier call had packed it.
        was_there: bool,
    },
    /// A parcel has one script less.
    WithoutScript {
        /// Its name.
        name: String,
        /// Why.
        why: Flaw,
    },
}

impl fmt::Display for Note {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Note::EndedRenderers(count) => {
                write!(f, "ended {} that an interrupted run had left running", counted(*count, "renderer"))
            }
            Note::SetAside(path) => {
                write!(f, "this file crashed the checker in an earlier run and was set aside: {}", path.display())
            }
            Note::LandedLate(count) => write!(f, "{} of an interrupted run landed", counted(*count, "whole file")),
            Note::OtherVersion { member, adapter, theirs, here } => {
                write!(f, "note: {member} renders with {adapter} {theirs}, and this machine has {here}")
            }
            Note::OtherPlan { member, words } => {
                write!(f, "{member} shares this sheet with another plan ({words}): frames are shared one by one")
            }
            Note::WaitsForSign { host, patience } => {
                let patience = humantime::format_duration(*patience);
                write!(f, "{host} shares this sheet; waiting {patience} for a sign of life from it")
            }
            Note::Export(words) => f.write_str(words),
            Note::After(words) => write!(f, "after the run: {words}"),
            Note::Packed { place, was_there: true, .. } => write!(f, "{}: already packed", place.display()),
            Note::Packed { place, files, .. } => write!(f, "{}: {}", place.display(), counted(*files, "file")),
            Note::WithoutScript { name, why } => write!(f, "note: without {name}: {why}"),
        }
    }
}
