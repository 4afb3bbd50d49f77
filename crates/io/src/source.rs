//! What every format offers: its columns before the run, its rows in numbered morsels during it.

use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;

use arrow_array::BooleanArray;
use arrow_schema::DataType;
use churn_core::counters::Example;
use churn_core::{Batch, Event, Result, Scalar};

use super::format::{LineEncoder, LineForm};
use super::ranges::Range;
use super::store::Transfer;

/// A column as a source has it.
#[derive(Clone, Debug, PartialEq)]
pub struct SourceColumn {
    /// Its name.
    pub name: String,
    /// How its values are carried.
    pub data: DataType,
    /// Whether nothing told its type: a column of text files in which no value was seen.
    pub open: bool,
}

/// Something that is known of a source before the run.
#[derive(Clone, Debug, Default)]
pub struct About {
    /// Files that it is made of.
    pub files: usize,
    /// Bytes on disk.
    pub bytes: Option<u64>,
    /// Rows, where the format tells.
    pub rows: Option<u64>,
    /// Rows by their average length in what was looked at.
    pub rows_about: Option<u64>,
    /// How much of the files column types were inferred from, where they are inferred.
    pub looked: Option<Looked>,
    /// What the reader should know: a column that looks like dates but stays text.
    pub notes: Vec<String>,
    /// The first column that one of several files lacks.
    pub lacking: Option<Lacking>,
    /// What was fetched of it from stores, if it is in some; more during a run.
    pub transfers: Vec<Arc<Transfer>>,
}

/// A column that one of several files of a table lacks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lacking {
    /// The column.
    pub column: String,
    /// The file that lacks it.
    pub file: String,
    /// A file that has it.
    pub other: String,
}

impl Lacking {
    /// The first of some columns that a file lacks: `places` says of each file, by its name as messages show it, where each
    /// column stands in it. Of columns that no file has nothing is told.
    pub(crate) fn first<'a>(
        columns: &[impl AsRef<str>],
        files: impl Iterator<Item = (&'a str, &'a [Option<usize>])>,
    ) -> Option<Lacking> {
        let files: Vec<_> = files.collect();
        let has = |places: &[Option<usize>], column: usize| places.get(column).copied().flatten().is_some();
        columns.iter().enumerate().find_map(|(number, column)| {
            let (other, _) = files.iter().find(|(_, places)| has(places, number))?;
            let (file, _) = files.iter().find(|(_, places)| !has(places, number))?;
            let (file, other) = ((*file).to_owned(), (*other).to_owned());
            Some(Lacking { column: column.as_ref().to_owned(), file, other })
        })
    }
}

impl AsRef<str> for SourceColumn {
    fn as_ref(&self) -> &str {
        &self.name
    }
}

/// How much of a source was looked at before the run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Looked {
    /// The number of rows.
    pub rows: u64,
    /// Bytes of text.
    pub(crate) bytes: u64,
    /// Whether that is all of it.
    pub whole: bool,
}

impl Looked {
    /// The rows of a text of so many bytes, by the mean length of those that were looked at; `None` if that is not
    /// known.
    pub(crate) fn rows_of(self, bytes: Option<u64>) -> Option<u64> {
        match bytes {
            _ if self.whole => Some(self.rows),
            Some(bytes) if self.rows > 0 => {
                let mean = self.bytes as f64 / self.rows as f64;
                Some((bytes as f64 / mean.max(1.0)).round() as u64)
            }
            _ => None,
        }
    }

    /// Takes a row of so many bytes in.
    pub(crate) fn add(&mut self, bytes: usize) {
        self.rows += 1;
        self.bytes += bytes as u64;
    }

    /// What was looked at of two files.
    pub(crate) fn and(self, other: Looked) -> Looked {
        Looked {
            rows: self.rows + other.rows,
            bytes: self.bytes + other.bytes,
            whole: self.whole && other.whole,
        }
    }
}

/// A table that can be read any number of times, from one place or several.
pub trait Source: Send + Sync + fmt::Debug {
    /// The columns, in order.
    fn columns(&self) -> &[SourceColumn];
    /// What is known before the run.
    fn about(&self) -> &About;
    /// Starts reading.
    fn open(&self, request: Request) -> Result<Box<dyn Scan>>;

    /// Bytes that some of the columns take in its files; `None` where the files do not tell.
    fn bytes_of(&self, _columns: &[usize]) -> Option<u64> {
        None
    }
}

/// A source over files of stores, or over copies of streams, which vanish with it.
#[derive(Debug)]
pub(crate) struct FetchedSource {
    source: Arc<dyn Source>,
    about: About,
    /// Temporary folders that must last as long as it.
    _folders: Vec<super::temporary::Folder>,
}

impl FetchedSource {
    /// A source, what is fetched for it from stores, and folders with copies that it reads.
    pub(crate) fn new(
        source: Arc<dyn Source>,
        transfers: Vec<Arc<Transfer>>,
        folders: Vec<super::temporary::Folder>,
    ) -> FetchedSource {
        let about = About { transfers, ..source.about().clone() };
        FetchedSource { source, about, _folders: folders }
    }
}

impl Source for FetchedSource {
    fn columns(&self) -> &[SourceColumn] {
        self.source.columns()
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn bytes_of(&self, columns: &[usize]) -> Option<u64> {
        self.source.bytes_of(columns)
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        self.source.open(request)
    }
}

/// What a run wants of a source.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// Positions of the columns to read, in this order.
    pub columns: Vec<usize>,
    /// Bytes or rows of a morsel, where the run sets them: tests make them small.
    pub block_bytes: Option<usize>,
    /// What is known of the rows that are wanted: a source may leave out rows outside of these ranges, and says
    /// how many. Places are those of the source's columns.
    pub ranges: Vec<(usize, Range)>,
}

/// The values of a source's first row; `None` if it has no rows.
///
/// # Errors
/// The source cannot be read.
pub fn first_row(source: &dyn Source) -> Result<Option<Vec<Scalar>>> {
    let columns = (0..source.columns().len()).collect();
    let scan = source.open(Request { columns, block_bytes: None, ranges: Vec::new() })?;
    while let Some(mut morsel) = scan.next()? {
        while let Some(Decoded { batch, .. }) = morsel.next(None)? {
            if batch.rows > 0 {
                return Ok(Some(batch.columns.iter().map(|column| Scalar::from_array(column, 0)).collect()));
            }
        }
    }
    Ok(None)
}

/// Passthrough of rows to a text writer: the scan gives lines as bytes, and decodes only the columns named here.
pub struct LinesOnly {
    /// Encodes the rows whose bytes in the source are not those that the writer would produce.
    pub encoder: Arc<dyn LineEncoder>,
    /// Positions, among the request's columns, of those that later operators need; the others may come out as null.
    pub read: Vec<usize>,
}

/// What may be used while files are opened, before a run starts.
#[derive(Clone, Debug, Default)]
pub struct ReadResources {
    /// The folder for temporary files, if one is given.
    pub temporary: Option<PathBuf>,
    /// Bytes of memory, if they are bounded.
    pub memory: Option<u64>,
}

/// What some scans can do beside giving rows, to be asked for before the first morsel is taken.
///
/// A scan answers for each of them, and one that wraps others hands on what they can do as well: there is no answer by
/// default, so that none is forgotten.
pub enum Capability<'a> {
    /// Large morsels, for a run that makes little of each. Their borders depend on the data alone.
    LargeMorsels,
    /// Leaving out rows outside of ranges, as far as the source can tell; it says how many. Places are those of the
    /// request's columns.
    Ranges(&'a [(usize, Range)]),
    /// A column of bytes behind the others: each row as it stands in the source, where that is as a text writer would
    /// write it, and null elsewhere.
    LinesToo(LineForm),
    /// The rows as lines, in a column of bytes behind the others, of which few are needed.
    LinesOnly(LinesOnly),
}

/// A source being read.
pub trait Scan: Send + Sync {
    /// Makes use of a capability; gives false, and nothing changes, if the scan does not have it.
    fn enable(&mut self, capability: Capability<'_>) -> bool;
    /// The next morsel, in order; `None` at the end.
    ///
    /// Called by one worker at a time.
    fn next(&self) -> Result<Option<Box<dyn Morsel>>>;
    /// What was given so far, and what there is in all where that is known: bytes of files, else rows.
    fn progress(&self) -> (u64, Option<u64>);
}

/// Where a morsel took its first record to start and found its last one to end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Seam {
    /// What the starts and ends are places of: a file.
    pub place: usize,
    /// Where it begins, in bytes.
    pub start: u64,
    /// Whether the start was known, not guessed.
    pub known: bool,
    /// Where it ends, in bytes.
    pub end: u64,
}

/// A condition that is tested while reading, before the other columns are decoded.
pub trait RowTest {
    /// Positions among the request's columns.
    fn columns(&self) -> &[usize];
    /// Which rows stay.
    fn test(&mut self, batch: &Batch) -> Result<BooleanArray>;
}

/// A part of a source, decoded batch by batch by the worker that took it.
pub trait Morsel: Send {
    /// The next rows, of those that pass the test; `None` at its end.
    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>>;

    /// Its borders, if they were guessed and must be compared with its neighbours'.
    fn guess(&self) -> Option<Box<dyn Guess + '_>>;
}

/// The borders of a morsel that was cut out of a text before its records were known.
pub trait Guess {
    /// Where it began and ended.
    fn seam(&self) -> Seam;
    /// The same part, with its first record at `start`: for one whose guess was wrong.
    fn again(&self, start: u64) -> Box<dyn Morsel>;
}

/// Some of a morsel's rows.
#[derive(Debug)]
pub struct Decoded {
    /// The rows.
    pub batch: Batch,
    /// Rows before the test.
    pub rows: usize,
    /// What happened on the way.
    pub events: Vec<(Event, usize)>,
    /// What it happened to: the first few, in the order of rows.
    pub examples: Vec<Example>,
    /// Rows that were left out, as they stand in the file, for the file of rejects.
    pub rejects: Vec<u8>,
    /// Rows that were not read since none of them is within the request's ranges.
    pub skipped: usize,
}

impl Decoded {
    /// Rows of which nothing else is to be told; `rows` is their number before the test.
    pub fn of(batch: Batch, rows: usize) -> Decoded {
        Decoded { batch, rows, events: Vec::new(), examples: Vec::new(), rejects: Vec::new(), skipped: 0 }
    }

    /// The rows of a batch that pass the test.
    pub fn tested(batch: Batch, test: Option<&mut dyn RowTest>) -> Result<Decoded> {
        let rows = batch.rows;
        let Some(test) = test else { return Ok(Decoded::of(batch, rows)) };
        let columns = batch.columns_at(test.columns());
        let keep = test.test(&Batch { columns, rows })?;
        Ok(Decoded::of(batch.filter(&keep)?, rows))
    }
}
