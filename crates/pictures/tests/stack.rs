//! Stacks, read back by our own reader and by one that shares nothing with it.
#![allow(clippy::unwrap_used)]

use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Command;

use exr::compression::Compression;
use exr::prelude::{
    AnyChannel, AnyChannels, Encoding, FlatSamples, Image, IntegerBounds, Layer as Part, LayerAttributes, WritableImage,
};
use truepath_pictures::stack::{StackForm, StackLayer, prove, write};

/// A reader of OpenEXR parts in scan lines, of TIFF pages and of OpenRaster in plain Python: it prints the name, the channels
/// and the bytes of every part.
const READER: &str = r#"
import struct, sys, zlib, zipfile
path = sys.argv[1]
data = open(path, "rb").read()
def text(at):
    end = data.index(b"\0", at)
    return data[at:end].decode(), end + 1
def out(name, what, raw):
    print(name, what, raw.hex())
def exr():
    at, several, parts = 8, data[5] & 0x10, []
    while True:
        own = {}
        while data[at]:
            name, at = text(at)
            kind, at = text(at)
            size, = struct.unpack_from("<i", data, at)
            own[name] = data[at + 4:at + 4 + size]
            at += 4 + size
        at += 1
        if not own: break
        parts.append(own)
        if not several: break
    for number, own in enumerate(parts):
        channels, c = [], 0
        list = own["channels"]
        while list[c]:
            end = list.index(b"\0", c)
            kind, = struct.unpack_from("<i", list, end + 1)
            channels.append((list[c:end].decode(), 2 if kind == 1 else 4))
            c = end + 17
        x0, y0, x1, y1 = struct.unpack("<4i", own["dataWindow"])
        packed = own["compression"][0]
        lines = {0: 1, 2: 1, 3: 16}[packed]
        count = (y1 - y0) // lines + 1
        width = x1 - x0 + 1
        planes = {name: b"" for name, _ in channels}
        for place in struct.unpack_from("<%dQ" % count, data, at):
            if several: place += 4
            y, size = struct.unpack_from("<ii", data, place)
            raw = data[place + 8:place + 8 + size]
            rows = min(lines, y1 + 1 - y)
            whole = rows * width * sum(bytes for _, bytes in channels)
            if packed and size < whole:
                mixed = bytearray(zlib.decompress(raw))
                for i in range(1, len(mixed)): mixed[i] = (mixed[i - 1] + mixed[i] - 128) & 255
                half = (len(mixed) + 1) // 2
                raw = bytearray(len(mixed))
                raw[0::2], raw[1::2] = mixed[:half], mixed[half:]
            c = 0
            for row in range(rows):
                for name, bytes in channels:
                    planes[name] += raw[c:c + width * bytes]
                    c += width * bytes
        at += 8 * count
        for name, _ in channels:
            out(own.get("name", b"-").decode(), name + "@%d,%d" % (x0, y0), planes[name])
def tiff():
    at, = struct.unpack_from("<I", data, 4)
    while at:
        tags = {}
        count, = struct.unpack_from("<H", data, at)
        for entry in range(at + 2, at + 2 + 12 * count, 12):
            tag, kind, many = struct.unpack_from("<HHI", data, entry)
            letter = {2: "s", 3: "H", 4: "I"}.get(kind)
            if not letter: continue
            size = struct.calcsize(letter) * many
            place = entry + 8 if size <= 4 else struct.unpack_from("<I", data, entry + 8)[0]
            tags[tag] = data[place:place + many] if kind == 2 else struct.unpack_from("<%d%s" % (many, letter), data, place)
        raw = b"".join(zlib.decompress(data[a:a + n]) for a, n in zip(tags[273], tags[279]))
        out(tags[285].rstrip(b"\0").decode(), "%dx%d" % (len(tags[258]), tags[258][0]), raw)
        at, = struct.unpack_from("<I", data, at + 2 + 12 * count)
def ora():
    import xml.etree.ElementTree as tree
    archive = zipfile.ZipFile(path)
    first = archive.infolist()[0]
    assert (first.filename, first.compress_type, archive.read("mimetype")) == ("mimetype", 0, b"image/openraster")
    for layer in tree.fromstring(archive.read("stack.xml")).iter("layer"):
        out(layer.get("name"), layer.get("visibility"), archive.read(layer.get("src")))
    assert archive.read("mergedimage.png") and archive.read("Thumbnails/thumbnail.png")
{"exr": exr, "tif": tiff, "ora": ora}[path.rsplit(".", 1)[1]]()
"#;

/// Every part of a file as the reader in Python has it: name, what it is, bytes.
fn parts(path: &Path) -> Vec<(String, String, Vec<u8>)> {
    let output = Command::new("python3").args(["-c", READER]).arg(path).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout).unwrap();
    let bytes =
        |hex: &str| (0..hex.len() / 2).map(|at| u8::from_str_radix(&hex[at * 2..at * 2 + 2], 16).unwrap()).collect();
    let part = |line: &str| {
        let mut words = line.splitn(3, ' ');
        (words.next().unwrap().to_owned(), words.next().unwrap().to_owned(), bytes(words.next().unwrap()))
    };
    text.lines().map(part).collect()
}

fn is_there() -> bool {
    let found = Command::new("python3").arg("--version").output().is_ok_and(|output| output.status.success());
    assert!(found || !std::env::var("TRUEPATH_REQUIRE").unwrap_or_default().contains("python3"), "python3 is required");
    if !found {
        eprintln!("SKIPPED: python3 is not on this machine");
    }
    found
}

fn layer(name: &str, file: PathBuf) -> StackLayer {
    StackLayer { name: name.to_owned(), file }
}

#[test]
fn a_multi_part_openexr_holds_every_pass_as_it_is() {
    if !is_there() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let numbers = |count: usize, by: f32| -> Vec<f32> { (0..count).map(|at| at as f32 * by - 1.0).collect() };
    let half =
        |count: usize, by: f32| FlatSamples::F16(numbers(count, by).into_iter().map(half::f16::from_f32).collect());
    let save = |name: &str,
                (origin, size): ((i32, i32), (usize, usize)),
                encoding: Encoding,
                list: Vec<AnyChannel<FlatSamples>>| {
        let channels = AnyChannels::sort(list.into_iter().collect());
        let part = Part::new(size, LayerAttributes::default().with_position(origin.into()), encoding, channels);
        let mut image = Image::from_layer(part);
        image.attributes.display_window = IntegerBounds::from_dimensions((37usize, 21usize));
        image.write().to_file(path(name)).unwrap();
    };
    let colours = |by: f32| ["R", "G", "B", "A"].map(|name| AnyChannel::new(name, half(37 * 21, by))).to_vec();
    save("beauty.exr", ((0, 0), (37, 21)), Encoding::SMALL_LOSSLESS, colours(0.01));
    let tiles = Encoding { compression: Compression::ZIP16, ..Encoding::FAST_LOSSLESS };
    let mut depth = numbers(10 * 5, 3.7);
    (depth[3], depth[4]) = (f32::NAN, f32::INFINITY);
    save("depth.exr", ((4, -2), (10, 5)), tiles, vec![AnyChannel::new("Z", FlatSamples::F32(depth))]);
    save(
        "id.exr",
        ((0, 0), (37, 21)),
        Encoding::UNCOMPRESSED,
        vec![AnyChannel::new("id", FlatSamples::U32((0..37 * 21).collect()))],
    );
    let layers = ["beauty", "depth", "id"].map(|name| layer(name, path(&format!("{name}.exr"))));
    write(StackForm::Exr, &layers, &path("all.exr")).unwrap();
    prove(StackForm::Exr, &layers, &path("all.exr")).unwrap();
    let all = parts(&path("all.exr"));
    let channels: Vec<String> = all.iter().map(|(part, channel, _)| format!("{part} {channel}")).collect();
    assert_eq!(channels, ["beauty A@0,0", "beauty B@0,0", "beauty G@0,0", "beauty R@0,0", "depth Z@4,-2", "id id@0,0"]);
    // Written in tiles, the sources are read by us; the numbers they were made of are known.
    let bytes = |values: Vec<f32>| -> Vec<u8> { values.into_iter().flat_map(f32::to_le_bytes).collect() };
    assert_eq!(all[4].2[..12], bytes(numbers(50, 3.7))[..12]);
    assert!(f32::from_le_bytes(all[4].2[12..16].try_into().unwrap()).is_nan());
    assert_eq!(all[4].2[20..], bytes(numbers(50, 3.7))[20..]);
    let halves: Vec<u8> =
        numbers(37 * 21, 0.01).into_iter().flat_map(|value| half::f16::from_f32(value).to_le_bytes()).collect();
    assert!(all[..4].iter().all(|(.., bytes)| *bytes == halves));
    assert_eq!(all[5].2, (0..37 * 21u32).flat_map(u32::to_le_bytes).collect::<Vec<u8>>());
    // A pass of another picture is refused, and a file with another pass in it is not taken for the same.
    save("other.exr", ((0, 0), (37, 21)), Encoding::UNCOMPRESSED, colours(0.02));
    let other = [layer("beauty", path("other.exr")), layers[1].clone(), layers[2].clone()];
    assert!(prove(StackForm::Exr, &other, &path("all.exr")).unwrap_err().to_string().contains("beauty"));
    let bytes = std::fs::read(path("beauty.exr")).unwrap();
    std::fs::write(path("cut.exr"), &bytes[..bytes.len() / 2]).unwrap();
    let cut = [layer("beauty", path("cut.exr")), layers[1].clone()];
    assert!(write(StackForm::Exr, &cut, &path("no.exr")).is_err());
}

#[test]
fn pages_and_layers_hold_every_pass_as_it_is() {
    if !is_there() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let save = |name: &str, colour: png::ColorType, deep: bool, (width, height): (u32, u32)| {
        let mut encoder = png::Encoder::new(File::create(path(name)).unwrap(), width, height);
        encoder.set_color(colour);
        encoder.set_depth(if deep { png::BitDepth::Sixteen } else { png::BitDepth::Eight });
        let count = (width * height) as usize * colour.samples() * if deep { 2 } else { 1 };
        let bytes: Vec<u8> = (0..count).map(|at| (at * 7 + at / 50) as u8).collect();
        encoder.write_header().unwrap().write_image_data(&bytes).unwrap();
        bytes
    };
    let beauty = save("beauty.png", png::ColorType::Rgba, false, (33, 17));
    let mask = save("mask.png", png::ColorType::GrayscaleAlpha, true, (33, 17));
    let names = ["beauty", "<mask> & \"more\""];
    let layers = [layer(names[0], path("beauty.png")), layer(names[1], path("mask.png"))];
    for (form, file) in [(StackForm::Tiff, "all.tif"), (StackForm::Ora, "all.ora")] {
        write(form, &layers, &path(file)).unwrap();
        prove(form, &layers, &path(file)).unwrap();
    }
    let mut pages = Command::new("python3");
    pages.args(["-c", &READER.replace("print(name, what", "print(name.replace(' ', '_'), what")]);
    let words = |file: &str| -> Vec<Vec<String>> {
        let output = Command::new(pages.get_program()).args(pages.get_args()).arg(path(file)).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout)
            .unwrap()
            .lines()
            .map(|line| line.split(' ').map(str::to_owned).collect())
            .collect()
    };
    let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    // PNG has the high byte first, this TIFF the low one.
    let turned: Vec<u8> = mask.chunks_exact(2).flat_map(|pair| [pair[1], pair[0]]).collect();
    let second = names[1].replace(' ', "_");
    assert_eq!(
        words("all.tif"),
        [
            vec!["beauty".to_owned(), "4x8".to_owned(), hex(&beauty)],
            vec![second.clone(), "2x16".to_owned(), hex(&turned)]
        ]
    );
    let file = |name: &str| hex(&std::fs::read(path(name)).unwrap());
    assert_eq!(
        words("all.ora"),
        [
            vec!["beauty".to_owned(), "visible".to_owned(), file("beauty.png")],
            vec![second, "hidden".to_owned(), file("mask.png")]
        ]
    );
    save("small.png", png::ColorType::Rgb, false, (3, 3));
    for form in [StackForm::Tiff, StackForm::Ora] {
        let mixed = [layers[0].clone(), layer("small", path("small.png"))];
        assert!(write(form, &mixed, &path("no.tif")).unwrap_err().to_string().contains("a different size"), "{form:?}");
        assert!(
            prove(
                form,
                &[layers[1].clone(), layers[0].clone()],
                &path(if form == StackForm::Ora { "all.ora" } else { "all.tif" })
            )
            .is_err()
        );
    }
}
