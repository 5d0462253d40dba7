//! The file of an open connection, which may be deleted or replaced.

use std::cell::Cell;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// The time between two looks at a file.
const LOOKED: Duration = Duration::from_secs(1);

/// A file as it was when a connection opened it. SQLite continues to use a deleted file, so that everything
/// it writes is lost.
#[derive(Debug)]
pub(super) struct OpenFile {
    path: PathBuf,
    identity: Identity,
    looked: Cell<Instant>,
}

/// The device and the number of a file on it.
type Identity = (u64, u64);

impl OpenFile {
    /// Reads the identity of a file; `None` for a database in memory.
    pub(super) fn at(path: &Path) -> Option<OpenFile> {
        let identity = identity(path)?;
        // The program may change its working directory.
        let path = std::path::absolute(path).ok()?;
        Some(OpenFile { path, identity, looked: Cell::new(Instant::now()) })
    }

    /// Returns the path if another file or none has it now. It looks at most once a second.
    pub(super) fn replaced(&self) -> Option<&Path> {
        if self.looked.get().elapsed() < LOOKED {
            return None;
        }
        if identity(&self.path) != Some(self.identity) {
            return Some(&self.path);
        }
        self.looked.set(Instant::now());
        None
    }
}

#[cfg(unix)]
fn identity(path: &Path) -> Option<Identity> {
    use std::os::unix::fs::MetadataExt;

    let metadata = std::fs::metadata(path).ok()?;
    Some((metadata.dev(), metadata.ino()))
}

/// Other systems do not allow deleting an open file.
#[cfg(not(unix))]
fn identity(_: &Path) -> Option<Identity> {
    None
}
