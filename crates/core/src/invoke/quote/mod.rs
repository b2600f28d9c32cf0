//! Text to shell words.

pub mod sh;
