//! The one guard: what lies at a path, whether it may be written over, and how a file is put there. Every command that writes
//! for people goes through [`Delivery`], everything that works beside a file through [`Scratch`], and every path that a
//! journal, a parcel or a log line names through [`confined`].
//!
//! Two paths are the same file where the real folder is the same and the name is the same by the rules of its file system.
//! The number of a file decides nothing: backups that are hard links are other files.

mod delivery;
mod kind;
mod place;
mod scratch;
mod taken;

pub use delivery::{Deliveries, Delivery, Over};
pub use kind::Kind;
pub use place::{NamedPlace, confined, is_staged, own_folder, read_confined};
pub use scratch::Scratch;
pub use taken::Taken;

/// The folder that holds what True Path keeps for itself, beside a sheet and below a root.
pub const OWN: &str = ".truepath";
/// The folder in it that holds what was put away.
pub const REMOVED: &str = "removed";
