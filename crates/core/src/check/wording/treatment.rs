//! Words about pixels and the files that hold them.

use crate::catalogue::FileType;
use crate::diagnostic::Words;
use crate::sheet::Colour;

pub fn movie_untreated() -> Words {
    Words::new("this movie shows linear pictures and is not treated for display", "it would look too dark")
        .help("write colour = \"display\" in the movie")
}

pub fn data_squeezed(pass: &str, known: &FileType) -> Words {
    let how = if known.lossy { "is lossy" } else { "has 8 bits here" };
    Words::new(format!("the pass `{pass}` holds numbers, and {} {how}", known.name), "numbers are rounded away")
        .help("give the pass a format of its own: type = \"exr\", bits = \"float\"")
}

pub fn light(colour: Colour, known: &FileType) -> Words {
    match colour {
        Colour::Display => Words::new(
            format!("every program reads {} as linear, and these colours are treated for display", known.name),
            "they would be treated twice",
        )
        .help("write colour = \"linear\", or take a type for display such as png"),
        Colour::Linear => Words::new(
            format!("every program takes {} for treated, and these colours are linear", known.name),
            "they would look too dark",
        )
        .help("write colour = \"display\", or take a linear type such as exr"),
    }
}

pub fn look_alike(first: &str, second: &str) -> Words {
    Words::new(
        format!(
            "`{first}` and `{second}` are one pass with two treatments, and their names do not tell which is which"
        ),
        "the second",
    )
    .help("call one of them after its treatment: as = \"...-display\", or put {colour} into the path")
}

pub fn types_mixed(folder: &str, (first, second): (&FileType, &FileType)) -> Words {
    Words::new(format!("{folder} would hold both {} and {}", first.name, second.name), "a second type in one folder")
        .help("put {pass} or {type} into a folder of the path")
}
