//! Whether two paths mean one file: by what the system knows a file by, and by where links lead.

use std::fs::{File, Metadata};
use std::path::{Path, PathBuf};

use super::part::{folder_of, followed};

/// What a file is known by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FileId {
    /// The path without links, of which the last part need not be there.
    path: PathBuf,
    /// The device and the number on it, of a file that is there, where the system has such.
    number: Option<(u64, u64)>,
}

impl FileId {
    /// The file at a path, which need not be there.
    pub(crate) fn of(path: &Path) -> FileId {
        let path = canonical(path);
        let number = std::fs::metadata(&path).ok().and_then(|about| number(&about));
        FileId { path, number }
    }

    /// A file that is open, under a path.
    pub(crate) fn of_file(file: &File, path: &Path) -> FileId {
        FileId { path: canonical(path), number: file.metadata().ok().and_then(|about| number(&about)) }
    }

    /// Whether both mean one file, by any spelling of its path and by any link.
    pub(crate) fn is(&self, other: &FileId) -> bool {
        self.path == other.path || self.number.is_some() && self.number == other.number
    }

    /// Whether both have the same number; true where the system has none.
    pub(crate) fn is_number_of(&self, other: &FileId) -> bool {
        self.number == other.number
    }

    /// Whether a file is within this folder, or is it.
    pub(crate) fn holds(&self, file: &FileId) -> bool {
        file.path.starts_with(&self.path)
    }
}

fn canonical(path: &Path) -> PathBuf {
    if let Ok(found) = std::fs::canonicalize(path) {
        return found;
    }
    let path = followed(path).unwrap_or_else(|_| path.to_owned());
    let folder = std::fs::canonicalize(folder_of(&path));
    match (folder, path.file_name()) {
        (Ok(folder), Some(name)) => folder.join(name),
        _ => std::path::absolute(&path).unwrap_or(path),
    }
}

/// Only a regular file or a folder has one: any number of things may read and write a device.
fn number(about: &Metadata) -> Option<(u64, u64)> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        (about.is_file() || about.is_dir()).then(|| (about.dev(), about.ino()))
    }
    #[cfg(not(unix))]
    {
        let _ = about;
        None
    }
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("t.csv", true)]
    #[case("./t.csv", true)]
    #[case("d/../t.csv", true)]
    #[case("symbolic.csv", true)]
    #[case("hard.csv", true)]
    #[case("d/back/t.csv", true)]
    #[case("other.csv", false)]
    #[case("not-there.csv", false)]
    fn one_file_has_many_paths(#[case] path: &str, #[case] expected: bool) {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::create_dir(at("d")).unwrap();
        for name in ["t.csv", "other.csv"] {
            std::fs::write(at(name), "").unwrap();
        }
        std::os::unix::fs::symlink("t.csv", at("symbolic.csv")).unwrap();
        std::os::unix::fs::symlink("..", at("d/back")).unwrap();
        std::fs::hard_link(at("t.csv"), at("hard.csv")).unwrap();
        assert_eq!(FileId::of(&at("t.csv")).is(&FileId::of(&at(path))), expected);
        assert!(FileId::of(folder.path()).holds(&FileId::of(&at(path))));
    }
}
