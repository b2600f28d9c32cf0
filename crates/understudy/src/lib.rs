//! The understudy: the small renderer that ships with True Path, so that everything can be tried without another one.
//!
//! It is an outside program in spirit. It knows nothing of sheets, templates or plans, shares no code with the rest of
//! the project, and is always started as a process of its own: a scene and options in, pictures and a plain log out.

mod args;
mod facts;
mod frames;
pub mod harbour;
mod load;
mod motion;
mod raster;
mod render;
mod scene;
mod still;
mod write;

pub use args::UnderstudyCommand;

/// What ends a call of the understudy early: one sentence for its log.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct EarlyEnd(pub String);

impl EarlyEnd {
    fn because(what: impl std::fmt::Display, why: impl std::fmt::Display) -> EarlyEnd {
        EarlyEnd(format!("{what}: {why}"))
    }
}

impl From<String> for EarlyEnd {
    fn from(why: String) -> EarlyEnd {
        EarlyEnd(why)
    }
}

/// Runs one call. The log goes to standard output line by line, a failure as one `error:` line to standard error.
/// Returns the exit code: 0 when everything asked for was written, 1 when not.
pub fn run(command: UnderstudyCommand) -> u8 {
    let done = match command {
        UnderstudyCommand::Render(call) => render::render(&call),
        UnderstudyCommand::Facts { scene } => facts::print(&scene),
    };
    match done {
        Ok(()) => 0,
        Err(stop) => {
            say(std::io::stderr(), &format!("error: {stop}"));
            1
        }
    }
}

/// One line of the log. A reader that has gone away is no reason to stop rendering.
fn say(mut to: impl std::io::Write, line: &str) {
    let _ = writeln!(to, "{line}");
    let _ = to.flush();
}
