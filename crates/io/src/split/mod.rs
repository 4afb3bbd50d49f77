//! `split_by`: a folder of files, one for each value of some columns.
//!
//! The files are written in a folder beside the target, which takes its name when all are complete: in one step where
//! the system can exchange two names, so that there is a whole folder of that name at any time.

mod reopened;
mod replace;

use std::io::Write;
use std::path::{Path, PathBuf};

use arrow_array::{ArrayRef, UInt32Array};
use arrow_row::{RowConverter, SortField};
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Scalar};
use hashbrown::HashMap;

use crate::binary::{Out, RowWriter, WriterResources};
use crate::folders::folder_name;
use crate::format::{Encoder, Format, WriteOptions};
use crate::part::folder_of;
use crate::segments::{Segment, Segments};
use crate::target::{Mode, there_already};
use crate::temporary::{Folder, undisturbed};
use crate::waiting_rows::{PartEnd, WaitingRows, in_one_piece};
use reopened::Reopened;
pub use replace::may_stand_at;
use replace::{exchange, link_all, share};

/// Files that are open at once, at most.
const MOST_FILES: usize = 1000;

/// A folder that is being written.
pub struct SplitTarget {
    target: PathBuf,
    /// Where the files are written, and the folder in there that becomes the target.
    beside: Folder,
    format: Format,
    options: WriteOptions,
    mode: Mode,
    resources: WriterResources,
    /// Rows that are not partitioned to their files.
    whole: WaitingRows,
    /// Bytes of rows that wait for their files, about.
    waiting: usize,
    /// Rows of files that are written later, once there was no room for those of all.
    segments: Segments,
    /// Places and names of the columns that folders are named by, and the fields of the others.
    keys: Vec<(usize, String)>,
    /// Turns keys into bytes that are equal if they are.
    converter: RowConverter,
    rest: Vec<(usize, Field)>,
    files: HashMap<PathBuf, Entry>,
    /// How many columnar files are being written.
    writers: usize,
}

enum Entry {
    Text { file: Reopened, encoder: Box<dyn Encoder>, any: bool },
    Rows(Waiting),
}

/// A columnar file, and rows that wait for it: first those of its segments, then those in memory.
struct Waiting {
    rows: WaitingRows,
    segments: Vec<Segment>,
    writer: Option<Box<dyn RowWriter>>,
}

/// Memory that the writer of a columnar file should have at least.
const WRITER_BYTES: usize = 32 << 20;

/// Rows that are partitioned to their files together.
const TOGETHER: usize = 1 << 16;

impl SplitTarget {
    /// Starts a folder.
    ///
    /// # Errors
    /// The folder is there and must be new, or holds what is no such table; nothing can be written beside it.
    pub fn create(
        target: &Path,
        (format, options, mode): (&Format, &WriteOptions, Mode),
        fields: &[Field],
        resources: &WriterResources,
    ) -> Result<SplitTarget> {
        may_stand_at(target, &options.split_by, mode, format)?;
        let parent = folder_of(target);
        let beside = Folder::create(parent, ".churn-", ".part");
        let key = |name: &String| Some((fields.iter().position(|f| f.name == *name)?, name.clone()));
        let keys: Vec<(usize, String)> = options.split_by.iter().filter_map(key).collect();
        let kinds = keys.iter().filter_map(|(place, _)| fields.get(*place));
        let kinds = kinds.map(|field| SortField::new(field.kind.arrow())).collect();
        let is_key = |place: usize| keys.iter().any(|(k, _)| *k == place);
        let rest = fields.iter().cloned().enumerate().filter(|(place, _)| !is_key(*place)).collect();
        Ok(SplitTarget {
            beside: beside.map_err(|e| failed(target, &e))?,
            target: target.to_owned(),
            format: format.clone(),
            options: options.clone(),
            mode,
            resources: resources.clone(),
            whole: WaitingRows::new(fields, PartEnd { rows: TOGETHER, bytes: resources.bytes / 8 }),
            waiting: 0,
            segments: Segments::new(parent),
            keys,
            converter: RowConverter::new(kinds).map_err(churn_core::arrow_error)?,
            rest,
            files: HashMap::new(),
            writers: 0,
        })
    }

    /// Takes rows.
    pub fn write(&mut self, batch: &Batch) -> Result<()> {
        let parts = self.whole.push(batch.clone())?;
        parts.iter().try_for_each(|part| self.partition(&part.batches))
    }

    /// Takes rows to their files.
    fn partition(&mut self, rows: &[Batch]) -> Result<()> {
        let Some(columns) = in_one_piece(rows)? else { return Ok(()) };
        let batch = Batch { rows: columns.first().map_or(0, |column| column.len()), columns };
        let lost = || Error::new(ErrorKind::Internal, "A column to split by was lost.");
        let wide = |(place, _): &(usize, String)| widen(batch.columns.get(*place).ok_or_else(lost)?);
        let keys: Vec<ArrayRef> = self.keys.iter().map(wide).collect::<Result<_>>()?;
        let bytes = self.converter.convert_columns(&keys).map_err(churn_core::arrow_error)?;
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
        let target = self.target.clone();
        let lost_bytes = |e: std::io::Error| failed(&target, &e);
        for (folder, rows) in rows {
            let part = rest.take(&UInt32Array::from(rows))?.compacted();
            match self.entry(folder)? {
                Entry::Text { file, encoder, any } => {
                    let rows = encoder.rows(&part, None)?;
                    let between = if std::mem::replace(any, true) { encoder.between() } else { b"" };
                    file.write_all(between).and_then(|()| file.write_all(&rows)).map_err(lost_bytes)?;
                }
                Entry::Rows(waiting) => {
                    let before = waiting.rows.bytes();
                    waiting.rows.push(part)?;
                    let more = waiting.rows.bytes() - before;
                    self.waiting += more;
                }
            }
        }
        if self.waiting > self.resources.bytes / 2 { self.settle() } else { Ok(()) }
    }

    /// Puts rows that wait out of memory, of the files that have most, until those of all take half of that: some files
    /// are written at once, the others when all rows have come.
    fn settle(&mut self) -> Result<()> {
        let bytes = |entry: &Entry| if let Entry::Rows(waiting) = entry { waiting.rows.bytes() } else { 0 };
        let mut folders: Vec<(usize, PathBuf)> =
            self.files.iter().map(|(folder, entry)| (bytes(entry), folder.clone())).collect();
        folders.sort_unstable();
        while let Some((bytes, folder)) = folders.pop().filter(|_| self.waiting > self.resources.bytes / 4) {
            let may_write = self.writers < self.most_writers();
            let is_new = |waiting: &Waiting| waiting.writer.is_none() && waiting.segments.is_empty();
            let starts = matches!(self.files.get(&folder), Some(Entry::Rows(w)) if may_write && is_new(w));
            let writer = if starts { Some(self.writer(&folder)?) } else { None };
            let Some(Entry::Rows(waiting)) = self.files.get_mut(&folder) else { continue };
            if starts {
                waiting.writer = writer;
                self.writers += 1;
            }
            self.waiting = self.waiting.saturating_sub(bytes);
            let batches = waiting.rows.take().batches;
            match &mut waiting.writer {
                Some(writer) => batches.into_iter().try_for_each(|batch| writer.write(batch))?,
                None => waiting.segments.push(self.segments.push(&waiting.rows.schema(), batches)?),
            }
        }
        Ok(())
    }

    /// How many columnar files may be written at once.
    fn most_writers(&self) -> usize {
        self.resources.bytes / WRITER_BYTES
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
        let fields = self.fields();
        let Some(encoder) = self.format.encoder(&fields, &self.options) else {
            return Ok(Entry::Rows(Waiting {
                rows: WaitingRows::new(&fields, PartEnd::NOWHERE),
                segments: Vec::new(),
                writer: None,
            }));
        };
        let mut file = self.file(folder)?;
        file.write_all(&encoder.start()).map_err(|e| failed(&self.target, &e))?;
        Ok(Entry::Text { file, encoder, any: false })
    }

    /// The fields that files have.
    fn fields(&self) -> Vec<Field> {
        self.rest.iter().map(|(_, field)| field.clone()).collect()
    }

    /// A new file in a folder.
    fn file(&self, folder: &Path) -> Result<Reopened> {
        let within = self.beside.subfolder(folder).map_err(|e| failed(&self.target, &e))?;
        let mut number = 1;
        let name = |number: usize| format!("part-{number}.{}", self.format.ending());
        while self.mode == Mode::Append && self.target.join(folder).join(name(number)).exists() {
            number += 1;
        }
        Reopened::create(within.join(name(number))).map_err(|e| failed(&self.target, &e))
    }

    /// What writes a columnar file in a folder.
    fn writer(&self, folder: &Path) -> Result<Box<dyn RowWriter>> {
        let out = Out::new(self.file(folder)?);
        let resources = self.resources.share(self.most_writers());
        let writer = self.format.writer(out, &self.fields(), &self.options, &resources)?;
        writer.ok_or_else(|| Error::new(ErrorKind::Internal, "A format has neither an encoder nor a writer."))
    }

    /// Ends all files, beside the target.
    ///
    /// # Errors
    /// The disk is full or fails.
    pub fn end(&mut self) -> Result<()> {
        let rest = self.whole.take();
        self.partition(&rest.batches)?;
        if self.files.is_empty() && self.mode != Mode::Append {
            // A file without rows, so that the columns can be read back.
            let folder = self.keys.iter().map(|(_, name)| folder_name(name, None)).collect();
            self.entry(folder)?;
        }
        for (folder, entry) in std::mem::take(&mut self.files) {
            let lost = |e: std::io::Error| failed(&self.target, &e);
            match entry {
                Entry::Text { mut file, encoder, .. } => {
                    file.write_all(encoder.end()).and_then(|()| file.flush()).map_err(lost)?;
                }
                Entry::Rows(Waiting { mut rows, segments, writer }) => {
                    let mut writer = writer.map_or_else(|| self.writer(&folder), Ok)?;
                    for segment in segments {
                        let batches = self.segments.read(segment)?;
                        batches.into_iter().try_for_each(|batch| writer.write(batch))?;
                    }
                    rows.take().batches.into_iter().try_for_each(|batch| writer.write(batch))?;
                    writer.finish()?.flush().map_err(lost)?;
                }
            }
        }
        Ok(())
    }

    /// Gives the folder its name; its files have ended.
    ///
    /// # Errors
    /// The name cannot be given; an older folder of that name is as it was then, or the error says where it is.
    pub fn finish(self) -> Result<()> {
        let lost = |e: std::io::Error| failed(&self.target, &e);
        let made = self.beside.path();
        if self.mode == Mode::New && self.target.exists() {
            return Err(there_already(&self.target));
        }
        let is_there = self.target.exists();
        if self.mode == Mode::Append && is_there {
            // The files that are there stand in both folders for a moment.
            link_all(&self.target, made).map_err(lost)?;
        }
        share(made, &self.target).map_err(lost)?;
        let _undisturbed = undisturbed().map_err(lost)?;
        if !is_there {
            return std::fs::rename(made, &self.target).map_err(lost);
        }
        if exchange(made, &self.target) {
            // What stood there before is now what vanishes.
            return Ok(());
        }
        let aside = made.with_extension("old");
        std::fs::rename(&self.target, &aside).map_err(lost)?;
        if let Err(error) = std::fs::rename(made, &self.target) {
            return Err(match std::fs::rename(&aside, &self.target) {
                Ok(()) => failed(&self.target, &error),
                Err(_) => Error::new(
                    ErrorKind::Output,
                    format!("{} cannot be written: {error}.", self.target.display()),
                )
                .why(format!("The folder that stood there is now {}.", aside.display())),
            });
        }
        let _ = std::fs::remove_dir_all(aside);
        Ok(())
    }

    /// The target, as messages show it.
    pub fn shown(&self) -> String {
        self.target.display().to_string()
    }
}

fn failed(target: &Path, error: &std::io::Error) -> Error {
    Error::new(ErrorKind::Output, format!("{} cannot be written: {error}.", target.display()))
        .why("Nothing was changed: an older folder of that name is as it was.")
}
