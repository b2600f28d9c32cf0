//! `schema`: the JSON Schema of the sheet, so that an editor completes keys and marks mistakes.

use truepath_core::sheet::schema;

use crate::exit_code::{Exit, Failure};
use crate::show;

/// Prints the schema.
pub fn run() -> Result<Exit, Failure> {
    show::print(&show::json::text(&schema::sheet()))?;
    Ok(Exit::Well)
}
