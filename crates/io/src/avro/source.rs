//! Avro files as one table, united by name. The places of a file's blocks are found before the run; the worker that
//! takes some of them reads, unpacks and decodes them.

use std::collections::HashMap;
use std::io::{BufReader, Cursor};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::RecordBatch;
use arrow_avro::reader::{Reader, ReaderBuilder};
use churn_core::{Batch, Error, Result};

use super::AvroFormat;
use super::container::{Block, Heading};
use super::walk::RecordShape;
use crate::format;
use crate::merge_schemas::{self, FileRows, Flat, MergedSchema};
use crate::open_files::{OpenFiles, PositionedFile};
use crate::source::{
    About, Capability, Decoded, Guess, Morsel, Request, RowTest, Scan, Source, SourceColumn,
};

/// Packed bytes of the blocks that are read together, and their most rows.
const TOGETHER: u64 = 1 << 20;
const ROWS: u64 = 1 << 16;

/// Rows of a batch.
const BATCH: usize = 1 << 13;

/// One file.
#[derive(Debug)]
struct AvroFile {
    shown: String,
    file: PositionedFile,
    heading: Heading,
    /// How its records are encoded.
    shape: RecordShape,
    /// The heading of its records once they are unpacked.
    plain: Vec<u8>,
    blocks: Vec<Block>,
    columns: Vec<Flat>,
    notes: Vec<String>,
}

type BlockReader = Reader<BufReader<Cursor<Vec<u8>>>>;

impl AvroFile {
    fn open(path: &Path, shown: &str, files: &Arc<OpenFiles>) -> Result<AvroFile> {
        let file = PositionedFile::open(path, files, &HashMap::new())?;
        let heading = Heading::read(&file).map_err(|e| broken(shown, &e))?;
        let blocks = heading.blocks(&file).map_err(|e| broken(shown, &e))?;
        let shape = RecordShape::of(&heading.schema).map_err(|e| broken(shown, &e))?;
        let plain = heading.plain();
        let reader = reader(plain.clone(), None).map_err(|e| broken(shown, &e))?;
        let flat = merge_schemas::flat(reader.schema().fields());
        let notes = flat.notes(shown);
        let shown = shown.to_owned();
        Ok(AvroFile { shown, file, heading, shape, plain, blocks, columns: flat.columns, notes })
    }

    fn rows(&self) -> u64 {
        self.blocks.iter().map(|block| block.rows).sum()
    }

    /// Decodes some blocks: those of the record's fields that are asked for.
    fn decoded(&self, blocks: Range<usize>, fields: Vec<usize>) -> Result<Vec<RecordBatch>> {
        let told = |e: &dyn std::fmt::Display| broken(&self.shown, e);
        let mut bytes = self.plain.clone();
        let mut rows = 0;
        for block in self.blocks.get(blocks).unwrap_or_default() {
            let records = self.heading.records(&self.file, block).map_err(|e| told(&e))?;
            self.shape.holds(block.rows, &records).map_err(|e| told(&e))?;
            bytes.extend(self.heading.plain_block(block.rows, &records));
            rows += block.rows;
        }
        let reader = reader(bytes, Some(fields)).map_err(|e| told(&e))?;
        let batches: Vec<RecordBatch> =
            reader.collect::<std::result::Result<_, _>>().map_err(|e| told(&e))?;
        let found: usize = batches.iter().map(RecordBatch::num_rows).sum();
        if found as u64 != rows {
            return Err(told(&format!("its blocks say {rows} records, and hold {found}")));
        }
        Ok(batches)
    }
}

/// What decodes a file of blocks that are not packed.
fn reader(
    bytes: Vec<u8>,
    fields: Option<Vec<usize>>,
) -> std::result::Result<BlockReader, arrow_schema::ArrowError> {
    let builder = ReaderBuilder::new().with_batch_size(BATCH);
    let builder = match fields {
        Some(fields) => builder.with_projection(fields),
        None => builder,
    };
    builder.build(BufReader::new(Cursor::new(bytes)))
}

fn broken(shown: &str, error: &dyn std::fmt::Display) -> Error {
    format::damaged(&AvroFormat, shown, &error.to_string())
}

/// Avro files as one table.
#[derive(Debug)]
pub struct AvroSource {
    files: Arc<Vec<AvroFile>>,
    united: Arc<MergedSchema>,
    about: About,
}

impl AvroSource {
    /// Reads the headings of some files, and finds their blocks.
    ///
    /// # Errors
    /// A file cannot be read, or columns of one name have types that do not go together.
    pub fn new(files: &[PathBuf], base: &Path, file_column: Option<&str>) -> Result<AvroSource> {
        let open_files = Arc::default();
        let open = |file: &PathBuf| AvroFile::open(file, &merge_schemas::shown(file, base), &open_files);
        let opened: Vec<AvroFile> = files.iter().map(open).collect::<Result<_>>()?;
        let columns = opened.iter().map(|f| (f.shown.as_str(), f.columns.as_slice()));
        let united = MergedSchema::of_files(columns, file_column)?;
        let about = About {
            files: files.len(),
            bytes: Some(opened.iter().map(|f| f.file.size()).sum()),
            rows: Some(opened.iter().map(AvroFile::rows).sum()),
            notes: opened.iter().flat_map(|f| f.notes.clone()).collect(),
            lacking: united.lacking.clone(),
            ..About::default()
        };
        let (files, united) = (Arc::new(opened), Arc::new(united));
        Ok(AvroSource { files, united, about })
    }
}

impl Source for AvroSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.united.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let together = request.block_bytes.map_or(TOGETHER, |bytes| bytes as u64);
        let (files, united) = (self.files.clone(), self.united.clone());
        let shared = AvroScanState { files, united, together, request };
        let next = NextBlocks { file: 0, block: 0, done: 0 };
        Ok(Box::new(AvroScan { shared: Arc::new(shared), next: Mutex::new(next), total: self.about.bytes }))
    }
}

struct AvroScanState {
    files: Arc<Vec<AvroFile>>,
    united: Arc<MergedSchema>,
    /// Packed bytes of the blocks of a morsel.
    together: u64,
    request: Request,
}

/// Where the next blocks are.
struct NextBlocks {
    file: usize,
    block: usize,
    done: u64,
}

struct AvroScan {
    shared: Arc<AvroScanState>,
    next: Mutex<NextBlocks>,
    total: Option<u64>,
}

impl Scan for AvroScan {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        while let Some(file) = self.shared.files.get(next.file) {
            let first = next.block;
            let (mut bytes, mut rows) = (0, 0);
            for block in file.blocks.iter().skip(first) {
                if next.block > first
                    && (bytes + block.packed > self.shared.together || rows + block.rows > ROWS)
                {
                    break;
                }
                (bytes, rows) = (bytes + block.packed, rows + block.rows);
                next.block += 1;
            }
            if next.block > first {
                next.done += bytes;
                let (shared, blocks) = (self.shared.clone(), first..next.block);
                let morsel = AvroMorsel {
                    shared,
                    file: next.file,
                    blocks: Some(blocks),
                    decoded: Vec::new().into_iter(),
                };
                return Ok(Some(Box::new(morsel)));
            }
            (next.file, next.block) = (next.file + 1, 0);
        }
        Ok(None)
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.next.lock().unwrap_or_else(PoisonError::into_inner).done, self.total)
    }
}

/// Some blocks of a file; `None` once they are decoded.
struct AvroMorsel {
    shared: Arc<AvroScanState>,
    file: usize,
    blocks: Option<Range<usize>>,
    decoded: std::vec::IntoIter<RecordBatch>,
}

impl Morsel for AvroMorsel {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let shared = self.shared.clone();
        let Some(file) = shared.files.get(self.file) else { return Ok(None) };
        let wanted = &shared.request.columns;
        let fields = wanted.iter().filter_map(|column| shared.united.way(*column, self.file, &file.columns));
        let mut roots: Vec<usize> = fields.map(|(root, _)| root).collect();
        roots.sort_unstable();
        roots.dedup();
        // Records without a field cannot be decoded: one is read for their number.
        if roots.is_empty() {
            roots.push(0);
        }
        if let Some(blocks) = self.blocks.take() {
            self.decoded = file.decoded(blocks, roots.clone())?.into_iter();
        }
        let Some(read) = self.decoded.next() else { return Ok(None) };
        let rows = read.num_rows();
        let of = FileRows { file: self.file, shown: &file.shown, columns: &file.columns, rows };
        let field = |root: usize| read.columns().get(roots.iter().position(|own| *own == root)?);
        let columns = shared.united.columns_of(wanted, &of, field)?;
        Decoded::tested(Batch { columns, rows }, test).map(Some)
    }
}
