//! The files that a request reads and writes: none may be both, and none may be written twice.
//!
//! What is written replaces what was there when the run ends, so a chain that writes what it reads destroys its own
//! source. Files are compared by what they are, not by how they are spelled.

use std::path::{Path, PathBuf};

use churn_core::{Error, ErrorKind, Result};

use super::identity::FileId;
use super::target;

/// Files that are read or written, in the order of the steps.
#[derive(Clone, Debug, Default)]
pub struct Files {
    read: Vec<Named>,
    written: Vec<Named>,
    /// Whether a step writes to standard output.
    is_standard_written: bool,
}

/// A file, and what messages call it.
#[derive(Clone, Debug)]
struct Named {
    id: FileId,
    path: PathBuf,
    shown: String,
    /// What of the file is written.
    part: WrittenPart,
}

/// What a step writes of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WrittenPart {
    /// A file.
    File,
    /// A folder of files, as a whole.
    Folder,
    /// A sheet of a workbook.
    Sheet(String),
}

impl Named {
    fn new(path: &Path, shown: &str, part: WrittenPart) -> Named {
        Named { id: FileId::of(path), path: path.to_owned(), shown: shown.to_owned(), part }
    }

    fn meets(&self, other: &Named) -> bool {
        self.id.is(&other.id)
            || self.part == WrittenPart::Folder && self.id.holds(&other.id)
            || other.part == WrittenPart::Folder && other.id.holds(&self.id)
    }
}

impl Files {
    /// Notes files that a step reads.
    ///
    /// # Errors
    /// A step before writes one of them.
    pub fn reads(&mut self, paths: &[PathBuf]) -> Result<()> {
        for path in paths {
            let file = Named::new(path, "", WrittenPart::File);
            if let Some(written) = self.written.iter().find(|written| written.meets(&file)) {
                return Err(read_and_written(&written.shown));
            }
            self.read.push(file);
        }
        Ok(())
    }

    /// Notes what a step writes, and what messages call it. Several steps may write sheets of one workbook.
    ///
    /// # Errors
    /// A step before reads it or writes it.
    pub fn writes(&mut self, path: &Path, shown: &str, part: WrittenPart) -> Result<()> {
        if target::is_standard(path) {
            if std::mem::replace(&mut self.is_standard_written, true) {
                return Err(Error::new(ErrorKind::Check, "Two steps write to standard output.")
                    .why("The rows of both would stand among each other.")
                    .next("Write one of them to a file."));
            }
            return Ok(());
        }
        if target::is_stream(path) {
            return Ok(());
        }
        let file = Named::new(path, shown, part);
        if self.read.iter().any(|read| read.meets(&file)) {
            return Err(read_and_written(shown));
        }
        for written in self.written.iter().filter(|written| written.meets(&file)) {
            match (&written.part, &file.part) {
                (WrittenPart::Sheet(one), WrittenPart::Sheet(other)) if !one.eq_ignore_ascii_case(other) => {}
                (WrittenPart::Sheet(_), WrittenPart::Sheet(other)) => {
                    let what = format!("The sheet {other} of {shown} is written twice.");
                    return Err(Error::new(ErrorKind::Check, what).next("Give each sheet a name of its own."));
                }
                (WrittenPart::Sheet(_), _) | (_, WrittenPart::Sheet(_)) => {
                    let what = format!("{shown} is written twice, once without the name of a sheet.");
                    return Err(Error::new(ErrorKind::Check, what)
                        .next("Give each of them a sheet: with (sheet = 'Farms')."));
                }
                _ => {
                    return Err(Error::new(ErrorKind::Check, format!("{shown} is written twice."))
                        .next("The second would replace what the first wrote: choose another name."));
                }
            }
        }
        self.written.push(file);
        Ok(())
    }

    /// The files that are read, each once, in the order of the steps.
    pub fn all_read(&self) -> Vec<&Path> {
        let mut paths: Vec<&Path> = Vec::new();
        for file in &self.read {
            if !paths.contains(&file.path.as_path()) {
                paths.push(&file.path);
            }
        }
        paths
    }

    /// What is written: the path, what messages call it, and what of it.
    pub fn all_written(&self) -> impl Iterator<Item = (&Path, &str, &WrittenPart)> {
        self.written.iter().map(|file| (file.path.as_path(), file.shown.as_str(), &file.part))
    }

    /// Whether a step writes to standard output.
    pub fn writes_to_standard(&self) -> bool {
        self.is_standard_written
    }
}

fn read_and_written(shown: &str) -> Error {
    Error::new(ErrorKind::Check, format!("{shown} is read, and would be written as well."))
        .why("What is read would be lost if anything went wrong.")
        .next("Write to another name, and rename the file when the run is done.")
}
