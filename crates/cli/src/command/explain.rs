//! `explain`: what a check looks for, why it matters, an example that fails and one that passes.

use truepath_core::diagnostic::{CHECKS, Level, find, nearest};

use crate::args::ExplainArgs;
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use crate::lower::Screen;
use crate::show;

/// Columns of the names of checks in the list.
const NAMES: usize = 30;

/// Prints a check's page, or the list of all checks.
pub fn run(args: &ExplainArgs, screen: Screen) -> Result<Exit, Failure> {
    let Some(name) = &args.check else {
        show::print(&list(screen))?;
        return Ok(Exit::Well);
    };
    let Some(check) = find(name) else {
        let near = nearest(name, CHECKS.iter().map(|check| check.name));
        let help = near.map_or("`truepath explain` lists all checks".to_owned(), |near| format!("write {near}"));
        return Err(Failure::unreadable(format!("there is no check `{name}`")).help(help));
    };
    show::print(&page(check.page, screen))?;
    Ok(Exit::Well)
}

/// All checks, the gravest first.
fn list(screen: Screen) -> String {
    let mut out = String::new();
    for level in [Level::Error, Level::Warning, Level::Note] {
        out.push_str(&format!("{}\n", show::paint(screen, show::HEAD, format!("{}s", level.name()))));
        for check in CHECKS.iter().filter(|check| check.level == level) {
            let mark = match (check.fixes, check.of_files, check.asks_machine) {
                (true, ..) => " [fix]",
                (_, true, _) => " [file]",
                (_, _, true) => " [disk]",
                _ => "",
            };
            let line = format!("  {}{}{mark}", show::pad(check.name, NAMES), check.summary);
            out.push_str(&format!("{}\n", show::wrapped(&line, screen.width.min(100), NAMES + 2)));
        }
        out.push('\n');
    }
    out + "[fix]   `truepath check --fix` can correct it\n\
           [disk]  it looks at the disk and this machine; `check --offline` skips it\n\
           [file]  it looks into rendered files; `verify --deep` and `run` find it\n\
           Read about one: truepath explain CHECK\n"
}

/// A page as text for a terminal: headings without their signs, paragraphs as wide as the terminal, sheets indented.
fn page(page: &str, screen: Screen) -> String {
    let mut out = String::new();
    let mut in_sheet = false;
    for line in page.lines() {
        if line.starts_with("```") {
            in_sheet = !in_sheet;
        } else if in_sheet {
            out.push_str(&format!("{}{line}\n", if line.is_empty() { "" } else { "    " }));
        } else if let Some(heading) = line.strip_prefix('#') {
            out.push_str(&format!("{}\n", show::paint(screen, show::HEAD, heading.trim_start_matches('#').trim())));
        } else {
            out.push_str(&format!("{}\n", show::wrapped(line, screen.width.min(100), 0)));
        }
    }
    out
}
