//! Adapters: where their texts are, which are like which, and which variant fits the program on this machine.

use std::collections::BTreeMap;
use std::path::Path;

use truepath_core::adapter::{self, Adapter, AdapterLayer};
use truepath_core::diagnostic::{Findings, Slug, Words, nearest};
use truepath_core::plan::Adapters;
use truepath_core::resolve::paths;
use truepath_core::sheet::FileOption;
use truepath_core::source::{FileId, Sources, Spanned};
use truepath_exec::record;
use truepath_exec::state::StateFolder;

use super::load;
use super::programs::{Places, program};
use super::trust::ADAPTERS;
use crate::surroundings::Surroundings;

/// The text of an adapter: its name, and how near to the sheet it was found. 0 is beside it.
struct Text {
    name: String,
    level: usize,
    file: FileId,
}

/// The adapters that a sheet can name: those in `adapters` beside it, then the user's own, then those in the box; each with
/// its variants under names of their own.
pub(super) fn adapters(
    sheet: &Path,
    configuration: Option<&Path>,
    (around, sources): (&Surroundings, &mut Sources),
    findings: &mut Findings,
) -> Adapters {
    let mut texts = Vec::new();
    let folders = [sheet.parent(), configuration];
    for (level, folder) in folders.into_iter().enumerate().filter_map(|(level, folder)| Some((level, folder?))) {
        for path in load::toml_files(&folder.join(ADAPTERS)) {
            let Ok(body) = load::text(&path) else { continue };
            let name = paths::stem(&paths::from_system(&path)).to_owned();
            texts.push(Text { name, level, file: sources.add(load::short(&path, &around.folder), body) });
        }
    }
    for (name, body) in adapter::BUILT_IN {
        let file = sources.add(format!("the adapter {name}"), *body);
        texts.push(Text { name: (*name).to_owned(), level: folders.len(), file });
    }
    let shelf = Shelf { texts: &texts, sources };
    let mut all = Adapters::new();
    for text in &texts {
        if all.contains_key(&text.name) {
            // One nearer to the sheet bears the name.
            continue;
        }
        let chain = shelf.chain(text, findings);
        let layers: Vec<AdapterLayer<'_>> = chain
            .iter()
            .map(|text| AdapterLayer { file: text.file, text: &shelf.sources.get(text.file).text })
            .collect();
        let below: Vec<String> = chain[..chain.len() - 1].iter().map(|text| text.name.clone()).collect();
        // It is called as its file is, whatever a copy may still say of itself.
        let named = |name: String, own: Adapter| Adapter { name, below: below.clone(), ..own };
        let own = named(text.name.clone(), adapter::layered(&layers, None, findings));
        for variant in &own.variants {
            let name = format!("{}@{}", text.name, variant.name);
            let mut quiet = Findings::default();
            all.insert(name.clone(), named(name, adapter::layered(&layers, Some(&variant.name), &mut quiet)));
        }
        all.insert(text.name.clone(), own);
    }
    // What this program was built without, its encoder cannot do.
    if let Some(built_in) = all.get_mut(adapter::BUILT_IN_ENCODERS[0]) {
        built_in
            .accepts
            .keep(FileOption::Codec, &truepath_movie::built_in().iter().map(|codec| codec.name).collect::<Vec<_>>());
    }
    all
}

/// All texts that can be named.
struct Shelf<'s> {
    texts: &'s [Text],
    sources: &'s Sources,
}

impl<'s> Shelf<'s> {
    /// A text with those that it is like, the lowest first. A name that nothing bears and a circle are findings.
    fn chain(&self, text: &'s Text, findings: &mut Findings) -> Vec<&'s Text> {
        let mut chain = vec![text];
        while let Some(last) = chain.last().copied() {
            let Some(like) = adapter::like(last.file, &self.sources.get(last.file).text) else { break };
            let Some(next) = self.below(last, &like) else {
                let known =
                    self.texts.iter().filter(|other| other.level >= last.level).map(|other| other.name.as_str());
                let words = Words::new(format!("there is no adapter `{}`", like.value), "`like` names it");
                let words = match nearest(&like.value, known) {
                    Some(near) => words.help(format!("write \"{near}\"")).fix(like.at, near),
                    None => words.help(format!("put {}.toml beside this file", like.value)),
                };
                // What is wrong with another text is said where that one is read.
                if chain.len() == 1 {
                    findings.add(Slug::AdapterMissing, Some(like.at), None, words);
                }
                break;
            };
            if chain.iter().any(|known| known.file == next.file) {
                let message = format!("the adapter `{}` is `like` itself", like.value);
                let words = Words::new(message, "this `like` leads back to it");
                findings.add(Slug::AdapterMissing, Some(like.at), None, words.help("remove one `like` of this circle"));
                break;
            }
            chain.push(next);
        }
        chain.reverse();
        chain
    }

    /// The text that another one is like: found no nearer to the sheet than that one is, so that a sheet's folder cannot
    /// change what the user's own adapters start. One that is like its own name means the one that it hides.
    fn below(&self, text: &Text, like: &Spanned<String>) -> Option<&'s Text> {
        let hidden = like.value == text.name;
        let reachable = |other: &&Text| if hidden { other.level > text.level } else { other.level >= text.level };
        self.texts.iter().filter(reachable).find(|other| other.name == like.value)
    }
}

/// Puts the variant that fits the program on this machine in place of each adapter that has variants for versions. Where
/// the program is not here or may not be asked, the adapter stays as it is. Versions that fit no variant are returned, by adapter.
pub(super) fn fit(
    adapters: &mut Adapters,
    used: &[String],
    places: &Places<'_>,
    state: &StateFolder,
) -> BTreeMap<String, String> {
    let mut unfit = BTreeMap::new();
    for name in used {
        let Some(own) = adapters.get(name) else { continue };
        if own.unasked || own.variants.iter().all(|variant| variant.matches.is_none()) {
            continue;
        }
        let Ok(program) = program(own, places) else { continue };
        let Some(version) = record::version(own, &program, (&state.facts(), places.folder)) else { continue };
        let Some(variant) = own.variants.iter().find(|variant| variant.is_for(&version)) else {
            unfit.insert(name.clone(), version);
            continue;
        };
        tracing::info!(adapter = %name, variant = %variant.name, %version, "fits");
        let varied = adapters.get(&format!("{name}@{}", variant.name)).cloned();
        adapters.extend(varied.map(|varied| (name.clone(), Adapter { name: name.clone(), ..varied })));
    }
    unfit
}
