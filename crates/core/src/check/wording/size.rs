//! Words about sizes.

use crate::catalogue::{Chroma, Codec, FileType};
use crate::diagnostic::Words;
use crate::resolve::Job;
use crate::sheet::Size;
use crate::source::Place;

pub fn size_not_held(size: Size, known: &FileType) -> Words {
    Words::new(format!("{size} is larger than {} allows", known.name), format!("at most {0}x{0}", known.largest))
}

pub fn codec_size(size: Size, codec: &Codec, small: bool) -> Words {
    let bound = match (small, codec.most_pixels) {
        (true, _) => format!("at least {}x{}", codec.smallest.0, codec.smallest.1),
        (_, Some(most)) => format!("at most {} a side and {most} pixels in all", codec.largest),
        _ => format!("at most {} a side", codec.largest),
    };
    let word = if small { "smaller" } else { "larger" };
    Words::new(format!("the size {size} is {word} than {} allows", codec.title), bound)
        .help("choose another size or another codec")
}

pub fn size_odd(size: Size, (codec, chroma): (&Codec, Chroma), fix: Option<(Place, Size)>) -> Words {
    let words = Words::new(
        format!("{} with chroma {chroma} cannot hold the size {size}", codec.title),
        "its colour samples cover several pixels",
    );
    match fix {
        Some((at, even)) => words.help(format!("write \"{even}\"")).fix(at, even.to_string()),
        None => words.help("choose a size or scale that gives even numbers"),
    }
}

pub fn region_odd(size: Size, codec: &Codec, chroma: Chroma) -> Words {
    Words::new(
        format!("{} with chroma {chroma} cannot hold a region of {size}", codec.title),
        "its colour samples cover several pixels",
    )
    .help("choose an even width and height")
}

pub fn region_outside(full: Size) -> Words {
    Words::new("this region is outside the picture", format!("the picture is {full}"))
        .help("x + width and y + height must stay inside the picture; a region counts pixels after scale")
}

pub fn scale_outside_mode(percent: f64) -> Words {
    Words::new(format!("the final frames would have {percent} percent of their size"), "this is not in a mode")
        .help("move `scale` into a mode such as [modes.draft] with its own path")
}

pub fn size_rounded(full: Size, percent: f64) -> Words {
    let exact = |side: u32| f64::from(side) * percent / 100.0;
    Words::new(
        format!(
            "{percent} percent of {full} is {}x{}, which is not a whole number of pixels",
            exact(full.width),
            exact(full.height)
        ),
        format!("it is rounded to {}", full.scaled(percent)),
    )
    .help("choose a scale that divides the size")
}

pub fn aspect_differs(size: Size, scene: Size) -> Words {
    Words::new(
        format!("the size {size} has a different aspect ratio than the scene's {scene}"),
        format!("the scene says {scene}"),
    )
    .help("remove `size`, or choose one with the scene's aspect ratio")
}

pub fn aspects_mixed((size, other): (Size, Size), job: &Job) -> Words {
    Words::new(
        format!("{size} and {other} of `{}` have different aspect ratios, for one scene", job.name),
        "this aspect ratio",
    )
    .help("use one aspect ratio for all jobs of a scene")
}
