//! Series to command lines: what each program is told, and scripts that tell it.

pub mod arguments;
pub mod encode;
pub mod export;
pub mod quote;
pub mod step;
pub mod target;
pub mod written;
