//! Pictures out of pictures: converted as a screen shows them, drawn side by side, compared, and stacked.
//!
//! Nothing here knows a sheet or a plan: paths and pixels in, pixels and files out.

pub mod canvas;
pub mod contact;
pub mod conversion;
pub mod difference;
pub mod letters;
pub mod pairs;
pub mod stack;
pub mod thumbnail;
