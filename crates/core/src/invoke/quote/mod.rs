//! Text to shell words.

pub mod cmd;
pub mod powershell;
pub mod sh;
