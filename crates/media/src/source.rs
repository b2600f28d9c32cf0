//! The bytes of a file that is looked at. What the system could not read is remembered: then nobody knows what the file holds,
//! whatever a reader made of the bytes that it got. A read that fails is no damage.

use std::cell::RefCell;
use std::io::{BufReader, Error, ErrorKind, Read, Seek, SeekFrom};
use std::rc::Rc;

/// What can be read from any place.
pub trait Storage: Read + Seek {}

impl<S: Read + Seek> Storage for S {}

/// A file being looked at.
pub type Bytes = BufReader<FileSource>;

/// A file, and the first read of it that failed.
pub struct FileSource {
    file: Box<dyn Storage>,
    failed: Failed,
}

/// The first read of a file that failed.
#[derive(Clone, Default)]
pub struct Failed(Rc<RefCell<Option<Error>>>);

impl FileSource {
    /// A file, and where it will be said that it could not be read.
    pub fn new(file: impl Storage + 'static) -> (FileSource, Failed) {
        let failed = Failed::default();
        (FileSource { file: Box::new(file), failed: failed.clone() }, failed)
    }
}

impl Failed {
    /// What was made of a file, if all of it that was wanted could be read.
    ///
    /// # Errors
    /// The first read that failed.
    pub fn unless<T>(&self, made: T) -> std::io::Result<T> {
        self.0.borrow_mut().take().map_or(Ok(made), Err)
    }

    fn keep<T>(&self, done: std::io::Result<T>) -> std::io::Result<T> {
        // A read that was interrupted is tried again, and a place before the beginning is a mistake of the file.
        done.inspect_err(|error| {
            if !matches!(error.kind(), ErrorKind::Interrupted | ErrorKind::InvalidInput) {
                let same = error.raw_os_error().map_or_else(|| Error::from(error.kind()), Error::from_raw_os_error);
                self.0.borrow_mut().get_or_insert(same);
            }
        })
    }
}

impl Read for FileSource {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let read = self.file.read(buffer);
        self.failed.keep(read)
    }
}

impl Seek for FileSource {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        let gone = self.file.seek(to);
        self.failed.keep(gone)
    }
}

/// Looks at a file. Where a server says that the file it had opened is another one by now, it is opened anew, once.
///
/// # Errors
/// As `look` says.
pub fn again<T>(look: impl Fn() -> std::io::Result<T>) -> std::io::Result<T> {
    match look() {
        Err(error) if error.kind() == ErrorKind::StaleNetworkFileHandle => look(),
        looked => looked,
    }
}
