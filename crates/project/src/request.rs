//! What somebody asks of a project: which sheets, which of their jobs, and with which settings.

use std::path::PathBuf;

/// What is asked for. The default is all enabled jobs of the sheet that is found in the folder or above it.
///
/// ```
/// let request = truepath_project::Request { jobs: vec!["crossing/*".into()], ..Default::default() };
/// assert!(request.sheets.is_empty(), "the nearest truepath.toml is looked for");
/// ```
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// Paths of sheets, or of folders with a `truepath.toml`; they form one queue. Without any, the nearest `truepath.toml` is
    /// looked for, from the current folder upwards.
    pub sheets: Vec<PathBuf>,
    /// Names of jobs; `*` and `?` are wildcards.
    pub jobs: Vec<String>,
    /// Modes, applied in this order.
    pub modes: Vec<String>,
    /// Only jobs with these cameras.
    pub cameras: Vec<String>,
    /// Only these passes.
    pub passes: Vec<String>,
    /// Job settings as `key=value`, each with the name under which a finding points at it. `frames` chooses among the frames
    /// of a job, all others replace what the sheet gives.
    pub settings: Vec<(String, String)>,
}
