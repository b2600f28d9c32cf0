//! Sheets as texts to plans, without a disk.
#![cfg_attr(not(unix), allow(dead_code))]

use truepath_core::adapter::{self, Adapter};
use truepath_core::check::{self, Input};
use truepath_core::diagnostic::Findings;
use truepath_core::pins::Pins;
use truepath_core::plan::{Adapters, Plan, PlanInput, Selection, plan};
use truepath_core::resolve::{Home, resolve, roots, stack};
use truepath_core::sheet::{Settings, System, parse};
use truepath_core::source::FileId;
use truepath_core::threads::OneByOne;

/// The plan of a sheet in `/work`, with what was found while it was read.
pub fn planned(text: &str) -> (Plan, Findings) {
    made(text, false, Selection::default())
}

/// As [`planned`], with the findings of all checks that need no machine.
pub fn checked(text: &str) -> (Plan, Findings) {
    made(text, true, Selection::default())
}

/// As [`planned`], with jobs that are not enabled.
pub fn planned_all(text: &str) -> (Plan, Findings) {
    made(text, false, Selection { jobs: vec!["*".to_owned()], ..Selection::default() })
}

fn made(text: &str, check: bool, selection: Selection) -> (Plan, Findings) {
    let home = Home {
        folder: "/work".into(),
        sheet: "s".into(),
        user: None,
        system: System::Linux,
        folders: vec!["/work".into()],
        mark: String::new(),
    };
    let mut findings = Findings::default();
    let sheet = parse::sheet(FileId(0), text, &mut findings);
    let stacked = stack(&sheet, &[], &Settings::default(), &mut findings);
    let jobs = resolve(&sheet, &stacked, &|_| None, &home, &mut findings);
    let roots = roots(&sheet, &home, &Default::default(), true);
    let ground =
        PlanInput { sheet: &sheet, roots: &roots, home: &home, modes: &[], pins: &Pins::default(), looking: false };
    let plan = plan(ground, &jobs, &selection);
    if check {
        let adapters = Adapters::new();
        let input = Input {
            sheet: &sheet,
            plan: &plan,
            rivals: &[],
            adapters: &adapters,
            machine: None,
            whole: true,
            threads: &OneByOne,
        };
        check::check(input, &mut findings);
    }
    (plan, findings)
}

/// An adapter from its text, which must be without fault.
#[track_caller]
pub fn adapter(text: &str) -> Adapter {
    let mut findings = Findings::default();
    let adapter = adapter::adapter(FileId(0), text, &mut findings);
    assert!(findings.iter().next().is_none(), "{findings:?}\n{text}");
    adapter
}
