//! Why a movie could not be made.

use std::path::{Path, PathBuf};

use truepath_core::catalogue::Codec;
use truepath_core::flaw::Flaw;

/// Why a movie, its frames or its sound could not be made.
#[derive(Debug, thiserror::Error)]
pub enum MovieError {
    /// There is nothing to show.
    #[error("there is no frame to show")]
    NoFrame,
    /// A picture cannot be read.
    #[error("{path}: {source}")]
    Picture {
        /// Its file.
        path: String,
        /// What its reader says.
        source: Flaw,
    },
    /// A frame has another size than the first.
    #[error("frame {frame} is {}x{} pixels, the first one {}x{}", is.0, is.1, first.0, first.1)]
    Size {
        /// Its number.
        frame: i64,
        /// Its width and height in pixels.
        is: (usize, usize),
        /// Those of the first.
        first: (usize, usize),
    },
    /// The encoder in the box does not have a codec.
    #[error("{0} is not built in")]
    NotBuiltIn(&'static Codec),
    /// A frame does not fit the codec: how.
    #[error("{0}")]
    Unfit(String),
    /// An encoder failed.
    #[error("{what}: {source}")]
    Encoder {
        /// Which, and at what.
        what: &'static str,
        /// What it says.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// Two parts of one movie would need different settings.
    #[error("the encoder gave two parts different settings")]
    Settings,
    /// The work was ended before this part was made.
    #[error("it was ended")]
    Ended,
    /// A worker is gone.
    #[error("a worker ended early")]
    Lost,
    /// A file cannot be written.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// Which.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// An encoder that is a program of its own took no more frames.
    #[error("the encoder took no more frames: {0}")]
    Closed(#[source] std::io::Error),
    /// A sound cannot be read.
    #[error("the sound {} cannot be read: {source}", path.display())]
    Sound {
        /// Its file.
        path: PathBuf,
        /// Why.
        source: hound::Error,
    },
    /// A sound without channels.
    #[error("the sound {} has no channels", .0.display())]
    Silent(PathBuf),
    /// A sound cannot be written.
    #[error("cannot write {}: {source}", path.display())]
    SoundUnwritten {
        /// Its file.
        path: PathBuf,
        /// Why.
        source: hound::Error,
    },
}

impl MovieError {
    /// A file that cannot be written.
    pub(crate) fn write(path: impl AsRef<Path>) -> impl Fn(std::io::Error) -> MovieError {
        move |source| MovieError::Write { path: path.as_ref().to_owned(), source }
    }

    /// An encoder that failed at something.
    pub(crate) fn encoder<E>(what: &'static str) -> impl Fn(E) -> MovieError
    where
        E: std::error::Error + Send + Sync + 'static,
    {
        move |source| MovieError::Encoder { what, source: Box::new(source) }
    }
}
