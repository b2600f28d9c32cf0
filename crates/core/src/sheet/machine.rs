//! The machine file, `config.toml` in the user's configuration folder: where things are on this machine. It never changes
//! what is rendered or how chunks are cut.

use std::collections::BTreeMap;

use crate::diagnostic::Findings;
use crate::source::{FileId, Place, Spanned};

use super::parse::toml_table;
use super::read::{Raw, Reader};

/// The keys of a machine file and what each means.
pub const KEYS: [(&str, &str); 4] = [
    ("programs", "Full paths of programs, by the name that an adapter gives."),
    ("roots", "Folders of roots on this machine, by name."),
    ("workers", "Renderers at a time on this machine, unless --workers is given."),
    ("licences", "How many licences this machine may use at a time, by name; a sheet may allow fewer."),
];

/// What is where on this machine.
#[derive(Clone, Debug, Default)]
pub struct MachineFile {
    /// Full paths of programs, by the name that an adapter gives.
    pub programs: BTreeMap<String, String>,
    /// Folders of roots, by name.
    pub roots: BTreeMap<String, Spanned<String>>,
    /// Renderers at a time.
    pub workers: Option<i64>,
    /// Licences that this machine may use at a time, by name.
    pub licences: BTreeMap<String, i64>,
}

/// Reads a machine file; mistakes are findings.
pub fn machine(file: FileId, text: &str, findings: &mut Findings) -> MachineFile {
    let table = toml_table(file, text, findings);
    let mut reader = Reader { file, text, findings, place_of: |_| None, strays: Vec::new() };
    let mut machine = MachineFile::default();
    for (key, raw) in reader.keyed(&table, "the machine file", &KEYS.map(|(name, _)| name)) {
        match key {
            "workers" => machine.workers = reader.workers(raw, "workers"),
            "licences" => machine.licences = reader.licences(raw),
            "programs" => {
                machine.programs =
                    named(&mut reader, raw, "programs").into_iter().map(|(name, path)| (name, path.value)).collect()
            }
            _ => machine.roots = named(&mut reader, raw, "roots").into_iter().collect(),
        }
    }
    machine
}

fn named(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<(String, Spanned<String>)> {
    let Some(table) = reader.table(raw, key) else { return Vec::new() };
    let entry = |(name, raw): (&toml::Spanned<std::borrow::Cow<'_, str>>, &Raw<'_>), reader: &mut Reader<'_>| {
        let path = reader.text(raw, name.get_ref())?;
        Some((name.get_ref().to_string(), Spanned::new(path.value, Place::new(reader.file, raw.span()))))
    };
    table.iter().filter_map(|pair| entry(pair, reader)).collect()
}
