//! Parquet files as one table, united by name.

use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use churn_core::Result;
use churn_core::parallel::caught;
use parquet::file::metadata::RowGroupMetaData;

use super::fetched::FetchedChunks;
use super::file::ParquetFile;
use super::morsel::{DecodeState, ParquetMorsel};
use super::piece::RowGroupPiece;
use crate::format::Opening;
use crate::merge_schemas::{self, MergedSchema};
use crate::source::{About, Capability, Morsel, Request, Scan, Source, SourceColumn};
use crate::store::aside;

/// Rows of a morsel whose rows are handed on: what comes of it waits in memory for its turn.
const PIECE_ROWS: usize = 1 << 17;

/// Pieces of a row group at most: each reads the column from its start again where there is no page index.
const PIECES: usize = 16;

/// Bytes that are fetched ahead of the morsels where memory is not bounded, and the part of it where it is.
const AHEAD: u64 = 64 << 20;
const OF_MEMORY: u64 = 16;

/// Parquet files as one table.
#[derive(Debug)]
pub struct ParquetSource {
    files: Arc<Vec<ParquetFile>>,
    united: Arc<MergedSchema>,
    /// Bytes that are fetched before the morsel is taken that needs them, at most.
    ahead: u64,
    about: About,
}

impl ParquetSource {
    /// Reads the footers of some files.
    ///
    /// # Errors
    /// A file cannot be read, or columns of one name have types that do not go together.
    pub fn new(files: &[PathBuf], opening: &Opening) -> Result<ParquetSource> {
        let open_files = Arc::default();
        let open = |file: &PathBuf| {
            ParquetFile::open(file, &merge_schemas::shown(file, &opening.base), &open_files, opening)
        };
        let opened: Vec<ParquetFile> = files.iter().map(open).collect::<Result<_>>()?;
        let columns = opened.iter().map(|f| (f.shown.as_str(), f.columns.as_slice()));
        let united = MergedSchema::of_files(columns, opening.options.file_column.as_deref())?;
        let notes = opened.iter().flat_map(|f| f.notes.iter().cloned()).collect();
        let about = About {
            files: files.len(),
            bytes: Some(opened.iter().map(ParquetFile::bytes).sum()),
            rows: Some(opened.iter().map(ParquetFile::rows).sum()),
            notes,
            lacking: united.lacking.clone(),
            ..About::default()
        };
        let ahead = opening.resources.memory.map_or(AHEAD, |memory| (memory / OF_MEMORY).min(AHEAD));
        Ok(ParquetSource { files: Arc::new(opened), united: Arc::new(united), ahead, about })
    }
}

impl Source for ParquetSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.united.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn bytes_of(&self, columns: &[usize]) -> Option<u64> {
        let of_file = |(number, file): (usize, &ParquetFile)| {
            let places = self.united.places.get(number);
            let flats = columns.iter().filter_map(|column| file.columns.get(places?.get(*column).copied()??));
            file.bytes_of(flats.filter_map(|flat| flat.path.first().copied()))
        };
        Some(self.files.iter().enumerate().map(of_file).sum())
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let shared = Arc::new(ParquetScanState {
            files: self.files.clone(),
            united: self.united.clone(),
            request,
            done: AtomicU64::new(0),
            first_columns: OnceLock::new(),
        });
        let next = Mutex::new(NextPiece::first(0, 0));
        let (ahead, total) = (self.ahead, self.about.bytes);
        Ok(Box::new(ParquetScan { shared, next, gathers: false, ahead, total }))
    }
}

/// What all morsels need.
pub(super) struct ParquetScanState {
    pub(super) files: Arc<Vec<ParquetFile>>,
    pub(super) united: Arc<MergedSchema>,
    pub(super) request: Request,
    pub(super) done: AtomicU64,
    /// The columns that each morsel reads whatever its rows are, once the first morsel was begun.
    pub(super) first_columns: OnceLock<Vec<usize>>,
}

/// Where the next morsel starts.
#[derive(Clone)]
struct NextPiece {
    file: usize,
    group: usize,
    from: usize,
    /// What was fetched of its row group from a store.
    fetched: Arc<FetchedChunks>,
}

impl NextPiece {
    /// The first morsel of a row group.
    fn first(file: usize, group: usize) -> NextPiece {
        NextPiece { file, group, from: 0, fetched: Arc::default() }
    }
}

struct ParquetScan {
    shared: Arc<ParquetScanState>,
    next: Mutex<NextPiece>,
    gathers: bool,
    /// Bytes that are fetched ahead at most.
    ahead: u64,
    total: Option<u64>,
}

impl ParquetScan {
    /// The row group of the next piece, which may be in a file after the one that was read; `None` after the last.
    fn group(&self, next: &mut NextPiece) -> Option<&RowGroupMetaData> {
        loop {
            let groups = self.shared.files.get(next.file)?.metadata.metadata().row_groups();
            match groups.get(next.group) {
                Some(group) => return Some(group),
                None => *next = NextPiece::first(next.file + 1, 0),
            }
        }
    }

    /// Takes the next piece; `None` after the last.
    fn take(&self, next: &mut NextPiece) -> Option<RowGroupPiece> {
        loop {
            let group = self.group(next)?;
            let rows = usize::try_from(group.num_rows()).unwrap_or(0);
            let piece = match self.shared.request.block_bytes {
                // Tests ask for small parts.
                Some(bytes) => (bytes / 16).max(1),
                None if self.gathers => rows.max(1),
                None => PIECE_ROWS.max(rows.div_ceil(PIECES)),
            };
            let NextPiece { file, group, from, fetched } = next.clone();
            let to = (from + piece).min(rows);
            match to >= rows {
                true => *next = NextPiece::first(file, group + 1),
                false => next.from = to,
            }
            if from < to {
                return Some(RowGroupPiece { shared: self.shared.clone(), file, group, from, to, fetched });
            }
        }
    }

    /// Has what the piece after some other will need fetched, if it is in a store, by a thread of its own.
    fn fetch_ahead(&self, next: &mut NextPiece) {
        let Some(columns) = self.shared.first_columns.get() else { return };
        // What is fetched stays with the place of the next piece.
        if self.group(next).is_none() {
            return;
        }
        let is_in_store = |file: &ParquetFile| file.reader.remote().is_some();
        if !self.shared.files.get(next.file).is_some_and(is_in_store) {
            return;
        }
        let Some(piece) = self.take(&mut next.clone()) else { return };
        let (columns, most) = (columns.clone(), self.ahead);
        // What fails is asked for again by the morsel, which tells why.
        let _ = aside::start(move || drop(caught(|| piece.fetch_ahead(&columns, most))));
    }
}

impl Scan for ParquetScan {
    fn enable(&mut self, capability: Capability<'_>) -> bool {
        match capability {
            Capability::LargeMorsels => self.gathers = true,
            Capability::Ranges(ranges) => {
                let Some(shared) = Arc::get_mut(&mut self.shared) else { return false };
                let Request { columns, ranges: own, .. } = &mut shared.request;
                own.extend(
                    ranges.iter().filter_map(|(i, range)| Some((columns.get(*i).copied()?, range.clone()))),
                );
            }
            Capability::LinesToo(_) | Capability::LinesOnly(_) => return false,
        }
        true
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(piece) = self.take(&mut next) else { return Ok(None) };
        if piece.is_last() {
            self.shared.done.fetch_add(piece.bytes_of_group(), Ordering::Relaxed);
        }
        self.fetch_ahead(&mut next);
        Ok(Some(Box::new(ParquetMorsel { piece, state: DecodeState::Start })))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.shared.done.load(Ordering::Relaxed), self.total)
    }
}
