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

/// How often the removal of a folder is tried that others may still write to.
const ATTEMPTS: usize = 100;

/// What of this process has a name that is not to stay.
#[derive(Debug)]
pub(crate) struct InUse {
    folders: Vec<PathBuf>,
    /// Whether the process is about to end: nothing more is made then.
    ended: bool,
}

/// Locked while something of such a name is made, removed or put in place, so that a process that is about to end
/// finds all of it, and does not end in the middle.
static IN_USE: Mutex<InUse> = Mutex::new(InUse { folders: Vec::new(), ended: false });

fn in_use() -> MutexGuard<'static, InUse> {
    IN_USE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Keeps [`abandon`] waiting while it is held: for what must be done whole or not at all.
///
/// # Errors
/// The process is about to end.
pub(crate) fn undisturbed() -> std::io::Result<MutexGuard<'static, InUse>> {
    let in_use = in_use();
    if in_use.ended {
        return Err(std::io::Error::new(std::io::ErrorKind::Interrupted, "the process is about to end"));
    }
    Ok(in_use)
}

/// A folder that vanishes when it is dropped, and that only its user can read.
#[derive(Debug)]
pub struct Folder {
    /// Where it is; `None` once it is removed.
    folder: Option<TempDir>,
    path: PathBuf,
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
        let mut in_use = undisturbed()?;
        let folder = builder.tempdir_in(within)?;
        let path = folder.path().to_owned();
        in_use.folders.push(path.clone());
        drop(in_use);
        let lock = File::open(&path).ok();
        if let Some(lock) = &lock {
            let _ = lock.try_lock();
        }
        Ok(Folder { folder: Some(folder), path, _lock: lock })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Makes a folder within it, of a path relative to it; the folder itself is not made again where it is gone.
    ///
    /// # Errors
    /// Nothing can be written there.
    pub(crate) fn subfolder(&self, relative: &Path) -> std::io::Result<PathBuf> {
        let mut path = self.path.clone();
        for part in relative {
            path.push(part);
            match std::fs::create_dir(&path) {
                Err(e) if e.kind() != std::io::ErrorKind::AlreadyExists => return Err(e),
                _ => {}
            }
        }
        Ok(path)
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        let mut in_use = in_use();
        drop(self.folder.take());
        in_use.folders.retain(|path| *path != self.path);
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
    let mut in_use = in_use();
    in_use.ended = true;
    for path in in_use.folders.drain(..) {
        // A run that still goes on may add a file between the removal of the others and that of the folder.
        let _ = (0..ATTEMPTS).find(|_| std::fs::remove_dir_all(&path).is_ok() || !path.exists());
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
