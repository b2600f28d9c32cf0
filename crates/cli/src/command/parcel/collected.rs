//! What became of one parcel, for people and as a document.

use std::path::Path;

use serde_json::{Value, json};
use truepath_core::frames::Frames;
use truepath_project::parcel::{Collected, Reasons};

use crate::show::counted;
use crate::show::verdicts::cut;

/// For people, line by line.
pub fn text(own: &Collected, path: &Path) -> String {
    let frames = |frames: &[i64]| cut(&Frames::from_any(frames.to_vec()).to_string());
    let there = if own.there > 0 { format!(", {} already there", own.there) } else { String::new() };
    let mut out = format!("{}: {} landed{there}\n", path.display(), counted(own.landed, "file"));
    for ((series, why), odd) in &own.odd {
        out.push_str(&format!("  ! odd {series} {}: {why}\n", frames(odd)));
    }
    if own.without_sum > 0 {
        out.push_str(&format!(
            "  ! {} came without a sum: decoded and compared with the plan and its neighbours; whether each is the frame \
             that its name says, nobody can tell\n",
            counted(own.without_sum, "file")
        ));
    }
    for ((series, why), left) in &own.left {
        out.push_str(&format!("  {series} {}: {why}\n", frames(left)));
    }
    out
}

/// The same as a document; `error` says why nothing of it was collected.
pub fn json(own: &Collected, path: &Path, error: Option<&str>) -> Value {
    let row = |((series, why), frames): (&(String, String), &Vec<i64>)| json!({ "series": series, "frames": Frames::from_any(frames.clone()), "why": why });
    let rows = |all: &Reasons| all.iter().map(row).collect::<Vec<_>>();
    json!({
        "path": path, "landed": own.landed, "there": own.there, "without_sum": own.without_sum,
        "odd": rows(&own.odd), "left": rows(&own.left), "error": error,
    })
}
