//! `schema`: the JSON Schemas of sheet, adapter and machine file, so that an editor completes keys and marks mistakes, and those of
//! all documents that are printed, for programs that read them.

use truepath_core::sheet::schema;

use crate::args::SchemaArgs;
use truepath_exec::failure::Failure;

use crate::documents;
use crate::exit_code::Exit;
use crate::show;

/// Prints the schema.
pub fn run(args: &SchemaArgs) -> Result<Exit, Failure> {
    let schema = match args.of.as_str() {
        "sheet" => schema::sheet(),
        "adapter" => truepath_core::adapter::schema::adapter(),
        "machine" => schema::machine(),
        name => documents::schema(name).unwrap_or_default(),
    };
    show::print_exact(&show::json::text(&schema))?;
    Ok(Exit::Well)
}
