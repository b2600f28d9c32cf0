//! What touches the machine: files, processes, signals. Each part has small errors of its own and decides nothing about
//! sheets.

pub mod call;
pub mod claims;
pub mod crew;
pub mod export;
pub mod facts;
pub mod feed;
pub mod guard;
pub mod journal;
pub mod lines;
pub mod load;
pub mod lock;
pub mod made;
pub mod observe;
pub mod pin;
pub mod process;
pub mod recover;
pub mod replace;
pub mod spawn;
pub mod stage;
pub mod still;
pub mod supply;
pub mod survey;
pub mod watch;
