//! OpenRaster (freedesktop.org, OpenRaster 0.0.6): a ZIP archive with `mimetype` first and stored, `stack.xml`, a PNG file for
//! each layer, the merged picture and a thumbnail. The PNG files of the passes go in as they are.

use std::fs::File;
use std::io::{Cursor, Read, Write};
use std::path::Path;
use truepath_core::flaw::Flaw;

use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesEnd, BytesStart, Event};
use truepath_core::verify::Seen;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use super::{Fault, StackLayer};
use crate::canvas::Canvas;
use crate::thumbnail::{self, Wish};

/// The most pixels along a side of the thumbnail.
const THUMBNAIL: usize = 256;

pub fn write(layers: &[StackLayer], out: &Path) -> Result<(), Fault> {
    let mut size = None;
    let mut files = Vec::new();
    for layer in layers {
        let own = match truepath_media::probe(&layer.file).map_err(Flaw::of)? {
            Seen::Whole(picture) if picture.file_type == "png" => (picture.width, picture.height),
            _ => return Err(format!("{} is not a whole PNG file", layer.file.display()).into()),
        };
        if *size.get_or_insert(own) != own {
            return Err(format!("{} has a different size than {}", layer.name, layers[0].name).into());
        }
        files.push(std::fs::read(&layer.file).map_err(|error| Flaw::at(layer.file.display(), error))?);
    }
    let (Some(size), Some(first)) = (size, files.first()) else { return Err("there is no pass".into()) };
    // In memory first: the archive must not speak for itself when a disk is full.
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    let mut add = |name: &str, bytes: &[u8]| {
        // PNG files are packed already.
        let stored = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Stored)
            .last_modified_time(zip::DateTime::default());
        archive.start_file(name, stored).map_err(|error| Fault::disk(out, error))?;
        archive.write_all(bytes).map_err(|error| Fault::disk(out, error))
    };
    add("mimetype", b"image/openraster")?;
    add("stack.xml", &stack(layers, size).map_err(|error| Fault::disk(out, error))?)?;
    for (at, bytes) in files.iter().enumerate() {
        add(&place(at), bytes)?;
    }
    add("mergedimage.png", first)?;
    add("Thumbnails/thumbnail.png", &small(&layers[0].file)?)?;
    let bytes = archive.finish().map_err(|error| Fault::disk(out, error))?.into_inner();
    std::fs::write(out, bytes).map_err(|error| Fault::disk(out, error))
}

fn place(at: usize) -> String {
    format!("data/{at:03}.png")
}

/// The layers from the top: the first pass is shown, the others are there to be switched on.
fn stack(layers: &[StackLayer], (width, height): (u32, u32)) -> std::io::Result<Vec<u8>> {
    let mut out = Writer::new(Vec::new());
    out.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let mut image = BytesStart::new("image");
    image.push_attribute(("version", "0.0.6"));
    image.push_attribute(("w", width.to_string().as_str()));
    image.push_attribute(("h", height.to_string().as_str()));
    out.write_event(Event::Start(image))?;
    out.write_event(Event::Start(BytesStart::new("stack")))?;
    for (at, layer) in layers.iter().enumerate() {
        let mut one = BytesStart::new("layer");
        one.push_attribute(("name", layer.name.as_str()));
        one.push_attribute(("src", place(at).as_str()));
        one.push_attribute(("x", "0"));
        one.push_attribute(("y", "0"));
        one.push_attribute(("visibility", if at == 0 { "visible" } else { "hidden" }));
        out.write_event(Event::Empty(one))?;
    }
    out.write_event(Event::End(BytesEnd::new("stack")))?;
    out.write_event(Event::End(BytesEnd::new("image")))?;
    Ok(out.into_inner())
}

/// A small picture, as a PNG file.
fn small(file: &Path) -> Result<Vec<u8>, Flaw> {
    let wish = Wish { within: (THUMBNAIL, THUMBNAIL), stops: 0.0, layer: None, colour: None };
    let small = thumbnail::read(file, wish)?;
    let canvas = Canvas { width: small.width, height: small.height, data: small.rgb(None) };
    canvas.png().map_err(Flaw::of)
}

/// Reads the archive back: each layer has to be the file of its pass.
pub fn prove(layers: &[StackLayer], out: &Path) -> Result<(), Flaw> {
    let mut archive = ZipArchive::new(File::open(out).map_err(|error| Flaw::at(out.display(), error))?)
        .map_err(|error| Flaw::at(out.display(), error))?;
    for (at, layer) in layers.iter().enumerate() {
        let mut bytes = Vec::new();
        archive
            .by_name(&place(at))
            .map_err(|error| Flaw::at(out.display(), error))?
            .read_to_end(&mut bytes)
            .map_err(|error| Flaw::at(out.display(), error))?;
        if std::fs::read(&layer.file).map_err(|error| Flaw::at(out.display(), error))? != bytes {
            return Err(format!("{} is not in it as it is", layer.name).into());
        }
    }
    Ok(())
}
