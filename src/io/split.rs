//! `split_by`: a folder of files, one for each value of some columns.
//!
//! The files are written in a folder beside the target, which takes its name when all are complete.

use std::path::{Path, PathBuf};

use arrow_array::{ArrayRef, UInt32Array};
use arrow_row::{RowConverter, SortField};
use hashbrown::HashMap;
use tempfile::TempDir;

use super::binary::{Means, Out, RowWriter};
use super::folders::folder_name;
use super::format::{Encoder, Format, WriteOptions};
use super::target::{Mode, Shared, Target};
use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, Field, Scalar, widen};

/// Files that are open at once, at most.
const MOST_FILES: usize = 1000;

/// A folder that is being written.
pub(crate) struct SplitTarget {
    target: PathBuf,
    /// Where the files are written, and the folder in there that becomes the target.
    beside: TempDir,
    format: Format,
    options: WriteOptions,
    mode: Mode,
    means: Means,
    /// Bytes of rows that wait in all files, about.
    waiting: usize,
    /// Places and names of the columns that folders are named by, and the fields of the others.
    keys: Vec<(usize, String)>,
    /// Turns keys into bytes that are equal if they are.
    converter: RowConverter,
    rest: Vec<(usize, Field)>,
    files: HashMap<PathBuf, Entry>,
    /// The folders of files that are complete.
    ended: Vec<PathBuf>,
}

enum Entry {
    Text { file: Box<Target>, encoder: Box<dyn Encoder>, any: bool },
    Rows { file: Shared, writer: Box<dyn RowWriter> },
}

impl SplitTarget {
    /// Starts a folder.
    ///
    /// # Errors
    /// The folder is there and must be new, or holds what is no such table; nothing can be written beside it.
    pub(crate) fn create(
        target: &Path,
        (format, options, mode): (Format, &WriteOptions, Mode),
        fields: &[Field],
        means: &Means,
    ) -> Result<SplitTarget> {
        if target.exists() && mode != Mode::Append {
            let shown = target.display();
            if mode == Mode::New {
                return Err(Error::new(ErrorKind::Output, format!("{shown} is there already."))
                    .next("Choose another name, or say mode = replace."));
            }
            if !is_split(target) {
                return Err(Error::new(
                    ErrorKind::Output,
                    format!("{shown} is there already, and is no folder of key=value folders."),
                )
                .why("Replacing it would take away what no step wrote.")
                .next("Choose another name, or remove it first."));
            }
        }
        let parent = target.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let beside = tempfile::Builder::new().prefix(".churn-").suffix(".part").tempdir_in(parent);
        let key = |name: &String| Some((fields.iter().position(|f| f.name == *name)?, name.clone()));
        let keys: Vec<(usize, String)> = options.split_by.iter().filter_map(key).collect();
        let kinds = keys.iter().filter_map(|(place, _)| fields.get(*place));
        let kinds = kinds.map(|field| SortField::new(field.kind.arrow())).collect();
        let is_key = |place: usize| keys.iter().any(|(k, _)| *k == place);
        let rest = fields.iter().cloned().enumerate().filter(|(place, _)| !is_key(*place)).collect();
        Ok(SplitTarget {
            beside: beside.map_err(|e| failed(target, &e))?,
            target: target.to_owned(),
            format,
            options: options.clone(),
            mode,
            means: means.clone(),
            waiting: 0,
            keys,
            converter: RowConverter::new(kinds).map_err(crate::expr::arrow_error)?,
            rest,
            files: HashMap::new(),
            ended: Vec::new(),
        })
    }

    /// Deals rows to their files.
    pub(crate) fn write(&mut self, batch: &Batch) -> Result<()> {
        let lost = || Error::new(ErrorKind::Internal, "A column to split by was lost.");
        let wide = |(place, _): &(usize, String)| widen(batch.columns.get(*place).ok_or_else(lost)?);
        let keys: Vec<ArrayRef> = self.keys.iter().map(wide).collect::<Result<_>>()?;
        let bytes = self.converter.convert_columns(&keys).map_err(crate::expr::arrow_error)?;
        let mut rows: Vec<(PathBuf, Vec<u32>)> = Vec::new();
        // Keys that differ may have one name, as the two zeros.
        let (mut known, mut named) = (HashMap::new(), HashMap::new());
        for (row, key) in bytes.iter().enumerate() {
            let place = *known.entry(key).or_insert_with(|| {
                *named.entry(self.folder(&keys, row)).or_insert_with_key(|folder| {
                    rows.push((folder.clone(), Vec::new()));
                    rows.len() - 1
                })
            });
            if let Some((_, rows)) = rows.get_mut(place) {
                rows.push(row as u32);
            }
        }
        let columns = self.rest.iter().filter_map(|(place, _)| batch.columns.get(*place).cloned()).collect();
        let rest = Batch { columns, rows: batch.rows };
        for (folder, rows) in rows {
            let part = rest.take(&UInt32Array::from(rows))?;
            self.waiting += part.memory();
            match self.entry(folder)? {
                Entry::Text { file, encoder, any } => {
                    if std::mem::replace(any, true) {
                        file.write(encoder.between())?;
                    }
                    file.write(&encoder.rows(&part, None)?)?;
                }
                Entry::Rows { writer, .. } => writer.write(part)?,
            }
        }
        if self.waiting > self.means.bytes / 2 { self.settle() } else { Ok(()) }
    }

    /// Writes rows that wait, of the files that have most, until those of all take half of that.
    fn settle(&mut self) -> Result<()> {
        let waiting = |entry: &Entry| match entry {
            Entry::Rows { writer, .. } => writer.waiting(),
            Entry::Text { .. } => 0,
        };
        let mut files: Vec<&mut Entry> = self.files.values_mut().collect();
        files.sort_unstable_by_key(|entry| waiting(entry));
        self.waiting = files.iter().map(|entry| waiting(entry)).sum();
        while let Some(entry) = files.pop().filter(|_| self.waiting > self.means.bytes / 4) {
            self.waiting -= waiting(entry);
            if let Entry::Rows { writer, .. } = entry {
                writer.settle()?;
            }
        }
        Ok(())
    }

    /// The folder of a row with these keys.
    fn folder(&self, keys: &[ArrayRef], row: usize) -> PathBuf {
        let value = |(array, (_, name)): (&ArrayRef, &(usize, String))| {
            let value = Scalar::from_array(array, row);
            folder_name(name, (!value.is_null()).then(|| value.plain()).as_deref())
        };
        keys.iter().zip(&self.keys).map(value).collect()
    }

    fn entry(&mut self, folder: PathBuf) -> Result<&mut Entry> {
        if !self.files.contains_key(&folder) {
            if self.files.len() >= MOST_FILES {
                return Err(Error::new(
                    ErrorKind::Output,
                    format!("split_by would make more than {MOST_FILES} files."),
                )
                .next("Split by columns of fewer values: a month in place of a day."));
            }
            let entry = self.open(&folder)?;
            self.files.insert(folder.clone(), entry);
        }
        self.files.get_mut(&folder).ok_or_else(|| Error::new(ErrorKind::Internal, "A file was lost."))
    }

    fn open(&self, folder: &Path) -> Result<Entry> {
        let within = self.beside.path().join(folder);
        std::fs::create_dir_all(&within).map_err(|e| failed(&self.target, &e))?;
        let mut number = 1;
        let name = |number: usize| format!("part-{number}.{}", self.format.ending());
        while self.mode == Mode::Append && self.target.join(folder).join(name(number)).exists() {
            number += 1;
        }
        let fields: Vec<Field> = self.rest.iter().map(|(_, field)| field.clone()).collect();
        let mut file = Target::create(&within.join(name(number)), Mode::New)?;
        if let Some(encoder) = self.format.encoder(&fields, &self.options) {
            file.write(&encoder.start())?;
            return Ok(Entry::Text { file: Box::new(file), encoder, any: false });
        }
        let file = Shared::new(file);
        let writer = self.format.writer(Out::new(file.clone()), &fields, &self.options, &self.means)?;
        let lost = || Error::new(ErrorKind::Internal, "A format has neither an encoder nor a writer.");
        Ok(Entry::Rows { file, writer: writer.ok_or_else(lost)? })
    }

    /// Ends all files, beside the target.
    ///
    /// # Errors
    /// The disk is full or fails.
    pub(crate) fn end(&mut self) -> Result<()> {
        for (folder, entry) in self.files.drain() {
            self.ended.push(folder);
            match entry {
                Entry::Text { mut file, encoder, .. } => {
                    file.write(encoder.end())?;
                    file.finish()?;
                }
                Entry::Rows { file, writer } => {
                    drop(writer.finish()?);
                    file.finish()?;
                }
            }
        }
        Ok(())
    }

    /// Gives the folder its name; its files have ended.
    ///
    /// # Errors
    /// The name cannot be given; an older folder of that name is as it was then.
    pub(crate) fn finish(self) -> Result<()> {
        if self.mode == Mode::Append && self.target.exists() {
            return self.moved_in(&self.ended);
        }
        let lost = |e: std::io::Error| failed(&self.target, &e);
        let aside = self.target.exists().then(|| self.beside.path().with_extension("old"));
        if let Some(aside) = &aside {
            std::fs::rename(&self.target, aside).map_err(lost)?;
        }
        let made = self.beside.keep();
        if let Err(error) = std::fs::rename(&made, &self.target) {
            if let Some(aside) = &aside {
                // Put back what was there.
                let _ = std::fs::rename(aside, &self.target);
            }
            let _ = std::fs::remove_dir_all(&made);
            return Err(failed(&self.target, &error));
        }
        if let Some(aside) = aside {
            let _ = std::fs::remove_dir_all(aside);
        }
        Ok(())
    }

    /// Moves the files into the folder that is there.
    fn moved_in(&self, folders: &[PathBuf]) -> Result<()> {
        let lost = |e: std::io::Error| failed(&self.target, &e);
        for folder in folders {
            let (from, to) = (self.beside.path().join(folder), self.target.join(folder));
            std::fs::create_dir_all(&to).map_err(lost)?;
            for file in std::fs::read_dir(&from).map_err(lost)? {
                let file = file.map_err(lost)?;
                std::fs::rename(file.path(), to.join(file.file_name())).map_err(lost)?;
            }
        }
        Ok(())
    }
}

/// Whether a folder holds nothing but `key=value` folders.
fn is_split(folder: &Path) -> bool {
    let Ok(entries) = std::fs::read_dir(folder) else { return false };
    entries.flatten().all(|entry| entry.path().is_dir() && entry.file_name().to_string_lossy().contains('='))
}

fn failed(target: &Path, error: &std::io::Error) -> Error {
    Error::new(ErrorKind::Output, format!("{} cannot be written: {error}.", target.display()))
        .why("Nothing was changed: an older folder of that name is as it was.")
}
