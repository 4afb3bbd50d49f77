//! Parquet files as one table, united by name.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, BooleanArray, RecordBatch, new_null_array};
use churn_core::{Batch, Error, ErrorKind, Result};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{
    ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder, RowSelection, RowSelector,
};

use super::file::{ParquetFile, broken, damaged};
use super::{page_by_page, skip};
use crate::merge_schemas::{self, MergedSchema};
use crate::ranges::Range;
use crate::source::{About, Decoded, Morsel, Request, RowTest, Scan, Source, SourceColumn};

/// Rows that are decoded together, and cells of them: batches of many columns have fewer rows.
const BATCH_ROWS: usize = 1 << 14;
const BATCH_CELLS: usize = 1 << 19;

/// Rows of a morsel whose rows are handed on: what comes of it waits in memory for its turn.
const PIECE_ROWS: usize = 1 << 17;

/// Pieces of a row group at most: each reads the column from its start again where there is no page index.
const PIECES: usize = 16;

/// Parquet files as one table.
#[derive(Debug)]
pub struct ParquetSource {
    files: Arc<Vec<ParquetFile>>,
    united: Arc<MergedSchema>,
    has_file_column: bool,
    about: About,
}

impl ParquetSource {
    /// Reads the footers of some files.
    ///
    /// # Errors
    /// A file cannot be read, or columns of one name have types that do not go together.
    pub fn new(files: &[PathBuf], base: &Path, file_column: Option<&str>) -> Result<ParquetSource> {
        let open_files = Arc::default();
        let open = |file: &PathBuf| ParquetFile::open(file, &merge_schemas::shown(file, base), &open_files);
        let opened: Vec<ParquetFile> = files.iter().map(open).collect::<Result<_>>()?;
        let columns = opened.iter().map(|f| (f.shown.as_str(), f.columns.as_slice()));
        let united = MergedSchema::of_files(columns, file_column)?;
        let notes = opened.iter().flat_map(|f| f.notes.iter().cloned()).collect();
        let about = About {
            files: files.len(),
            bytes: Some(opened.iter().map(ParquetFile::bytes).sum()),
            rows: Some(opened.iter().map(ParquetFile::rows).sum()),
            notes,
            ..About::default()
        };
        Ok(ParquetSource {
            files: Arc::new(opened),
            united: Arc::new(united),
            has_file_column: file_column.is_some(),
            about,
        })
    }
}

impl Source for ParquetSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.united.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let shared = Arc::new(ParquetScanState {
            files: self.files.clone(),
            united: self.united.clone(),
            file_column: self.has_file_column.then(|| self.united.columns.len() - 1),
            request,
            done: AtomicU64::new(0),
        });
        let next = Mutex::new(NextPiece { file: 0, group: 0, from: 0 });
        Ok(Box::new(ParquetScan { shared, next, gathers: false, total: self.about.bytes }))
    }
}

/// What all morsels need.
struct ParquetScanState {
    files: Arc<Vec<ParquetFile>>,
    united: Arc<MergedSchema>,
    file_column: Option<usize>,
    request: Request,
    done: AtomicU64,
}

/// Where the next morsel starts.
struct NextPiece {
    file: usize,
    group: usize,
    from: usize,
}

struct ParquetScan {
    shared: Arc<ParquetScanState>,
    next: Mutex<NextPiece>,
    gathers: bool,
    total: Option<u64>,
}

impl Scan for ParquetScan {
    fn gather(&mut self) {
        self.gathers = true;
    }

    fn narrow(&mut self, ranges: &[(usize, Range)]) {
        if let Some(shared) = Arc::get_mut(&mut self.shared) {
            let Request { columns, ranges: own, .. } = &mut shared.request;
            own.extend(
                ranges.iter().filter_map(|(i, range)| Some((columns.get(*i).copied()?, range.clone()))),
            );
        }
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            let Some(file) = self.shared.files.get(next.file) else { return Ok(None) };
            let Some(group) = file.metadata.metadata().row_groups().get(next.group) else {
                *next = NextPiece { file: next.file + 1, group: 0, from: 0 };
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
            let place = (next.file, next.group);
            if to >= rows {
                self.shared
                    .done
                    .fetch_add(u64::try_from(group.compressed_size()).unwrap_or(0), Ordering::Relaxed);
                *next = NextPiece { file: next.file, group: next.group + 1, from: 0 };
            } else {
                next.from = to;
            }
            if from < to {
                let piece =
                    RowGroupPiece { shared: self.shared.clone(), file: place.0, group: place.1, from, to };
                return Ok(Some(Box::new(ParquetMorsel { piece, state: DecodeState::Start })));
            }
        }
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.shared.done.load(Ordering::Relaxed), self.total)
    }
}

/// Some rows of a row group.
struct RowGroupPiece {
    shared: Arc<ParquetScanState>,
    file: usize,
    group: usize,
    from: usize,
    to: usize,
}

/// How far a morsel is read.
enum DecodeState {
    Start,
    /// No column is needed: only the number of rows left.
    Counting(usize),
    /// All columns are read, and tested if there is a test.
    Reading(PieceReader),
    /// The columns of the test were read and tested; the others follow for what is left.
    Rest(Vec<Tested>, Option<PieceReader>),
    Done,
}

struct ParquetMorsel {
    piece: RowGroupPiece,
    state: DecodeState,
}

/// A batch of the tested columns: the rows that stay.
struct Tested {
    keep: BooleanArray,
    kept: Batch,
}

/// Reads some columns of some rows.
struct PieceReader {
    batches: ParquetRecordBatchReader,
    /// For each column asked for its place in the table.
    columns: Vec<usize>,
    /// For each of them its root among those that are read, and the way from there.
    ways: Vec<Option<(usize, Vec<usize>)>>,
    /// Rows that are still to come, as the footer tells.
    left: usize,
}

impl RowGroupPiece {
    fn file(&self) -> Result<&ParquetFile> {
        let lost = || Error::new(ErrorKind::Internal, "A morsel is of no file.");
        self.shared.files.get(self.file).ok_or_else(lost)
    }

    /// The rows that may pass, of those of this piece; `None` if none may.
    fn selection(&self) -> Result<Option<RowSelection>> {
        let file = self.file()?;
        let places = self.shared.united.places.get(self.file);
        let named = self.shared.request.ranges.iter().filter_map(|(column, range)| {
            let flat = file.columns.get(places?.get(*column).copied()??)?;
            // Only a column that is carried as it is in the file can be held against its statistics.
            let as_it_is = self
                .shared
                .united
                .columns
                .get(*column)
                .is_some_and(|c| churn_core::Type::of(&c.data) == churn_core::Type::of(&flat.data));
            (flat.path.len() == 1 && as_it_is).then_some((flat.name.as_str(), range))
        });
        let ranges: Vec<_> = named.collect();
        let Some(parts) = skip::parts(file, self.group, &ranges) else { return Ok(None) };
        let rows = file.metadata.metadata().row_groups().get(self.group).map_or(0, |g| g.num_rows());
        let rows = usize::try_from(rows).unwrap_or(0);
        let own = RowSelection::from_consecutive_ranges(std::iter::once(self.from..self.to), rows);
        let both = match parts {
            Some(parts) => parts.intersection(&own),
            None => own,
        };
        Ok(both.selects_any().then_some(both))
    }

    fn reader(&self, columns: Vec<usize>, selection: Option<RowSelection>) -> Result<PieceReader> {
        let file = self.file()?;
        let failed = |e| broken(&file.shown, &e);
        let places = self.shared.united.places.get(self.file);
        let flats = columns.iter().map(|c| file.columns.get(places?.get(*c).copied()??));
        let flats: Vec<_> = flats.collect();
        let mut roots: Vec<usize> = flats.iter().flatten().filter_map(|f| f.path.first().copied()).collect();
        roots.sort_unstable();
        roots.dedup();
        let way = |flat: &crate::merge_schemas::Flat| {
            let (root, rest) = flat.path.split_first()?;
            Some((roots.iter().position(|r| r == root)?, rest.to_vec()))
        };
        let ways = flats.iter().map(|flat| flat.and_then(way)).collect();
        let mask = ProjectionMask::roots(file.metadata.parquet_schema(), roots.iter().copied());
        let batch_rows = (BATCH_CELLS / columns.len().max(1)).clamp(1 << 8, BATCH_ROWS);
        let group = file.metadata.metadata().row_groups().get(self.group);
        let left = match &selection {
            Some(selection) => selection.row_count(),
            None => group.map_or(0, |group| usize::try_from(group.num_rows()).unwrap_or(0)),
        };
        let batches = if page_by_page::reads(&file.metadata, self.group, &mask) {
            let (part, rows) = ((self.group, mask), (batch_rows, selection));
            page_by_page::reader(&file.reader, &file.metadata, part, rows)
        } else {
            let (reader, metadata) = (file.reader.clone(), file.metadata.clone());
            let mut builder = ParquetRecordBatchReaderBuilder::new_with_metadata(reader, metadata)
                .with_projection(mask)
                .with_row_groups(vec![self.group])
                .with_batch_size(batch_rows);
            if let Some(selection) = selection {
                builder = builder.with_row_selection(selection);
            }
            builder.build()
        };
        Ok(PieceReader { batches: batches.map_err(failed)?, columns, ways, left })
    }

    /// The columns of a batch as the table has them.
    fn batch(&self, reader: &PieceReader, read: &RecordBatch) -> Result<Batch> {
        let file = self.file()?;
        let rows = read.num_rows();
        let column = |(column, way): (&usize, &Option<(usize, Vec<usize>)>)| -> Result<ArrayRef> {
            let wanted = self.shared.united.columns.get(*column);
            let data = wanted.map_or(arrow_schema::DataType::Null, |c| c.data.clone());
            match way {
                Some((root, path)) => {
                    let name = wanted.map_or("", |c| &c.name);
                    merge_schemas::column_of(
                        &file.shown,
                        name,
                        merge_schemas::followed(read.column(*root), path),
                        &data,
                    )
                }
                None if self.shared.file_column == Some(*column) => {
                    Ok(merge_schemas::file_name(&file.shown, rows))
                }
                None => Ok(new_null_array(&data, rows)),
            }
        };
        let columns = reader.columns.iter().zip(&reader.ways).map(column).collect::<Result<_>>()?;
        Ok(Batch { columns, rows })
    }

    /// The error of pages that have fewer or more rows than the footer tells.
    fn lacking(&self, left: usize) -> Error {
        let than = if left > 0 { format!("{left} fewer rows") } else { "more rows".to_owned() };
        let why = format!("the pages of its row group {} have {than} than its footer tells", self.group);
        self.file().map_or_else(|e| e, |file| damaged(&file.shown, &why))
    }

    fn next_of(&self, reader: &mut PieceReader) -> Result<Option<Batch>> {
        let Some(read) = reader.batches.next() else {
            return match reader.left {
                0 => Ok(None),
                left => Err(self.lacking(left)),
            };
        };
        let read = read.map_err(|e| {
            let error = parquet::errors::ParquetError::ArrowError(e.to_string());
            self.file().map_or_else(|e| e, |file| broken(&file.shown, &error))
        })?;
        reader.left = reader.left.checked_sub(read.num_rows()).ok_or_else(|| self.lacking(0))?;
        self.batch(reader, &read).map(Some)
    }
}

impl ParquetMorsel {
    /// Decides how the piece is read; gives the rows that are skipped by statistics.
    fn start(&mut self, test: Option<&mut dyn RowTest>) -> Result<Decoded> {
        let piece = &self.piece;
        let wanted = piece.shared.request.columns.clone();
        let rows = piece.to - piece.from;
        let Some(selection) = piece.selection()? else {
            self.state = DecodeState::Done;
            return Ok(skipped(piece, rows));
        };
        let selected = selection.row_count();
        let skipped = skipped(piece, rows - selected);
        // All rows are read the fast way.
        let whole = piece.file()?.metadata.metadata().row_groups().get(piece.group);
        let whole = whole.is_some_and(|g| usize::try_from(g.num_rows()) == Ok(selected));
        let selection = (!whole).then_some(selection);
        self.state = match test {
            _ if wanted.is_empty() => DecodeState::Counting(selected),
            Some(test) if test.columns().len() < wanted.len() => {
                let tested: Vec<usize> =
                    test.columns().iter().filter_map(|i| wanted.get(*i).copied()).collect();
                let others: Vec<usize> = (0..wanted.len())
                    .filter(|i| !test.columns().contains(i))
                    .filter_map(|i| wanted.get(i).copied())
                    .collect();
                let mut reader = piece.reader(tested, selection.clone())?;
                let mut parts = Vec::new();
                while let Some(batch) = piece.next_of(&mut reader)? {
                    let keep = test.test(&batch)?;
                    parts.push(Tested { kept: batch.filter(&keep)?, keep });
                }
                parts.reverse();
                let rest = match left(&parts, selection, piece) {
                    Some(selection) => Some(piece.reader(others, selection)?),
                    None => None,
                };
                DecodeState::Rest(parts, rest)
            }
            _ => DecodeState::Reading(piece.reader(wanted, selection)?),
        };
        Ok(skipped)
    }

    /// The tested columns and the others, as they were asked for.
    fn joined(&self, test: &dyn RowTest, tested: Tested, others: Option<Batch>) -> Result<Batch> {
        let wanted = &self.piece.shared.request.columns;
        let mut others = match others {
            Some(batch) => batch.filter(&tested.keep)?.columns,
            None => {
                let none =
                    (0..wanted.len()).filter(|i| !test.columns().contains(i)).filter_map(|i| wanted.get(i));
                let data = |c: &usize| self.piece.shared.united.columns.get(*c).map(|c| c.data.clone());
                none.filter_map(data).map(|d| arrow_array::new_empty_array(&d)).collect()
            }
        }
        .into_iter();
        let column = |i: usize| match test.columns().iter().position(|t| *t == i) {
            Some(place) => tested.kept.columns.get(place).cloned(),
            None => others.next(),
        };
        let columns: Option<Vec<ArrayRef>> = (0..wanted.len()).map(column).collect();
        let lost = || Error::new(ErrorKind::Internal, "A column of a Parquet file was lost.");
        Ok(Batch { columns: columns.ok_or_else(lost)?, rows: tested.kept.rows })
    }
}

/// A batch without rows that tells of those that were not read.
fn skipped(piece: &RowGroupPiece, rows: usize) -> Decoded {
    let data = |c: &usize| piece.shared.united.columns.get(*c).map(|c| c.data.clone());
    let columns = piece.shared.request.columns.iter().filter_map(data);
    let columns = columns.map(|d| arrow_array::new_empty_array(&d)).collect();
    Decoded { skipped: rows, ..Decoded::of(Batch { columns, rows: 0 }, 0) }
}

/// What is left to read of the other columns: whole batches without a row that stays are left out. The outer
/// `None` says that nothing is.
#[allow(clippy::option_option)]
fn left(
    parts: &[Tested],
    selection: Option<RowSelection>,
    piece: &RowGroupPiece,
) -> Option<Option<RowSelection>> {
    if parts.iter().all(|p| p.kept.rows == 0) {
        return None;
    }
    if parts.iter().all(|p| p.kept.rows > 0) {
        return Some(selection);
    }
    let selector = |part: &Tested| {
        let rows = part.keep.len();
        if part.kept.rows > 0 { RowSelector::select(rows) } else { RowSelector::skip(rows) }
    };
    let within = RowSelection::from(parts.iter().rev().map(selector).collect::<Vec<_>>());
    let outer =
        selection.unwrap_or_else(|| RowSelection::from(vec![RowSelector::select(piece.to - piece.from)]));
    Some(Some(outer.and_then(&within)))
}

impl Morsel for ParquetMorsel {
    fn next(&mut self, mut test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        loop {
            match std::mem::replace(&mut self.state, DecodeState::Done) {
                DecodeState::Start => {
                    let skipped = self.start(match &mut test {
                        Some(test) => Some(&mut **test),
                        None => None,
                    })?;
                    if skipped.skipped > 0 {
                        return Ok(Some(skipped));
                    }
                }
                DecodeState::Counting(rows) => {
                    return Decoded::tested(Batch { columns: Vec::new(), rows }, test).map(Some);
                }
                DecodeState::Reading(mut reader) => {
                    let Some(batch) = self.piece.next_of(&mut reader)? else { return Ok(None) };
                    self.state = DecodeState::Reading(reader);
                    let rows = batch.rows;
                    let batch = match test {
                        Some(test) => {
                            // The test's columns are all columns, perhaps in another order.
                            let columns =
                                test.columns().iter().filter_map(|i| batch.columns.get(*i).cloned());
                            let part = Batch { columns: columns.collect(), rows };
                            batch.filter(&test.test(&part)?)?
                        }
                        None => batch,
                    };
                    return Ok(Some(Decoded::of(batch, rows)));
                }
                DecodeState::Rest(mut parts, mut reader) => {
                    let (Some(tested), Some(test)) = (parts.pop(), test) else { return Ok(None) };
                    let rows = tested.keep.len();
                    let others = match &mut reader {
                        Some(reader) if tested.kept.rows > 0 => {
                            let lost = || {
                                Error::new(ErrorKind::Internal, "A Parquet file lost rows between columns.")
                            };
                            Some(self.piece.next_of(reader)?.ok_or_else(lost)?)
                        }
                        _ => None,
                    };
                    let batch = self.joined(&*test, tested, others)?;
                    self.state = DecodeState::Rest(parts, reader);
                    return Ok(Some(Decoded::of(batch, rows)));
                }
                DecodeState::Done => return Ok(None),
            }
        }
    }
}
