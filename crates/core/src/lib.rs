//! The computation of True Path: text, bytes and facts in; values and findings out.
//!
//! Nothing in here touches a file, a process, the environment, a clock or a terminal: `clippy.toml` forbids them by name.
//! The modules stand in the order in which a sheet travels, and import only what stands above them.
#![deny(clippy::print_stdout, clippy::print_stderr, clippy::disallowed_methods, clippy::disallowed_types)]

pub mod adapter;
pub mod catalogue;
pub mod check;
pub mod diagnostic;
pub mod flaw;
pub mod frames;
pub mod invoke;
pub mod parcel;
pub mod picture;
pub mod pins;
pub mod plan;
pub mod resolve;
pub mod run;
pub mod scene;
pub mod sheet;
pub mod source;
pub mod template;
pub mod threads;
pub mod verify;
pub mod whose;
