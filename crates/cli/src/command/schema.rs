//! `schema`: the JSON Schemas of sheet, adapter and machine file, so that an editor completes keys and marks mistakes.

use truepath_core::sheet::schema;

use crate::args::{Described, SchemaArgs};
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use crate::show;

/// Prints the schema.
pub fn run(args: &SchemaArgs) -> Result<Exit, Failure> {
    let schema = match args.of {
        Described::Sheet => schema::sheet(),
        Described::Adapter => truepath_core::adapter::schema::adapter(),
        Described::Machine => schema::machine(),
    };
    show::print_exact(&show::json::text(&schema))?;
    Ok(Exit::Well)
}
