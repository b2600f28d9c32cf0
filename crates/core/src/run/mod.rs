//! Running, judged: what is left to render and why, and what a journal says. Nothing here runs anything.

pub mod event;
pub mod fingerprint;
pub mod outstanding;
