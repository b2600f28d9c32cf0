//! Words about pixels and the files that hold them.

use crate::catalogue::FileType;
use crate::diagnostic::Words;
use crate::sheet::Colour;

pub fn movie_left_linear() -> Words {
    Words::new("this movie shows scene-linear pictures without encoding them for display", "it will look too dark")
        .help("write colour = \"display\" in the movie")
}

pub fn data_squeezed(pass: &str, how: &str) -> Words {
    Words::new(format!("the pass `{pass}` holds data, and {how}"), "its values lose precision")
        .help("give the pass a format of its own: type = \"exr\", bits = \"float\", compression = \"zip\"")
}

pub fn light(colour: Colour, known: &FileType) -> Words {
    match colour {
        Colour::Display => Words::new(
            format!("programs read {} as scene-linear, and these colours are display-encoded", known.name),
            "they would be encoded twice",
        )
        .help("write colour = \"linear\", or choose a display-encoded type such as png"),
        Colour::Linear => Words::new(
            format!("programs read {} as display-encoded, and these colours are scene-linear", known.name),
            "they will look too dark",
        )
        .help("write colour = \"display\", or choose a scene-linear type such as exr"),
    }
}

pub fn look_alike(first: &str, second: &str) -> Words {
    Words::new(
        format!(
            "`{first}` and `{second}` are one pass, display-encoded and scene-linear, and their names do not say which is which"
        ),
        "the second",
    )
    .help("name one of them after its colour: as = \"...-display\", or put {colour} into the path")
}

pub fn types_mixed(folder: &str, (first, second): (&FileType, &FileType)) -> Words {
    Words::new(
        format!("{folder} would hold both {} and {}", first.name, second.name),
        "this is a second type in one folder",
    )
    .help("put {pass} or {type} into the folder part of the path")
}
