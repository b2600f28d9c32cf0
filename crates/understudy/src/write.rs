//! Pixels to files: PNG 8/16, JPEG, TIFF 8/16/float, OpenEXR half/float. The file type is the path's extension.

use std::fs::File;
use std::io::BufWriter;
use std::path::Path;

use exr::prelude::{
    AnyChannel, AnyChannels, Encoding, FlatSamples, Image, Layer as ExrLayer, LayerAttributes, WritableImage, f16,
};
use tiff::encoder::colortype::{self, ColorType};
use tiff::encoder::{Compression as TiffCompression, DeflateLevel, TiffEncoder};
use tiff::tags::{PhotometricInterpretation, SampleFormat};

use crate::EarlyEnd;
use crate::args::{ColourValues, FileOptions, PictureChannels, SampleBits};
use crate::raster::RasterPixel;

#[derive(Clone, Copy, PartialEq, Eq)]
pub enum RenderPass {
    Beauty,
    Depth,
    Normal,
    Mask,
}

/// One pass on its way into a file.
pub struct PassLayer<'a> {
    pub name: &'a str,
    pub pass: RenderPass,
    pub options: &'a FileOptions,
}

/// What is the same for all layers of a file.
pub struct PictureHead {
    pub width: usize,
    pub height: usize,
    pub far: f32,
}

/// The channels a pass has when the call does not say.
fn usual_channels(pass: RenderPass) -> PictureChannels {
    match pass {
        RenderPass::Beauty => PictureChannels::Rgba,
        RenderPass::Normal => PictureChannels::Rgb,
        RenderPass::Depth | RenderPass::Mask => PictureChannels::Grey,
    }
}

/// Writes `pixels` to `path`; several layers need OpenEXR.
pub fn write(path: &Path, layers: &[PassLayer], pixels: &[RasterPixel], picture: &PictureHead) -> Result<(), EarlyEnd> {
    let stop = |why: &dyn std::fmt::Display| EarlyEnd::because(path.display(), why);
    let extension = path.extension().and_then(|e| e.to_str()).unwrap_or("").to_ascii_lowercase();
    let [layer] = layers else {
        return if extension == "exr" {
            exr(path, layers, pixels, picture)
        } else {
            Err(stop(&"this type holds one pass a file"))
        };
    };
    match extension.as_str() {
        "exr" => exr(path, layers, pixels, picture),
        "png" => png(path, layer, pixels, picture),
        "jpg" | "jpeg" => jpeg(path, layer, pixels, picture),
        "tif" | "tiff" => tiff(path, layer, pixels, picture),
        _ => Err(stop(&format!("no type for the extension '{extension}'; there are png, jpg, jpeg, tif, tiff, exr"))),
    }
}

/// The samples of one pass, channel by channel within each pixel.
fn samples(
    layer: &PassLayer,
    channels: PictureChannels,
    pixels: &[RasterPixel],
    picture: &PictureHead,
    float: bool,
) -> Vec<f32> {
    let usual = if float { ColourValues::Linear } else { ColourValues::Display };
    let display = layer.options.colour.unwrap_or(usual) == ColourValues::Display;
    let curve = |light: f32| if display { srgb(light) } else { light };
    let mut out = Vec::with_capacity(pixels.len() * channels.count());
    for pixel in pixels {
        let (rgb, alpha) = match layer.pass {
            RenderPass::Beauty => {
                ([curve(pixel.beauty.x), curve(pixel.beauty.y), curve(pixel.beauty.z)], pixel.beauty.w)
            }
            RenderPass::Depth => ([if float { pixel.depth } else { pixel.depth / picture.far }; 3], 1.0),
            RenderPass::Normal if float => (pixel.normal.to_array(), 1.0),
            RenderPass::Normal => ((pixel.normal * 0.5 + 0.5).to_array(), 1.0),
            RenderPass::Mask => ([pixel.mask; 3], 1.0),
        };
        let grey = if rgb[0] == rgb[1] && rgb[1] == rgb[2] {
            rgb[0]
        } else {
            0.2126 * rgb[0] + 0.7152 * rgb[1] + 0.0722 * rgb[2]
        };
        match channels {
            PictureChannels::Grey => out.push(grey),
            PictureChannels::GreyAlpha => out.extend([grey, alpha]),
            PictureChannels::Rgb => out.extend(rgb),
            PictureChannels::Rgba => out.extend([rgb[0], rgb[1], rgb[2], alpha]),
        }
    }
    out
}

/// IEC 61966-2-1.
fn srgb(light: f32) -> f32 {
    let light = light.clamp(0.0, 1.0);
    if light <= 0.003_130_8 { light * 12.92 } else { 1.055 * light.powf(1.0 / 2.4) - 0.055 }
}

fn eight(samples: &[f32]) -> Vec<u8> {
    samples.iter().map(|sample| (sample.clamp(0.0, 1.0) * 255.0 + 0.5) as u8).collect()
}

fn sixteen(samples: &[f32]) -> Vec<u16> {
    samples.iter().map(|sample| (sample.clamp(0.0, 1.0) * 65535.0 + 0.5) as u16).collect()
}

fn create(path: &Path) -> Result<BufWriter<File>, EarlyEnd> {
    File::create(path).map(BufWriter::new).map_err(|e| EarlyEnd::because(path.display(), e))
}

fn png(path: &Path, layer: &PassLayer, pixels: &[RasterPixel], picture: &PictureHead) -> Result<(), EarlyEnd> {
    let stop = |why: &dyn std::fmt::Display| EarlyEnd::because(path.display(), why);
    let channels = layer.options.channels.unwrap_or(usual_channels(layer.pass));
    let samples = samples(layer, channels, pixels, picture, false);
    let (bits, bytes) = match layer.options.bits.unwrap_or(SampleBits::Eight) {
        SampleBits::Eight => (png::BitDepth::Eight, eight(&samples)),
        SampleBits::Sixteen => {
            (png::BitDepth::Sixteen, sixteen(&samples).into_iter().flat_map(u16::to_be_bytes).collect())
        }
        SampleBits::Half | SampleBits::Float => return Err(stop(&"PNG holds 8 or 16 bits")),
    };
    let mut encoder = png::Encoder::new(create(path)?, picture.width as u32, picture.height as u32);
    encoder.set_depth(bits);
    encoder.set_compression(png::Compression::Fast);
    encoder.set_color(match channels {
        PictureChannels::Grey => png::ColorType::Grayscale,
        PictureChannels::GreyAlpha => png::ColorType::GrayscaleAlpha,
        PictureChannels::Rgb => png::ColorType::Rgb,
        PictureChannels::Rgba => png::ColorType::Rgba,
    });
    let mut writer = encoder.write_header().map_err(|e| stop(&e))?;
    writer.write_image_data(&bytes).map_err(|e| stop(&e))?;
    writer.finish().map_err(|e| stop(&e))
}

fn jpeg(path: &Path, layer: &PassLayer, pixels: &[RasterPixel], picture: &PictureHead) -> Result<(), EarlyEnd> {
    let stop = |why: &dyn std::fmt::Display| EarlyEnd::because(path.display(), why);
    let usual =
        if usual_channels(layer.pass) == PictureChannels::Grey { PictureChannels::Grey } else { PictureChannels::Rgb };
    let channels = layer.options.channels.unwrap_or(usual);
    if matches!(channels, PictureChannels::GreyAlpha | PictureChannels::Rgba) {
        return Err(stop(&"JPEG holds no alpha"));
    }
    if layer.options.bits.is_some_and(|bits| bits != SampleBits::Eight) {
        return Err(stop(&"JPEG can hold 8 bits only"));
    }
    let bytes = eight(&samples(layer, channels, pixels, picture, false));
    let encoder = jpeg_encoder::Encoder::new(create(path)?, layer.options.quality.unwrap_or(90).max(1));
    let (width, height) = (picture.width as u16, picture.height as u16);
    encoder.encode_image(Flat { bytes, grey: channels == PictureChannels::Grey, width, height }).map_err(|e| stop(&e))
}

/// One or three bytes a pixel: the only image that the JPEG encoder is compiled for.
struct Flat {
    bytes: Vec<u8>,
    grey: bool,
    width: u16,
    height: u16,
}

impl jpeg_encoder::ImageBuffer for Flat {
    fn get_jpeg_color_type(&self) -> jpeg_encoder::JpegColorType {
        if self.grey { jpeg_encoder::JpegColorType::Luma } else { jpeg_encoder::JpegColorType::Ycbcr }
    }

    fn width(&self) -> u16 {
        self.width
    }

    fn height(&self) -> u16 {
        self.height
    }

    fn fill_buffers(&self, y: u16, buffers: &mut [Vec<u8>; 4]) {
        let row = usize::from(self.width) * if self.grey { 1 } else { 3 };
        let row = &self.bytes[row * usize::from(y)..][..row];
        if self.grey {
            buffers[0].extend_from_slice(row);
            return;
        }
        for pixel in row.as_chunks::<3>().0 {
            let (luma, blue, red) = jpeg_encoder::rgb_to_ycbcr(pixel[0], pixel[1], pixel[2]);
            buffers[0].push(luma);
            buffers[1].push(blue);
            buffers[2].push(red);
        }
    }
}

fn tiff(path: &Path, layer: &PassLayer, pixels: &[RasterPixel], picture: &PictureHead) -> Result<(), EarlyEnd> {
    let stop = |why: &dyn std::fmt::Display| EarlyEnd::because(path.display(), why);
    let channels = layer.options.channels.unwrap_or(usual_channels(layer.pass));
    let compression = match layer.options.compression.as_deref() {
        None | Some("none") => TiffCompression::Uncompressed,
        Some("lzw") => TiffCompression::Lzw,
        Some("deflate") => TiffCompression::Deflate(DeflateLevel::Balanced),
        Some("packbits") => TiffCompression::Packbits,
        Some(other) => return Err(stop(&format!("TIFF has no compression '{other}' here"))),
    };
    let mut encoder = TiffEncoder::new(create(path)?).map_err(|e| stop(&e))?.with_compression(compression);
    let bits = layer.options.bits.unwrap_or(SampleBits::Eight);
    let samples = samples(layer, channels, pixels, picture, bits == SampleBits::Float);
    let (width, height) = (picture.width as u32, picture.height as u32);
    macro_rules! put {
        ($grey:ident, $both:ident, $rgb:ident, $rgba:ident, $data:expr) => {
            match channels {
                PictureChannels::Grey => encoder.write_image::<colortype::$grey>(width, height, &$data),
                PictureChannels::Rgb => encoder.write_image::<colortype::$rgb>(width, height, &$data),
                PictureChannels::Rgba => encoder.write_image::<colortype::$rgba>(width, height, &$data),
                PictureChannels::GreyAlpha => encoder.write_image::<$both>(width, height, &$data),
            }
        };
    }
    let done = match bits {
        SampleBits::Eight => put!(Gray8, GreyAlpha8, RGB8, RGBA8, eight(&samples)),
        SampleBits::Sixteen => put!(Gray16, GreyAlpha16, RGB16, RGBA16, sixteen(&samples)),
        SampleBits::Float => put!(Gray32Float, GreyAlphaFloat, RGB32Float, RGBA32Float, samples),
        SampleBits::Half => return Err(stop(&"TIFF holds 8 or 16 bits or float")),
    };
    done.map_err(|e| stop(&e))
}

/// Grey with alpha, which the TIFF library has no layout for (TIFF 6.0: one sample of grey, one extra sample).
macro_rules! grey_alpha {
    ($name:ident, $inner:ty, $bits:literal, $format:ident) => {
        struct $name;
        impl ColorType for $name {
            type Inner = $inner;
            const TIFF_VALUE: PhotometricInterpretation = PhotometricInterpretation::BlackIsZero;
            const BITS_PER_SAMPLE: &'static [u16] = &[$bits; 2];
            const SAMPLE_FORMAT: &'static [SampleFormat] = &[SampleFormat::$format; 2];
            fn horizontal_predict(row: &[$inner], result: &mut Vec<$inner>) {
                result.extend_from_slice(row);
            }
        }
    };
}

grey_alpha!(GreyAlpha8, u8, 8, Uint);
grey_alpha!(GreyAlpha16, u16, 16, Uint);
grey_alpha!(GreyAlphaFloat, f32, 32, IEEEFP);

/// One part; several passes are told apart by `name.` before the channel, as the format's channel naming has it.
fn exr(path: &Path, layers: &[PassLayer], pixels: &[RasterPixel], picture: &PictureHead) -> Result<(), EarlyEnd> {
    use exr::prelude::Compression;
    let stop = |why: &dyn std::fmt::Display| EarlyEnd::because(path.display(), why);
    // One part has one compression.
    let compression = match layers.iter().find_map(|layer| layer.options.compression.as_deref()) {
        None | Some("zip") => Compression::ZIP16,
        Some("zips") => Compression::ZIP1,
        Some("rle") => Compression::RLE,
        Some("piz") => Compression::PIZ,
        Some("none") => Compression::Uncompressed,
        Some(other) => return Err(stop(&format!("OpenEXR has no compression '{other}' here"))),
    };
    let mut list = Vec::new();
    for layer in layers {
        let half = match layer.options.bits.unwrap_or(SampleBits::Half) {
            SampleBits::Half => true,
            SampleBits::Float => false,
            SampleBits::Eight | SampleBits::Sixteen => return Err(stop(&"OpenEXR holds half or float")),
        };
        let usual = usual_channels(layer.pass);
        let channels = layer.options.channels.unwrap_or(usual);
        let samples = samples(layer, channels, pixels, picture, true);
        let names: &[&str] = match channels {
            PictureChannels::Grey => &["Y"],
            PictureChannels::GreyAlpha => &["Y", "A"],
            PictureChannels::Rgb => &["R", "G", "B"],
            PictureChannels::Rgba => &["R", "G", "B", "A"],
        };
        for (at, name) in names.iter().enumerate() {
            let plane = samples.iter().skip(at).step_by(names.len());
            let plane = if half {
                FlatSamples::F16(plane.map(|s| f16::from_f32(*s)).collect())
            } else {
                FlatSamples::F32(plane.copied().collect())
            };
            let full = if layers.len() > 1 { format!("{}.{name}", layer.name) } else { (*name).to_owned() };
            list.push(AnyChannel::new(full.as_str(), plane));
        }
    }
    let encoding = Encoding { compression, ..Encoding::FAST_LOSSLESS };
    let channels = AnyChannels::sort(list.into_iter().collect());
    let layer = ExrLayer::new((picture.width, picture.height), LayerAttributes::default(), encoding, channels);
    Image::from_layer(layer).write().to_buffered(create(path)?).map_err(|e| stop(&e))
}
