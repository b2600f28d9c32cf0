//! One program for all tests of this crate: it is linked once, and its tests share the machine.
#![allow(clippy::unwrap_used)]

mod calls;
mod fuzz;
mod journals;
mod meeting;
mod movies;
mod pictures;
mod read_back;
mod scenes;
mod settings;
mod sheet_reading;
mod support;
