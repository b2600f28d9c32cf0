//! `[accepts]` of an adapter: what its program reads and writes, in the names of the catalogue.

use std::collections::BTreeMap;

use crate::catalogue::{Choice, Codec};
use crate::sheet::read::{Raw, Reader};
use crate::sheet::{FileOption, Key, Layer, Setting, Size};

use super::Adapter;

/// Whether a list of `[accepts]` has a name; one that is left out has all.
#[must_use]
pub fn is_accepted(list: &[String], name: &str) -> bool {
    list.is_empty() || list.iter().any(|own| own == name)
}

/// A list of names that the catalogue knows; scenes are any extension.
pub fn accepts(reader: &mut Reader<'_>, key: &str, raw: &Raw<'_>, adapter: &mut Adapter) {
    let option = FileOption::accepted(key);
    let known: Vec<&str> = option.map(FileOption::words).unwrap_or_default();
    let list: Vec<String> = if known.is_empty() {
        reader.texts(raw, key).unwrap_or_default().into_iter().map(|text| text.value.to_ascii_lowercase()).collect()
    } else {
        let pairs: Vec<(&str, &str)> = known.iter().map(|name| (*name, *name)).collect();
        let list = raw.get_ref().as_array();
        if list.is_none() {
            reader.wrong_kind(raw, key, "a list of names");
        }
        let names = list.into_iter().flatten().filter_map(|raw| reader.choice(raw, key, &pairs));
        names.map(|name| name.value.to_owned()).collect()
    };
    match option {
        Some(option) => drop(adapter.accepts.options.insert(option, list)),
        None => adapter.accepts.scenes = list,
    }
}

/// A table by codec: `one` reads a value.
fn by_codec<T>(
    reader: &mut Reader<'_>,
    (key, raw): (&str, &Raw<'_>),
    one: impl Fn(&mut Reader<'_>, &str, &Raw<'_>) -> Option<T>,
) -> BTreeMap<String, T> {
    let Some(table) = reader.table(raw, key) else { return BTreeMap::new() };
    let mut all = BTreeMap::new();
    for (name, raw) in table {
        if <&Codec>::spelt(name.get_ref()).is_none() {
            reader.unknown(name, key, &FileOption::Codec.words());
        } else if let Some(value) = one(reader, name.get_ref(), raw) {
            all.insert(name.get_ref().to_string(), value);
        }
    }
    all
}

/// Depths of a sample by codec.
pub fn depths(reader: &mut Reader<'_>, raw: &Raw<'_>) -> BTreeMap<String, Vec<String>> {
    by_codec(reader, ("depths", raw), |reader, name, raw| {
        let list = raw.get_ref().as_array();
        if list.is_none() {
            reader.wrong_kind(raw, name, "a list of depths");
        }
        let names: Vec<_> = FileOption::Bits.words().into_iter().map(|name| (name, name)).collect();
        Some(list?.iter().filter_map(|raw| Some(reader.choice(raw, name, &names)?.value.to_owned())).collect())
    })
}

/// Sizes by codec.
pub fn sizes(reader: &mut Reader<'_>, key: &str, raw: &Raw<'_>) -> BTreeMap<String, Size> {
    by_codec(reader, (key, raw), |reader, _, raw| {
        let given = reader.given(&Key::Size, raw, Layer::Job)?;
        if let Setting::Size(size) = &*given.value { Some(*size) } else { None }
    })
}
