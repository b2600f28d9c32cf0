//! Passes that were rendered apart, as one file: a multi-part OpenEXR, a multi-page TIFF, or a layered OpenRaster file.

mod exr;
mod ora;
mod tiff;

use std::path::{Path, PathBuf};
use truepath_core::flaw::Flaw;

use truepath_media::exact::{self, Plane};

/// What passes are put into.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StackForm {
    /// OpenEXR with a part for each pass.
    Exr,
    /// TIFF with a page for each pass.
    Tiff,
    /// OpenRaster with a layer for each pass, the first one on top.
    Ora,
}

/// The forms with the extensions that tell them.
pub const FORMS: [(StackForm, &str, &[&str]); 3] = [
    (StackForm::Exr, "a multi-part OpenEXR", &["exr"]),
    (StackForm::Tiff, "a multi-page TIFF", &["tif", "tiff"]),
    (StackForm::Ora, "a layered OpenRaster file", &["ora"]),
];

impl StackForm {
    /// The form that an extension tells.
    #[must_use]
    pub fn of(extension: &str) -> Option<StackForm> {
        let is = |known: &&str| known.eq_ignore_ascii_case(extension);
        FORMS.iter().find(|(.., known)| known.iter().any(is)).map(|(form, ..)| *form)
    }

    /// The types of pictures that it can hold without changing a sample.
    #[must_use]
    pub fn takes(self) -> &'static [&'static str] {
        match self {
            StackForm::Exr => &["exr"],
            StackForm::Tiff => &["png", "tiff", "exr", "jpeg", "tga", "bmp", "webp", "hdr", "dpx"],
            StackForm::Ora => &["png"],
        }
    }
}

/// One pass.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StackLayer {
    /// Its name.
    pub name: String,
    /// Its file.
    pub file: PathBuf,
}

/// Why a file cannot be made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// Something is wrong with its passes.
    #[error(transparent)]
    Passes(#[from] Flaw),
    /// It cannot be written.
    #[error(transparent)]
    Disk(Flaw),
}

impl From<String> for Fault {
    fn from(why: String) -> Fault {
        Fault::Passes(why.into())
    }
}

impl From<&str> for Fault {
    fn from(why: &str) -> Fault {
        Fault::Passes(why.into())
    }
}

impl Fault {
    fn disk(out: &Path, error: impl std::error::Error + Send + Sync + 'static) -> Fault {
        Fault::Disk(Flaw::at(out.display(), error))
    }
}

/// Puts the files of some passes into one.
///
/// # Errors
/// When one of them cannot be read, is of another size than the others, or holds what the form cannot, or when the file
/// cannot be written.
pub fn write(form: StackForm, layers: &[StackLayer], out: &Path) -> Result<(), Fault> {
    match form {
        StackForm::Exr => exr::write(layers, out),
        StackForm::Tiff => tiff::write(layers, out),
        StackForm::Ora => ora::write(layers, out),
    }
}

/// Reads a file back that was just made, and compares every sample of it with those of its passes.
///
/// # Errors
/// When anything is not the same: what.
pub fn prove(form: StackForm, layers: &[StackLayer], out: &Path) -> Result<(), Flaw> {
    if form == StackForm::Ora {
        return ora::prove(layers, out);
    }
    let all = exact::read(out)?;
    let mut rest: Vec<&Plane> = all.planes.iter().collect();
    for (at, layer) in layers.iter().enumerate() {
        let own = exact::read(&layer.file)?;
        if (own.width, own.height) != (all.width, all.height) {
            return Err(format!("{} has a different size in it", layer.name).into());
        }
        // Pages have numbers, parts have names.
        let prefix = match (form, at) {
            (StackForm::Tiff, 0) => String::new(),
            (StackForm::Tiff, _) => format!("{}.", at + 1),
            _ => format!("{}.", layer.name),
        };
        let planes = if form == StackForm::Tiff { tiff::arranged(&own)? } else { own.planes.iter().collect() };
        let count = planes.len();
        for (at, plane) in planes.into_iter().enumerate() {
            let name = match (form, count, at) {
                // A page knows no names of channels but those of its colours.
                (StackForm::Tiff, 1 | 2, 0) => "Y",
                _ => &plane.name,
            };
            let name = format!("{prefix}{name}");
            let at = rest.iter().position(|other| other.name == name);
            let found =
                rest.swap_remove(at.ok_or_else(|| format!("{} of {} is missing in it", plane.name, layer.name))?);
            let is_same =
                (found.origin, found.size) == (plane.origin, plane.size) && found.values.is_same(&plane.values);
            if !is_same {
                return Err(format!("{} of {} is not the same in it", plane.name, layer.name).into());
            }
        }
    }
    if rest.is_empty() { Ok(()) } else { Err("it has more channels than its passes".into()) }
}
