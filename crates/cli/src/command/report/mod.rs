//! `report`: one page for the night, of disk, journals, logs and pictures.

mod gather;
mod pictures;
mod window;

use std::path::Path;

use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{Deliveries, Kind, Over};

use super::deliver::{self, Beside};
use crate::args::{Common, ReportArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show::{self, counted, report::MARK};

pub use window::beside;

use pictures::PictureShelf;

/// Bytes of a page at most.
const LARGEST: usize = 10_000_000;

/// A page that is asked for.
#[derive(Clone, Copy)]
pub struct Page<'p> {
    /// Sheets, jobs and settings.
    pub common: &'p Common,
    /// The folder to write the pages into.
    pub out: &'p Path,
    /// Whether another page there is replaced that True Path did not make.
    pub replace: bool,
    /// Where we are.
    pub around: &'p Around,
}

/// Writes the page.
pub fn run(args: &ReportArgs, around: &Around) -> Result<Exit, Failure> {
    let page = Page { common: &args.common, out: &args.out, replace: args.replace, around };
    let written = write(page, false, &mut PictureShelf::new())?;
    let Some(bytes) = written else { return Ok(Exit::No) };
    if args.common.json {
        let document = serde_json::json!({ "truepath": 1, "path": around.folder.join(&args.out), "bytes": bytes });
        show::print_exact(&show::json::text(&document))?;
        return Ok(Exit::Well);
    }
    let size = truepath_core::check::bytes(bytes as f64);
    show::print(&format!("{}: {size}; open it in a browser\n", args.out.display()))?;
    Ok(Exit::Well)
}

/// Refuses a name that the page cannot have, before the work for it begins.
pub fn may_write(page: &Page<'_>, queue: &Queue) -> Result<(), Failure> {
    is_named_as_page(page.out)?;
    deliveries(page, queue).judge(page.out, how(page))
}

fn deliveries(page: &Page<'_>, queue: &Queue) -> Deliveries {
    Beside { common: page.common, queue: Some(queue), around: page.around }.deliveries([page.out], |_| {})
}

fn how(page: &Page<'_>) -> (Kind, Over<'static>) {
    (Kind::Page, deliver::over(page.replace, MARK))
}

fn is_named_as_page(out: &Path) -> Result<(), Failure> {
    let is_page = out
        .extension()
        .is_some_and(|extension| ["html", "htm"].iter().any(|known| extension.eq_ignore_ascii_case(known)));
    if !is_page {
        return Err(
            Failure::unreadable(format!("{} is not an HTML file", out.display())).help("end its name with .html")
        );
    }
    Ok(())
}

/// Looks at everything and writes the page; its bytes, or nothing where a sheet is in the way, which has been told.
fn write(page: Page<'_>, is_under_way: bool, shelf: &mut PictureShelf) -> Result<Option<usize>, Failure> {
    let Page { common, out, around, .. } = page;
    let queue = pipeline::load(common, around, LoadOptions::default())?;
    may_write(&page, &queue)?;
    if super::not_to_be_judged(&queue, around).is_some() {
        return Ok(None);
    }
    truepath_project::guards::files(&queue)?;
    let (mut night, verdicts) = gather::night(&queue, common, around)?;
    night.is_under_way |= is_under_way;
    loop {
        pictures::fill(&page, &queue, (&mut night, &verdicts), shelf);
        let text = show::report::page(&night);
        if text.len() < LARGEST {
            deliveries(&page, &queue).open(out, how(&page))?.write(text.as_bytes())?;
            return Ok(Some(text.len()));
        }
        if shelf.room < LARGEST / 20 {
            let message = format!("a page of {} would be too large", counted(night.planned, "file"));
            return Err(Failure::new(Cause::Refused, message).help("give fewer jobs, or fewer --frames"));
        }
        shelf.room /= 2;
    }
}
