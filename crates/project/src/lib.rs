//! A True Path project as a library: opened, planned, checked, run, built for others, packed, collected and cleaned up after, as plain
//! functions with typed results. It knows no command
//! line, prints nothing, has no exit codes and reads no environment: [`Surroundings`] says all that a program would look up.
//!
//! ```
//! use truepath_project::{LoadOptions, Request, Surroundings, open};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let folder = tempfile::tempdir()?;
//! std::fs::write(
//!     folder.path().join("truepath.toml"),
//!     r#"
//!     sheet = 1
//!     [roots]
//!     renders = "renders"
//!     [[job]]
//!     name = "crossing"
//!     scene = "ferry.gltf"
//!     frames = "1-3"
//!     size = "640x360"
//!     path = "{renders}/{job}.{frame:4}.png"
//!     "#,
//! )?;
//! let around = Surroundings::at(folder.path());
//! let queue = open(&Request::default(), &around, LoadOptions::default(), &())?;
//! let series = &queue.sheets[0].plan.series[0];
//! let names: Vec<String> = series.files().map(|(_, path)| path).collect();
//! assert_eq!(names.len(), 3);
//! assert!(names[0].ends_with("renders/crossing.0001.png"));
//! // The scene does not exist: that is a finding, not an error of this call.
//! assert!(queue.findings().iter().any(|finding| finding.check == "scene-missing"));
//! # Ok(())
//! # }
//! ```

pub mod adopt;
pub mod alone;
pub mod build;
pub mod clean;
pub mod guards;
mod listener;
pub mod movie;
pub mod open;
pub mod parcel;
mod request;
pub mod run;
mod surroundings;

pub use listener::{Listener, News, Note, Read, Rendering};
pub use open::{LoadOptions, Loaded, Queue, Stop, Untrusted, open};
pub use request::Request;
pub use run::{Run, RunOptions, TakenSheets};
pub use surroundings::{Surroundings, system};
