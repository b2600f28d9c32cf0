//! `adapter`: what there is, what one can carry, a new one, and the proof of what one claims.

mod prove;
mod table;

use std::path::{Path, PathBuf};

use truepath_core::diagnostic::{Finding, Findings, Level};
use truepath_core::plan::Adapters;
use truepath_core::source::Sources;

use super::deliver::Beside;
use crate::args::{AdapterArgs, AdapterNew, AdapterOf, Common};
use crate::pipeline::load;
use truepath_exec::disk;
use truepath_exec::failure::Failure;
use truepath_exec::guard::{Kind, Over};

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline;
use crate::show;

/// The text of a new adapter.
const STARTER: &str = include_str!("starter.toml");

/// Everything that can be done with adapters.
pub fn run(args: &AdapterArgs, around: &Around) -> Result<Exit, Failure> {
    match args {
        AdapterArgs::List(of) => {
            let shelf = KnownAdapters::of(around);
            match of.json {
                true => show::print_exact(&table::list_json(&shelf, around)),
                false => show::print(&table::list(&shelf, around)),
            }?;
            shelf.complain(around);
            Ok(if shelf.findings.has_errors() { Exit::No } else { Exit::Well })
        }
        AdapterArgs::Show(of) => {
            let shelf = KnownAdapters::of(around);
            let adapter = shelf.get(of)?;
            match of.json {
                true => show::print_exact(&table::show_json(adapter)),
                false => show::print(&table::show(adapter, &shelf, around)),
            }?;
            // What is wrong with the others is no matter here.
            let own: Vec<Finding> = shelf.findings.clone().sorted();
            let own: Vec<Finding> = own
                .into_iter()
                .filter(|finding| finding.at.as_ref().is_some_and(|at| at.at.file == adapter.file))
                .collect();
            if !own.is_empty() {
                show::tell(&show::diagnostics::text(&own, &shelf.sources, "the adapter", around.err));
            }
            Ok(if own.iter().any(|finding| finding.level == Level::Error) { Exit::No } else { Exit::Well })
        }
        AdapterArgs::New(new) => starter(new, around),
        AdapterArgs::Prove(prove) => prove::run(prove, &KnownAdapters::of(around), around),
    }
}

/// Every adapter that can be named here.
struct KnownAdapters {
    adapters: Adapters,
    sources: Sources,
    findings: Findings,
    folder: PathBuf,
}

impl KnownAdapters {
    /// The adapters beside the nearest sheet, else beside the current folder, then the user's own, then those in the box.
    fn of(around: &Around) -> KnownAdapters {
        let sheet = load::find_sheets(&[], &around.folder).ok().and_then(|sheets| sheets.into_iter().next());
        let sheet = sheet.unwrap_or_else(|| around.folder.join(load::SHEET));
        let (mut sources, mut findings) = (Sources::default(), Findings::default());
        let mut adapters = pipeline::adapters(&sheet, around, &mut sources, &mut findings);
        // How True Path calls itself is nobody's choice.
        adapters.remove(truepath_core::adapter::MOVIE);
        KnownAdapters { adapters, sources, findings, folder: sheet.parent().unwrap_or(Path::new(".")).to_owned() }
    }

    fn get(&self, of: &AdapterOf) -> Result<&truepath_core::adapter::Adapter, Failure> {
        self.adapters.get(&of.name).ok_or_else(|| {
            let near = truepath_core::diagnostic::nearest(&of.name, self.adapters.keys().map(String::as_str));
            let help = near.map_or("`truepath adapter list` shows all".to_owned(), |near| format!("write {near}"));
            Failure::unreadable(format!("there is no adapter `{}`", of.name)).help(help)
        })
    }

    /// What is wrong with their texts.
    fn complain(&self, around: &Around) {
        let findings = self.findings.clone().sorted();
        if !findings.is_empty() {
            show::tell(&show::diagnostics::text(&findings, &self.sources, "the adapters", around.err));
        }
    }
}

/// What a program says of itself, from a file or from standard input. It need not be UTF-8.
fn help_text(path: &Path) -> Result<String, Failure> {
    let failed = |error: std::io::Error| Failure::unreadable(format!("cannot read {}: {error}", path.display()));
    let bytes = if path == Path::new("-") {
        let mut bytes = Vec::new();
        std::io::Read::read_to_end(&mut std::io::Read::take(std::io::stdin(), disk::MOST_TEXT), &mut bytes)
            .map(|_| bytes)
    } else {
        disk::read(path, disk::MOST_TEXT)
    };
    Ok(String::from_utf8_lossy(&bytes.map_err(failed)?).into_owned())
}

/// Writes a commented starter, and nothing over what is there.
fn starter(new: &AdapterNew, around: &Around) -> Result<Exit, Failure> {
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_' || c == '.';
    if new.name.is_empty() || !new.name.chars().all(plain) {
        return Err(Failure::unreadable(format!("`{}` cannot be the name of an adapter", new.name))
            .help("a name has letters, digits, - _ and . such as closed-renderer"));
    }
    let path = new.into.join(format!("{}.toml", new.name));
    if path.symlink_metadata().is_ok() {
        return Err(Failure::unreadable(format!("{} already exists", path.display())).help("choose another name"));
    }
    let program = new.program.as_deref().unwrap_or(&new.name);
    let body = match &new.from_help {
        None => STARTER.replace("PROGRAM", program).replace("NAME", &new.name),
        Some(help) => truepath_core::adapter::from_help(&new.name, program, &help_text(help)?),
    };
    std::fs::create_dir_all(&new.into).map_err(|error| Failure::machine("make the folder", &new.into, &error))?;
    let beside = Beside { common: &Common::default(), queue: None, around };
    beside.deliveries([path.as_path()], |_| {}).open(&path, (Kind::Text, Over::Never))?.write(body.as_bytes())?;
    show::print(&format!(
        "Wrote {}. Fill it in, then run: truepath adapter show {2}; truepath adapter prove {2} --scene FILE{1}",
        path.display(),
        "\n",
        new.name
    ))?;
    Ok(Exit::Well)
}
