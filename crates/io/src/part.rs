//! A file that gets its name when it is complete.
//!
//! Where the system can make files without a name (`O_TMPFILE`), the file has none until then, so that whatever ends
//! the process leaves nothing behind. Elsewhere it is a hidden file beside the target, which a later run that writes to
//! the same folder takes away if no process holds its lock any more.

use std::fs::{File, Metadata};
use std::io::{Error, ErrorKind, Result};
use std::path::{Path, PathBuf};

use tempfile::NamedTempFile;

use super::temporary;

/// A file that is being written.
#[derive(Debug)]
pub struct Part {
    file: File,
    /// Where it will stand: the target, links followed.
    place: PathBuf,
    /// The file that stands there now.
    older: Option<Metadata>,
    /// Its name beside the target, where it has one.
    named: Option<NamedTempFile<()>>,
}

/// What stands at the place of a file that is complete.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// Anything: it is replaced.
    Anything,
    /// Nothing: else it is an error.
    Nothing,
}

impl Part {
    /// Starts a file for a target; of a link the file that it leads to is the target.
    ///
    /// # Errors
    /// Nothing can be written beside the target.
    pub(crate) fn create(target: &Path) -> Result<Part> {
        let place = followed(target)?;
        let folder = folder_of(&place);
        temporary::clear(folder, PREFIX, SUFFIX);
        let older = std::fs::metadata(&place).ok();
        if let Some(file) = without_a_name(folder)? {
            return Ok(Part { file, place, older, named: None });
        }
        let (file, path) = builder().tempfile_in(folder)?.into_parts();
        // Whoever clears the folder sees that somebody is writing it.
        let _ = file.try_lock();
        let named = NamedTempFile::from_parts((), path);
        Ok(Part { file, place, older, named: Some(named) })
    }

    /// The file, for whoever writes to places of it.
    pub(crate) fn file(&self) -> &File {
        &self.file
    }

    /// Gives the file its name, its bytes on disk before. It has the permissions of the file that it replaces, and its
    /// owner where that is allowed.
    ///
    /// # Errors
    /// The disk fails; there is a file where none is wanted.
    pub(crate) fn finish(self, wanted: Wanted) -> Result<()> {
        let Part { file, place, older, named } = self;
        if let Some(older) = &older {
            keep_owner(&file, older);
            file.set_permissions(older.permissions())?;
        }
        file.sync_data()?;
        let _undisturbed = temporary::undisturbed()?;
        let named = match named {
            Some(named) => named,
            None if wanted == Wanted::Nothing => return link(&file, &place),
            None => builder().make_in(folder_of(&place), |path| link(&file, path))?,
        };
        match wanted {
            Wanted::Anything => named.persist(&place).map(drop).map_err(|e| e.error),
            Wanted::Nothing => named.persist_noclobber(&place).map(drop).map_err(|e| e.error),
        }
    }
}

const PREFIX: &str = ".churn-";
const SUFFIX: &str = ".part";

fn builder() -> tempfile::Builder<'static, 'static> {
    let mut builder = tempfile::Builder::new();
    builder.prefix(PREFIX).suffix(SUFFIX);
    #[cfg(unix)]
    builder.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o666));
    builder
}

/// The folder that a file stands in.
pub fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Where a path leads to: the end of its links, which need not be there.
///
/// # Errors
/// The links lead in a circle.
pub(crate) fn followed(path: &Path) -> Result<PathBuf> {
    let mut path = path.to_owned();
    for _ in 0..40 {
        match std::fs::read_link(&path) {
            Ok(link) => path = folder_of(&path).join(link),
            Err(_) => return Ok(path),
        }
    }
    Err(Error::new(ErrorKind::InvalidInput, "its links lead in a circle"))
}

/// A file without a name in a folder; `None` where the system has no such files, or could not give it a name.
#[cfg(target_os = "linux")]
fn without_a_name(folder: &Path) -> Result<Option<File>> {
    use rustix::fs::{Mode, OFlags};
    if !Path::new("/proc/self/fd").is_dir() {
        return Ok(None);
    }
    let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
    match rustix::fs::open(folder, flags, Mode::from_raw_mode(0o666)) {
        Ok(file) => Ok(Some(File::from(file))),
        Err(rustix::io::Errno::NOENT | rustix::io::Errno::ACCESS | rustix::io::Errno::ROFS) => {
            // No file can be made there: told as it is.
            Err(builder().tempfile_in(folder).err().unwrap_or_else(|| ErrorKind::NotFound.into()))
        }
        Err(_) => Ok(None),
    }
}

#[cfg(not(target_os = "linux"))]
fn without_a_name(_: &Path) -> Result<Option<File>> {
    Ok(None)
}

/// Gives a file without a name one that is not taken.
#[cfg(target_os = "linux")]
fn link(file: &File, path: &Path) -> Result<()> {
    use rustix::fs::{AtFlags, CWD};
    use std::os::fd::AsRawFd;
    let from = format!("/proc/self/fd/{}", file.as_raw_fd());
    Ok(rustix::fs::linkat(CWD, from, CWD, path, AtFlags::SYMLINK_FOLLOW)?)
}

#[cfg(not(target_os = "linux"))]
fn link(_: &File, _: &Path) -> Result<()> {
    Err(ErrorKind::Unsupported.into())
}

/// Gives a file the owner of another, where that is allowed.
fn keep_owner(file: &File, older: &Metadata) {
    #[cfg(unix)]
    {
        use std::os::unix::fs::{MetadataExt, fchown};
        let is_same = file.metadata().is_ok_and(|m| (m.uid(), m.gid()) == (older.uid(), older.gid()));
        if !is_same {
            let _ = fchown(file, Some(older.uid()), Some(older.gid()))
                .or_else(|_| fchown(file, None, Some(older.gid())));
        }
    }
    #[cfg(not(unix))]
    let _ = (file, older);
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    fn part(target: &Path, text: &str) -> Part {
        let part = Part::create(target).unwrap();
        (&part.file).write_all(text.as_bytes()).unwrap();
        part
    }

    #[test]
    fn nothing_is_seen_before_the_end() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("t.csv");
        drop(part(&target, "dropped"));
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
        part(&target, "first").finish(Wanted::Nothing).unwrap();
        let second = part(&target, "second");
        assert_eq!(std::fs::read_to_string(&target).unwrap(), "first");
        second.finish(Wanted::Anything).unwrap();
        assert_eq!(std::fs::read_to_string(&target).unwrap(), "second");
        let error = part(&target, "third").finish(Wanted::Nothing).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::AlreadyExists);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    #[cfg(unix)]
    #[test]
    fn links_are_followed_and_permissions_kept() {
        use std::os::unix::fs::{PermissionsExt, symlink};
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("t.csv"), "old").unwrap();
        std::fs::set_permissions(at("t.csv"), std::fs::Permissions::from_mode(0o640)).unwrap();
        symlink("t.csv", at("link")).unwrap();
        symlink("link", at("second")).unwrap();
        part(&at("second"), "new").finish(Wanted::Anything).unwrap();
        assert_eq!(std::fs::read_to_string(at("t.csv")).unwrap(), "new");
        assert_eq!(std::fs::metadata(at("t.csv")).unwrap().permissions().mode() & 0o777, 0o640);
        assert!(std::fs::symlink_metadata(at("link")).unwrap().is_symlink());
        symlink("not there", at("dangling")).unwrap();
        part(&at("dangling"), "made").finish(Wanted::Anything).unwrap();
        assert_eq!(std::fs::read_to_string(at("not there")).unwrap(), "made");
        symlink("circle", at("circle")).unwrap();
        assert!(Part::create(&at("circle")).is_err());
    }
}
