//! One program for all tests of this crate: it is linked once, and its tests share the machine.
#![allow(clippy::unwrap_used)]

mod adapters;
mod architecture;
#[cfg(unix)]
mod bounds;
mod calls;
#[cfg(target_os = "linux")]
mod cluster;
mod completing;
mod contact;
#[cfg(unix)]
mod costs;
#[cfg(unix)]
mod died;
mod docs;
#[cfg(unix)]
mod estimates;
#[cfg(unix)]
mod exports;
#[cfg(unix)]
mod faulty;
mod findings;
mod fixing;
mod garbage;
#[cfg(target_os = "linux")]
mod grid_engine;
#[cfg(unix)]
mod guard;
mod kinds;
#[cfg(unix)]
mod looking;
#[cfg(unix)]
mod members;
mod messages;
#[cfg(unix)]
mod mistakes;
#[cfg(unix)]
mod moves;
mod movies;
mod pages;
mod parcels;
#[cfg(unix)]
mod patterns;
mod powershell;
mod programs;
mod renderers;
mod report;
mod running;
#[cfg(unix)]
mod safety;
mod screens;
mod sheet_language;
mod slips;
mod support;
mod torture;
mod truth;
#[cfg(target_os = "linux")]
mod unread;
#[cfg(unix)]
mod verdicts;
mod vocabulary;
mod whole_way;
#[cfg(unix)]
mod windows;
