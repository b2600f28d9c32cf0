//! What the file systems of this machine hold, and what lies at the names of a plan. It changes nothing but what
//! it is told to keep or to write for people. A crate of its own, because millions of files go through it: it is optimised, and what runs programs is not.
#![warn(missing_docs)]

pub mod disk;
pub mod failure;
pub mod guard;
pub mod observe;
pub mod threads;
