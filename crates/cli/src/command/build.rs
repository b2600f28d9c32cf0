//! `build`: the command lines, as a script or as JSON.

use truepath_core::invoke::target::{self, Step};
use truepath_core::plan::{Invocation, invocations};

use crate::args::{Build, Target};
use crate::exit_code::{Exit, Failure};
use crate::lower::Surroundings;
use crate::pipeline::{self, Way};
use crate::show;

/// Writes all invocations of the plan.
pub fn run(args: &Build, around: &Surroundings) -> Result<Exit, Failure> {
    let queue = pipeline::load(&args.common, around, Way { anew: args.anew, ..Way::default() })?;
    super::tell_findings(&queue, around);
    if let Some(exit) = queue.stopped_here() {
        return Ok(exit);
    }
    let mut scripts = Vec::new();
    for loaded in &queue.sheets {
        super::guard_final(loaded, args.is_final)?;
        super::need_adapters(loaded)?;
        super::pin(loaded, args.anew)?;
        let calls: Vec<Invocation> = invocations(&loaded.plan, &|job| loaded.adapter(job)).collect();
        scripts.push((&loaded.plan, calls.iter().filter_map(|call| loaded.step(call, around)).collect::<Vec<Step>>()));
    }
    let json = args.to == Target::Json || args.common.json;
    let body = if json {
        show::json::text(&show::json::build(&scripts))
    } else {
        let [(plan, steps)] = scripts.as_slice() else {
            return Err(
                Failure::unreadable("a script holds one sheet").help("build each sheet for itself, or take --to json")
            );
        };
        target::sh::script(plan, steps)
    };
    match &args.output {
        None => show::print(&body)?,
        Some(path) => {
            std::fs::write(path, body).map_err(|error| Failure::machine("write", path, &error))?;
            let calls: usize = scripts.iter().map(|(_, steps)| steps.len()).sum();
            show::tell(&format!("{} in {}\n", show::counted(calls as i64, "call"), path.display()));
        }
    }
    Ok(Exit::Well)
}
