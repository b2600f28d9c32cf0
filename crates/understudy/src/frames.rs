//! Frame lists of the understudy's command line: `7`, `1-12`, `1-96/4`, `1-3,8`, negative numbers included.

use crate::EarlyEnd;

/// More frames than this in one call are a mistake, not a night's work.
const MOST: i64 = 10_000_000;

/// All frames named by `text`, in the order given.
pub fn parse(text: &str) -> Result<Vec<i64>, EarlyEnd> {
    let mut frames = Vec::new();
    for part in text.split(',') {
        let (range, step) = part.split_once('/').unwrap_or((part, "1"));
        let dash = range.char_indices().skip(1).find(|(_, c)| *c == '-').map(|(at, _)| at);
        let (first, last) = dash.map_or((range, range), |at| (&range[..at], &range[at + 1..]));
        let number = |text: &str| text.trim().parse::<i64>().ok();
        let (Some(first), Some(last), Some(step)) = (number(first), number(last), number(step)) else {
            return Err(EarlyEnd(format!("frames '{part}' are not a number, a range or a range with a step")));
        };
        let count = last.checked_sub(first).filter(|n| *n >= 0 && *n / step.max(1) < MOST && step > 0);
        let Some(_) = count else {
            return Err(EarlyEnd(format!("frames '{part}' run backwards or are too many for one call")));
        };
        frames.extend((first..=last).step_by(usize::try_from(step).unwrap_or(usize::MAX)));
    }
    Ok(frames)
}
