//! What became of one parcel, for people and as a document.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::{Value, json};
use truepath_core::frames::Frames;

use crate::show::counted;
use crate::show::verdicts::cut;

/// Frames by series and reason.
type Reasons = BTreeMap<(String, String), Vec<i64>>;

/// What became of the files of one parcel.
#[derive(Default)]
pub struct Collected {
    /// Files that landed now.
    pub landed: i64,
    /// Files that were there already.
    pub there: i64,
    /// Files that landed without anything to compare their bytes with.
    pub without_sum: i64,
    /// Frames that landed and are odd.
    pub odd: Reasons,
    /// Frames that did not come.
    pub left: Reasons,
}

impl Collected {
    /// A frame did not come.
    pub fn leave(&mut self, series: &str, frame: i64, why: impl Into<String>) {
        self.left.entry((series.to_owned(), why.into())).or_default().push(frame);
    }

    /// For people, line by line.
    pub fn text(&self, path: &Path) -> String {
        let frames = |frames: &[i64]| cut(&Frames::from_any(frames.to_vec()).to_string());
        let there = if self.there > 0 { format!(", {} already there", self.there) } else { String::new() };
        let mut out = format!("{}: {} landed{there}\n", path.display(), counted(self.landed, "file"));
        for ((series, why), odd) in &self.odd {
            out.push_str(&format!("  ! odd {series} {}: {why}\n", frames(odd)));
        }
        if self.without_sum > 0 {
            out.push_str(&format!(
                "  ! {} came without a sum: decoded and compared with the plan and its neighbours; whether each is the frame \
                 that its name says, nobody can tell\n",
                counted(self.without_sum, "file")
            ));
        }
        for ((series, why), left) in &self.left {
            out.push_str(&format!("  {series} {}: {why}\n", frames(left)));
        }
        out
    }

    /// The same as a document; `error` says why nothing of it was collected.
    pub fn json(&self, path: &Path, error: Option<&str>) -> Value {
        let row = |((series, why), frames): (&(String, String), &Vec<i64>)| json!({ "series": series, "frames": Frames::from_any(frames.clone()), "why": why });
        let rows = |all: &Reasons| all.iter().map(row).collect::<Vec<_>>();
        json!({
            "path": path, "landed": self.landed, "there": self.there, "without_sum": self.without_sum,
            "odd": rows(&self.odd), "left": rows(&self.left), "error": error,
        })
    }
}
