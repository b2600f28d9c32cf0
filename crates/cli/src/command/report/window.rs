//! The page of a run: written when it begins, every minute while it goes on, and when it has ended.

use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use truepath_exec::failure::Failure;

use super::{Page, PictureShelf, write};
use crate::lower::{Around, Screen};
use crate::show;

/// How often the page is written anew.
const AGAIN: Duration = Duration::from_secs(60);

/// Does some work while a page is kept up to date. What is wrong with the page stops no work; where it cannot be written at the
/// end, that is an error.
pub fn beside<T>(page: Option<Page<'_>>, work: impl FnOnce() -> Result<T, Failure>) -> Result<T, Failure> {
    let Some(page) = page else { return work() };
    // The work has the terminal.
    let quiet = Around { err: Screen { terminal: false, ..page.around.err }, ..page.around.clone() };
    let page = Page { around: &quiet, ..page };
    std::thread::scope(|scope| {
        let (over, is_over) = channel::<()>();
        let keeper = scope.spawn(|| {
            // The end of the work is the end of the channel.
            let is_over = is_over;
            let mut shelf = PictureShelf::new();
            loop {
                if let Err(failure) = write(page, true, &mut shelf) {
                    tracing::warn!(%failure, "the report is not written");
                }
                if is_over.recv_timeout(AGAIN) != Err(RecvTimeoutError::Timeout) {
                    return shelf;
                }
            }
        });
        let done = work();
        drop(over);
        let mut shelf = keeper.join().unwrap_or_else(|_| PictureShelf::new());
        let written = write(page, false, &mut shelf);
        if let (Err(failure), Err(_)) = (&written, &done) {
            show::failure(failure);
        }
        done.and_then(|done| written.map(|_| done))
    })
}
