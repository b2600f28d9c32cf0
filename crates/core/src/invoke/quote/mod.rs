//! Text to shell words.

pub mod cmd;
pub mod literal;
pub mod powershell;
pub mod sh;
