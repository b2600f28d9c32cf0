//! A plan on its way: calls for workers and licences, tried again where they fail, until nothing is left to be done. What is
//! decided stands apart from the threads that carry it out: `supply` and `tries` know neither.

mod attempt;
mod checkpoint;
mod context;
mod crew;
mod feed;
mod finished;
mod movies;
mod orders;
mod parts;
mod persist;
mod room;
mod supply;
mod tries;
mod waiting;
mod watch;
mod written;

pub use crew::run;
pub use orders::{Orders, RunOutcome};
pub use supply::{Order, Supply, TakenOrder};
