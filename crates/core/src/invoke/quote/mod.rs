//! Text to shell words.

pub mod cmd;
pub mod sh;
