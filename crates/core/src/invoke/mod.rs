//! Series to command lines: what each program is told, and scripts that tell it.

pub mod arguments;
pub mod quote;
pub mod target;
pub mod written;
