//! Series to command lines: what each program is told, and scripts that tell it.

pub mod arguments;
pub mod command_line;
pub mod encode;
pub mod export;
pub mod film;
pub mod quote;
pub mod scope;
pub mod script;
pub mod spelling;
pub mod spread;
pub mod stage;
pub mod written;
pub mod written_file;
