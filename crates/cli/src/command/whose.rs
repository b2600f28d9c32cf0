//! `whose`: which job, pass, version and frame a file belongs to, or which part of its name does not fit.

use truepath_core::plan::Plan;
use truepath_core::whose::{Owner, localized, owner, owners_of_name};

use crate::args::{Common, WhoseArgs};
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use truepath_core::resolve::paths::from_system as text;

use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Loaded, Queue};
use crate::show;
use crate::show::whose::FileAnswer;

/// Answers for every file; one that matches no name makes the exit code 1.
pub fn run(args: &WhoseArgs, around: &Around) -> Result<Exit, Failure> {
    let common = Common { sheet: args.sheet.clone(), mode: args.mode.clone(), json: args.json, ..Common::default() };
    let queue = pipeline::load(&common, around, LoadOptions { names: true, ..LoadOptions::default() })?;
    super::tell_findings(&queue, around);
    let here = text(&around.folder);
    let earlier: Vec<Vec<Plan>> = queue.sheets.iter().map(Loaded::earlier).collect();
    let answers: Vec<FileAnswer<'_>> =
        args.files.iter().flat_map(|file| answers(&queue, &earlier, file, &here)).collect();
    if args.json {
        show::print_exact(&show::json::text(&show::json::whose(&queue, &answers)))?;
    } else {
        show::print(&show::whose::text(&queue, &answers, around.out))?;
    }
    let all = answers.iter().all(|answer| matches!(answer.owner, Owner::Series(..)));
    Ok(if all { Exit::Well } else { Exit::No })
}

/// The owners of a file. Of a bare name there may be several, in different folders; of a path there is one, or the plan
/// that knows it best. A sheet is asked as it was called, then without and with each of its modes, then as it was when earlier
/// versions had their first run.
fn answers<'q>(queue: &'q Queue, earlier: &'q [Vec<Plan>], file: &str, here: &str) -> Vec<FileAnswer<'q>> {
    let plans_of = |(at, sheet): (usize, &'q Loaded)| {
        let own =
            sheet.rivals.iter().filter(|plan| plan.home.sheet == sheet.plan.home.sheet && plan.mode != sheet.plan.mode);
        std::iter::once(&sheet.plan).chain(own).chain(&earlier[at]).map(move |plan| (at, plan)).collect::<Vec<_>>()
    };
    let plans: Vec<(usize, &Plan)> = queue.sheets.iter().enumerate().flat_map(plans_of).collect();
    if !file.contains(['/', '\\']) && !std::path::Path::new(&format!("{here}/{file}")).exists() {
        let named = plans.iter().flat_map(|(sheet, plan)| {
            owners_of_name(file, plan).into_iter().map(|owner| FileAnswer {
                path: file.to_owned(),
                sheet: *sheet,
                plan,
                owner,
            })
        });
        let named: Vec<FileAnswer<'q>> = named.collect();
        if !named.is_empty() {
            return named;
        }
    }
    let of_plan = |(at, plan): (usize, &'q Plan)| {
        let path = localized(file, &queue.sheets[at].written, plan, here);
        let owner = owner(&path, plan);
        FileAnswer { path, sheet: at, plan, owner }
    };
    let rank = |answer: &FileAnswer<'_>| match answer.owner {
        Owner::Series(..) => 0,
        Owner::Nobody(_, Some(_)) => 1,
        Owner::Nobody(_, None) => 2,
    };
    plans.into_iter().map(of_plan).min_by_key(rank).into_iter().collect()
}
