//! One program for all tests of this crate: it is linked once, and its tests share the machine.
#![allow(clippy::unwrap_used)]

mod fuzz;
mod pixels;
mod strict;
