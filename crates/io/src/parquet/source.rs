//! Parquet files as one table, united by name.

use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use churn_core::Result;

use super::fetched::FetchedChunks;
use super::file::ParquetFile;
use super::morsel::{DecodeState, ParquetMorsel};
use super::piece::RowGroupPiece;
use crate::format::Opening;
use crate::merge_schemas::{self, MergedSchema};
use crate::source::{About, Capability, Morsel, Request, Scan, Source, SourceColumn};

/// Rows of a morsel whose rows are handed on: what comes of it waits in memory for its turn.
const PIECE_ROWS: usize = 1 << 17;

/// Pieces of a row group at most: each reads the column from its start again where there is no page index.
const PIECES: usize = 16;

/// Parquet files as one table.
#[derive(Debug)]
pub struct ParquetSource {
    files: Arc<Vec<ParquetFile>>,
    united: Arc<MergedSchema>,
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
        Ok(ParquetSource { files: Arc::new(opened), united: Arc::new(united), about })
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
        });
        let next = Mutex::new(NextPiece::first(0, 0));
        Ok(Box::new(ParquetScan { shared, next, gathers: false, total: self.about.bytes }))
    }
}

/// What all morsels need.
pub(super) struct ParquetScanState {
    pub(super) files: Arc<Vec<ParquetFile>>,
    pub(super) united: Arc<MergedSchema>,
    pub(super) request: Request,
    pub(super) done: AtomicU64,
}

/// Where the next morsel starts.
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
    total: Option<u64>,
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
        loop {
            let Some(file) = self.shared.files.get(next.file) else { return Ok(None) };
            let Some(group) = file.metadata.metadata().row_groups().get(next.group) else {
                *next = NextPiece::first(next.file + 1, 0);
                continue;
            };
            let rows = usize::try_from(group.num_rows()).unwrap_or(0);
            let piece = match self.shared.request.block_bytes {
                // Tests ask for small parts.
                Some(bytes) => (bytes / 16).max(1),
                None if self.gathers => rows.max(1),
                None => PIECE_ROWS.max(rows.div_ceil(PIECES)),
            };
            let (from, to) = (next.from, (next.from + piece).min(rows));
            let (place, fetched) = ((next.file, next.group), next.fetched.clone());
            if to >= rows {
                self.shared
                    .done
                    .fetch_add(u64::try_from(group.compressed_size()).unwrap_or(0), Ordering::Relaxed);
                *next = NextPiece::first(next.file, next.group + 1);
            } else {
                next.from = to;
            }
            if from < to {
                let ((file, group), shared) = (place, self.shared.clone());
                let piece = RowGroupPiece { shared, file, group, from, to, fetched };
                return Ok(Some(Box::new(ParquetMorsel { piece, state: DecodeState::Start })));
            }
        }
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.shared.done.load(Ordering::Relaxed), self.total)
    }
}
