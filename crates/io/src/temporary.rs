//! Temporary folders that have names, and what of them a run that was killed left behind.
//!
//! The process that uses such a folder holds its lock. Whoever makes another one in the same place takes those away
//! whose lock nobody holds.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use churn_core::{Error, ErrorKind, Result};
use tempfile::TempDir;

/// How old something must be that is taken away: what was made a moment ago may not be locked yet.
const AGE: Duration = Duration::from_secs(60);

/// Folders that are in use.
static IN_USE: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

fn in_use() -> MutexGuard<'static, Vec<PathBuf>> {
    IN_USE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A folder that vanishes when it is dropped, and that only its user can read.
#[derive(Debug)]
pub struct Folder {
    folder: TempDir,
    _lock: Option<File>,
}

impl Folder {
    /// Makes a folder of a name with these parts.
    ///
    /// # Errors
    /// Nothing can be written there.
    pub(crate) fn create(within: &Path, prefix: &str, suffix: &str) -> std::io::Result<Folder> {
        clear(within, prefix, suffix);
        let mut builder = tempfile::Builder::new();
        builder.prefix(prefix).suffix(suffix);
        #[cfg(unix)]
        builder.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o700));
        let folder = builder.tempdir_in(within)?;
        in_use().push(folder.path().to_owned());
        let lock = File::open(folder.path()).ok();
        if let Some(lock) = &lock {
            let _ = lock.try_lock();
        }
        Ok(Folder { folder, _lock: lock })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        in_use().retain(|path| path != self.folder.path());
    }
}

/// Makes a folder in the one for temporary files that a run was given, or else in the system's.
///
/// # Errors
/// Nothing can be written there.
pub(crate) fn folder(within: Option<&Path>) -> Result<Folder> {
    let system = std::env::temp_dir();
    let within = within.unwrap_or(&system);
    Folder::create(within, "churn-", ".tmp").map_err(|e| {
        let what = format!("A temporary folder cannot be made in {}: {e}.", within.display());
        Error::new(ErrorKind::Output, what).next("Name another folder for temporary files: --temporary.")
    })
}

/// Takes away the temporary folders that runs of this process use; for a process that is about to end at once, as
/// on a second Ctrl-C. Runs that go on after it fail.
pub fn abandon() {
    for path in in_use().drain(..) {
        let _ = std::fs::remove_dir_all(path);
    }
}

/// Takes away what runs that were killed left in a folder: files and folders with such names whose lock nobody holds.
pub(crate) fn clear(folder: &Path, prefix: &str, suffix: &str) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let is_ours = name.to_str().is_some_and(|name| name.starts_with(prefix) && name.ends_with(suffix));
        if is_ours {
            let _ = remove_if_abandoned(&entry.path());
        }
    }
}

fn remove_if_abandoned(path: &Path) -> std::io::Result<()> {
    let about = std::fs::symlink_metadata(path)?;
    let is_old = about.modified()?.elapsed().is_ok_and(|age| age > AGE);
    if !is_old || about.is_symlink() {
        return Ok(());
    }
    let lock = File::open(path)?;
    if lock.try_lock().is_err() {
        return Ok(());
    }
    if about.is_dir() { std::fs::remove_dir_all(path) } else { std::fs::remove_file(path) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::SystemTime;

    fn aged(path: &Path) {
        let old = SystemTime::now() - 2 * AGE;
        File::open(path).unwrap().set_modified(old).unwrap();
    }

    #[test]
    fn what_nobody_holds_is_taken_away() {
        let within = tempfile::tempdir().unwrap();
        let at = |name: &str| within.path().join(name);
        let used = Folder::create(within.path(), "x-", ".part").unwrap();
        aged(used.path());
        std::fs::create_dir(at("x-left.part")).unwrap();
        std::fs::write(at("x-left.part").join("rows"), "1").unwrap();
        aged(&at("x-left.part"));
        std::fs::write(at("x-file.part"), "1").unwrap();
        aged(&at("x-file.part"));
        std::fs::write(at("x-young.part"), "1").unwrap();
        std::fs::write(at("other.part"), "1").unwrap();
        aged(&at("other.part"));
        clear(within.path(), "x-", ".part");
        let mut left: Vec<_> =
            std::fs::read_dir(within.path()).unwrap().flatten().map(|e| e.path()).collect();
        left.sort();
        let mut expected = vec![at("other.part"), used.path().to_owned(), at("x-young.part")];
        expected.sort();
        assert_eq!(left, expected);
    }
}
