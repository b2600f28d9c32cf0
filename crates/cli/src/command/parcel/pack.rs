//! `parcel pack`: writes self-contained folders.

use serde_json::json;
use truepath_exec::failure::Failure;
use truepath_project::parcel::{self, PackRequest, PackedParcel};

use crate::args::{Common, PackArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions};
use crate::show::told::Told;
use crate::show::{self, counted};

/// Packs the plan.
pub fn run(args: &PackArgs, around: &Around) -> Result<Exit, Failure> {
    let mut queue = pipeline::load(&args.common, around, LoadOptions::default())?;
    super::super::tell_findings(&queue, around);
    if let Some(stop) = queue.stopped_here() {
        return Ok(stop.into());
    }
    let said = said(&args.common);
    let request = PackRequest {
        into: &args.into,
        parts: args.parts.map(|parts| usize::try_from(parts).unwrap_or(usize::MAX)),
        missing: args.missing,
        archive: args.archive,
        is_final: args.is_final,
        said: &said,
    };
    let packed = parcel::pack(&mut queue, &request, around, &Told::new(around))?;
    if args.common.json {
        let one = |own: &PackedParcel| json!({ "path": around.folder.join(&own.place), "files": own.files });
        let all: Vec<_> = packed.iter().map(one).collect();
        return show::print_exact(&show::json::text(&json!({ "truepath": 1, "parcels": all }))).map(|()| Exit::Well);
    }
    if packed.is_empty() {
        show::tell("nothing to pack\n");
        return Ok(Exit::Well);
    }
    show::tell(&format!(
        "{}; render each with `truepath parcel render DIR` or its render.sh or render.cmd, then: truepath parcel collect DIR...\n",
        counted(packed.len() as i64, "parcel")
    ));
    Ok(Exit::Well)
}

/// What was said of modes and settings.
fn said(common: &Common) -> Vec<String> {
    let all = [("--mode", &common.mode), ("--set", &common.set)];
    let mut said: Vec<String> = Vec::new();
    for (name, values) in all {
        said.extend(values.iter().flat_map(|value| [name.to_owned(), value.clone()]));
    }
    said.extend(common.scale.iter().flat_map(|scale| ["--scale".to_owned(), scale.clone()]));
    said
}
