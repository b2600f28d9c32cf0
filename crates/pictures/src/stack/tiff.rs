//! A multi-page TIFF (TIFF 6.0): a page for each pass, with its name in `PageName` (tag 285) and its samples as they are.
use std::fs::File;
use std::io::BufWriter;
use std::path::Path;

use tiff::encoder::colortype::{
    ColorType, Gray8, Gray16, Gray32, Gray32Float, Gray64Float, RGB8, RGB16, RGB32, RGB32Float, RGB64Float,
};
use tiff::encoder::{Compression, DeflateLevel, TiffEncoder, TiffValue};
use tiff::tags::{ExtraSamples, Tag};
use truepath_core::catalogue::Light;
use truepath_core::flaw::Flaw;
use truepath_media::exact::{self, Exact, Plane, Values};

use super::{Fault, StackLayer};

/// The channels of a picture in the order in which a TIFF has them: colours, then alpha.
///
/// # Errors
/// When it holds what a page cannot: why.
pub fn arranged(own: &Exact) -> Result<Vec<&Plane>, Flaw> {
    let size = (own.width as usize, own.height as usize);
    if own.planes.iter().any(|plane| (plane.origin, plane.size) != ((0, 0), size)) {
        return Err("has different data and display windows, which a TIFF page cannot store".into());
    }
    let named = |name: &str| own.planes.iter().find(|plane| plane.name == name);
    let alpha = named("A");
    let rest: Vec<&Plane> = own.planes.iter().filter(|plane| plane.name != "A").collect();
    let colours = match (named("R"), named("G"), named("B"), rest.as_slice()) {
        (Some(red), Some(green), Some(blue), [_, _, _]) => vec![red, green, blue],
        (.., [one]) => vec![*one],
        _ => return Err("has several layers, or channels that are not colours".into()),
    };
    let all: Vec<&Plane> = colours.into_iter().chain(alpha).collect();
    let kind = |plane: &Plane| std::mem::discriminant(&plane.values);
    if all.iter().any(|plane| kind(plane) != kind(all[0])) {
        return Err("has channels of several depths".into());
    }
    Ok(all)
}

pub fn write(layers: &[StackLayer], out: &Path) -> Result<(), Fault> {
    let file = BufWriter::new(File::create(out).map_err(|error| Fault::disk(out, error))?);
    let mut encoder = TiffEncoder::new(file)
        .map_err(|error| Fault::disk(out, error))?
        .with_compression(Compression::Deflate(DeflateLevel::Balanced));
    let mut size = None;
    for layer in layers {
        let own = exact::read(&layer.file)?;
        if *size.get_or_insert((own.width, own.height)) != (own.width, own.height) {
            return Err(format!("{} has a different size than {}", layer.name, layers[0].name).into());
        }
        let planes = arranged(&own).map_err(|why| format!("{} {why}", layer.name))?;
        page(&mut encoder, (&layer.name, &own), &planes).map_err(|error| Fault::disk(out, error))?;
    }
    if layers.is_empty() { Err("there is no pass".into()) } else { Ok(()) }
}

type LayerEncoder = TiffEncoder<BufWriter<File>>;

fn page(encoder: &mut LayerEncoder, about: (&str, &Exact), planes: &[&Plane]) -> tiff::TiffResult<()> {
    macro_rules! of {
        ($kind:ident, $grey:ty, $rgb:ty) => {{
            let all: Vec<_> = planes
                .iter()
                .filter_map(|plane| match &plane.values {
                    Values::$kind(values) => Some(values.as_slice()),
                    _ => None,
                })
                .collect();
            if planes.len() > 2 { put::<$rgb>(encoder, about, &all) } else { put::<$grey>(encoder, about, &all) }
        }};
    }
    match planes[0].values {
        Values::Eight(_) => of!(Eight, Gray8, RGB8),
        Values::Sixteen(_) => of!(Sixteen, Gray16, RGB16),
        Values::ThirtyTwo(_) => of!(ThirtyTwo, Gray32, RGB32),
        Values::Float(_) => of!(Float, Gray32Float, RGB32Float),
        Values::Double(_) => of!(Double, Gray64Float, RGB64Float),
    }
}

fn put<C: ColorType>(
    encoder: &mut LayerEncoder,
    (name, own): (&str, &Exact),
    planes: &[&[C::Inner]],
) -> tiff::TiffResult<()>
where
    C::Inner: Copy,
    [C::Inner]: TiffValue,
{
    let mut page = encoder.new_image::<C>(own.width, own.height)?;
    page.encoder().write_tag(Tag::Unknown(285), name)?;
    if planes.len().is_multiple_of(2) {
        // Light comes multiplied by alpha (OpenEXR), everything else does not.
        let premultiplied = own.light == Light::Linear;
        let alpha = if premultiplied { ExtraSamples::AssociatedAlpha } else { ExtraSamples::UnassociatedAlpha };
        page.extra_samples(&[alpha])?;
    }
    let pixels = planes.first().map_or(0, |plane| plane.len());
    let data: Vec<C::Inner> = (0..pixels).flat_map(|at| planes.iter().map(move |plane| plane[at])).collect();
    page.write_data(&data)
}
