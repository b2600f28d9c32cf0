//! What became of one parcel.

use std::collections::BTreeMap;

/// Frames by series and reason.
pub type Reasons = BTreeMap<(String, String), Vec<i64>>;

/// What became of the files of one parcel.
#[derive(Clone, Debug, Default)]
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
    pub(super) fn leave(&mut self, series: &str, frame: i64, why: impl Into<String>) {
        self.left.entry((series.to_owned(), why.into())).or_default().push(frame);
    }
}
