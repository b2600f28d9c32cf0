//! What the pixels of pictures come to, and what of that is odd.

mod content;
mod odd;

pub use content::{Cell, Content, MOST_CELLS, SMALLEST_CELL};
pub use odd::{Asked, OddKind, OddPolicy, OddRow, Oddity, Placed, ShownPicture, alone, beside, usual_limit};
