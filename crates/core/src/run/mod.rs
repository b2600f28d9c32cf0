//! Running, judged: what is left to render and why, who renders it, how long it takes, and what the journals say. Nothing
//! here runs anything.

pub mod causes;
pub mod claim;
pub mod cost;
pub mod event;
pub mod fingerprint;
pub mod history;
pub mod looked;
pub mod meant;
pub mod order;
pub mod outstanding;
pub mod pace;
pub mod split;
pub mod tally;
pub mod tasks;
pub mod trial;
