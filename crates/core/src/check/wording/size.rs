//! Words about sizes.

use crate::catalogue::{Codec, FileType};
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
    Words::new(format!("{size} is {word} than {} allows", codec.title), bound)
        .help("take another size or another codec")
}

pub fn size_odd(size: Size, (codec, chroma): (&Codec, &str), fix: Option<(Place, Size)>) -> Words {
    let words = Words::new(
        format!("{} with chroma {chroma} cannot hold {size}", codec.title),
        "a sample of colour covers several pixels",
    );
    match fix {
        Some((at, even)) => words.help(format!("write \"{even}\"")).fix(at, even.to_string()),
        None => words.help("take a size or a scale that leaves even numbers"),
    }
}

pub fn region_odd(size: Size, codec: &Codec, chroma: &str) -> Words {
    Words::new(
        format!("{} with chroma {chroma} cannot hold a region of {size}", codec.title),
        "a sample of colour covers several pixels",
    )
    .help("take an even width and height")
}

pub fn region_outside(full: Size) -> Words {
    Words::new("this region is not within the picture", format!("the picture is {full}"))
        .help("x plus width and y plus height must stay within it; a region counts pixels after scale")
}

pub fn scale_outside_mode(percent: f64) -> Words {
    Words::new(format!("final frames would be rendered at {percent} percent"), "no mode asked for this")
        .help("move `scale` into a mode such as [modes.draft], with a path of its own")
}

pub fn size_rounded(full: Size, percent: f64) -> Words {
    let exact = |side: u32| f64::from(side) * percent / 100.0;
    Words::new(
        format!(
            "{percent} percent of {full} is {}x{}, no whole number of pixels",
            exact(full.width),
            exact(full.height)
        ),
        format!("rounded to {}", full.scaled(percent)),
    )
    .help("take a scale that divides the size")
}

pub fn aspect_differs(size: Size, scene: Size) -> Words {
    Words::new(format!("{size} has another aspect than the scene's {scene}"), format!("the scene says {scene}"))
        .help("leave `size` out, or take one of the scene's aspect")
}

pub fn aspects_mixed((size, other): (Size, Size), job: &Job) -> Words {
    Words::new(format!("{size} and {other} of `{}` are different aspects of one scene", job.name), "this aspect")
        .help("take one aspect for all jobs of a scene")
}
