//! Arrow files and streams as one table, united by name.
//!
//! A file's batches are found through its footer; the worker that takes one reads its bytes, and its columns
//! are parts of them. A stream has no footer and is read in order.

use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::RecordBatch;
use arrow_buffer::Buffer;
use arrow_ipc::convert::try_fb_to_schema;
use arrow_ipc::reader::{FileDecoder, StreamReader, read_footer_length};
use arrow_ipc::{Block, root_as_footer};
use arrow_schema::{ArrowError, Schema};
use churn_core::{Batch, Error, Result};

use super::ArrowFormat;
use super::damage::{check_places, decoded};
use crate::format::{self, Opening};
use crate::merge_schemas::{self, FileRows, Flat, MergedSchema};
use crate::open_files::{OpenFiles, PositionedFile};
use crate::source::{
    About, Capability, Decoded, Guess, Morsel, Request, RowTest, Scan, Source, SourceColumn,
};
use crate::store::{self, Transfer};
use crate::{place, streams};

/// The first bytes of a file that has a footer.
const MAGIC: [u8; 6] = *b"ARROW1";

/// One file.
#[derive(Debug)]
struct ArrowFile {
    path: PathBuf,
    shown: String,
    file: PositionedFile,
    schema: Arc<Schema>,
    columns: Vec<Flat>,
    bytes: u64,
    /// Where its batches are, and what reads them; none for a stream.
    blocks: Option<(Vec<Block>, FileDecoder)>,
    /// Counts what is fetched of a stream in a store.
    transfer: Arc<Transfer>,
}

type StreamBytes = BufReader<Box<dyn Read + Send>>;

/// The bytes of a stream, on disk or in a store.
fn stream_of(path: &Path, transfer: &Arc<Transfer>) -> Result<StreamBytes> {
    let bytes: Box<dyn Read + Send> = match store::is_address(path) {
        true => streams::take(path, transfer)?,
        false => Box::new(place::open(path)?),
    };
    Ok(BufReader::new(bytes))
}

impl ArrowFile {
    fn open(path: &Path, shown: &str, files: &Arc<OpenFiles>, opening: &Opening) -> Result<ArrowFile> {
        let file = PositionedFile::open(path, files, &opening.remote)?;
        let bytes = file.size();
        let mut first = [0; 6];
        let read = file.read_at(&mut first, 0).map_err(|e| place::unreadable(path, &e))?;
        let (schema, blocks) = if read == first.len() && first == MAGIC {
            let (schema, blocks, decoder) = footer(&file, bytes).map_err(|e| broken(shown, &e))?;
            (schema, Some((blocks, decoder)))
        } else {
            let reader = stream_of(path, &opening.transfer)?;
            let stream = decoded(|| StreamReader::try_new(reader, None)).map_err(|e| broken(shown, &e))?;
            (stream.schema(), None)
        };
        let columns = merge_schemas::flat(schema.fields()).columns;
        let (path, shown, transfer) = (path.to_owned(), shown.to_owned(), opening.transfer.clone());
        Ok(ArrowFile { path, shown, file, schema, columns, bytes, blocks, transfer })
    }
}

/// The schema and the places of all batches; dictionaries are read.
fn footer(
    file: &PositionedFile,
    bytes: u64,
) -> std::result::Result<(Arc<Schema>, Vec<Block>, FileDecoder), ArrowError> {
    let cut = || ArrowError::ParseError("it is cut short".into());
    let end: [u8; 10] =
        part(file, bytes.checked_sub(10).ok_or_else(cut)?, 10)?.as_slice().try_into().map_err(|_| cut())?;
    let length = read_footer_length(end)?;
    let start = (bytes - 10).checked_sub(length as u64).ok_or_else(cut)?;
    let footer = part(file, start, length)?;
    let footer = root_as_footer(&footer).map_err(|e| ArrowError::ParseError(e.to_string()))?;
    let schema = Arc::new(try_fb_to_schema(footer.schema().ok_or_else(cut)?)?);
    let mut decoder = FileDecoder::new(schema.clone(), footer.version());
    for block in footer.dictionaries().iter().flatten() {
        let bytes = block_of(file, block)?;
        decoded(|| decoder.read_dictionary(block, &bytes))?;
    }
    let blocks = footer.recordBatches().map(|b| b.iter().copied().collect()).unwrap_or_default();
    Ok((schema, blocks, decoder))
}

fn block_of(file: &PositionedFile, block: &Block) -> std::result::Result<Buffer, ArrowError> {
    let negative = |_| ArrowError::ParseError("a batch has no length".into());
    let length = i64::from(block.metaDataLength()) + block.bodyLength();
    let (at, length) = (u64::try_from(block.offset()), usize::try_from(length));
    let bytes = part(file, at.map_err(negative)?, length.map_err(negative)?)?;
    check_places(block, &bytes)?;
    Ok(bytes)
}

/// Some bytes of a file.
fn part(file: &PositionedFile, at: u64, length: usize) -> std::result::Result<Buffer, ArrowError> {
    let room = file.size().saturating_sub(at);
    if (length as u64) > room {
        return Err(ArrowError::ParseError("it is cut short".into()));
    }
    let mut bytes = arrow_buffer::MutableBuffer::from_len_zeroed(length);
    file.read_exactly(bytes.as_slice_mut(), at)?;
    Ok(bytes.into())
}

fn broken(shown: &str, error: &ArrowError) -> Error {
    let why = error.to_string();
    format::damaged(&ArrowFormat, shown, why.split_once(": ").map_or(why.as_str(), |(_, rest)| rest))
}

/// Arrow files as one table.
#[derive(Debug)]
pub struct ArrowSource {
    files: Arc<Vec<ArrowFile>>,
    united: Arc<MergedSchema>,
    about: About,
}

impl ArrowSource {
    /// Reads the footers of some files.
    ///
    /// # Errors
    /// A file cannot be read, or columns of one name have types that do not go together.
    pub fn new(files: &[PathBuf], opening: &Opening) -> Result<ArrowSource> {
        let open_files = Arc::default();
        let open = |file: &PathBuf| {
            ArrowFile::open(file, &merge_schemas::shown(file, &opening.base), &open_files, opening)
        };
        let opened: Vec<ArrowFile> = files.iter().map(open).collect::<Result<_>>()?;
        let columns = opened.iter().map(|f| (f.shown.as_str(), f.columns.as_slice()));
        let united = MergedSchema::of_files(columns, opening.options.file_column.as_deref())?;
        let note = |f: &ArrowFile| merge_schemas::flat(f.schema.fields()).notes(&f.shown);
        let notes = opened.iter().flat_map(note).collect();
        let bytes = Some(opened.iter().map(|f| f.bytes).sum());
        let lacking = united.lacking.clone();
        let about = About { files: files.len(), bytes, notes, lacking, ..About::default() };
        Ok(ArrowSource { files: Arc::new(opened), united: Arc::new(united), about })
    }
}

impl Source for ArrowSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.united.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let shared = ArrowScanState { files: self.files.clone(), united: self.united.clone(), request };
        let next = NextBatch { file: 0, block: 0, stream: None, done: 0 };
        Ok(Box::new(ArrowScan { shared: Arc::new(shared), next: Mutex::new(next), total: self.about.bytes }))
    }
}

struct ArrowScanState {
    files: Arc<Vec<ArrowFile>>,
    united: Arc<MergedSchema>,
    request: Request,
}

/// Where the next batch is.
struct NextBatch {
    file: usize,
    block: usize,
    stream: Option<StreamReader<StreamBytes>>,
    done: u64,
}

struct ArrowScan {
    shared: Arc<ArrowScanState>,
    next: Mutex<NextBatch>,
    total: Option<u64>,
}

impl Scan for ArrowScan {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            let number = next.file;
            let Some(file) = self.shared.files.get(number) else { return Ok(None) };
            let found = match &file.blocks {
                Some((blocks, _)) => {
                    next.block += 1;
                    blocks.get(next.block - 1).map(|block| {
                        next.done += u64::try_from(block.bodyLength()).unwrap_or(0);
                        BatchSource::Block(*block)
                    })
                }
                None => {
                    if next.stream.is_none() {
                        let bytes = stream_of(&file.path, &file.transfer)?;
                        let stream = decoded(|| StreamReader::try_new(bytes, None));
                        next.stream = Some(stream.map_err(|e| broken(&self.shared.shown(number), &e))?);
                    }
                    let stream = next.stream.as_mut();
                    let batch = decoded(|| stream.and_then(Iterator::next).transpose());
                    batch.map_err(|e| broken(&self.shared.shown(number), &e))?.map(BatchSource::Ready)
                }
            };
            match found {
                Some(found) => {
                    let morsel =
                        ArrowMorsel { shared: self.shared.clone(), file: number, found: Some(found) };
                    return Ok(Some(Box::new(morsel)));
                }
                None => (next.file, next.block, next.stream) = (number + 1, 0, None),
            }
        }
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.next.lock().unwrap_or_else(PoisonError::into_inner).done, self.total)
    }
}

impl ArrowScanState {
    fn shown(&self, file: usize) -> String {
        self.files.get(file).map(|f| f.shown.clone()).unwrap_or_default()
    }
}

/// A batch that is still in its file, or one that a stream gave.
enum BatchSource {
    Block(Block),
    Ready(RecordBatch),
}

struct ArrowMorsel {
    shared: Arc<ArrowScanState>,
    file: usize,
    found: Option<BatchSource>,
}

impl Morsel for ArrowMorsel {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let shared = &self.shared;
        let Some(file) = shared.files.get(self.file) else { return Ok(None) };
        let read = match (self.found.take(), &file.blocks) {
            (None, _) | (Some(BatchSource::Block(_)), None) => return Ok(None),
            (Some(BatchSource::Ready(batch)), _) => batch,
            (Some(BatchSource::Block(block)), Some((_, decoder))) => {
                let read = block_of(&file.file, &block)
                    .and_then(|bytes| decoded(|| decoder.read_record_batch(&block, &bytes)));
                match read.map_err(|e| broken(&file.shown, &e))? {
                    Some(batch) => batch,
                    None => return Ok(None),
                }
            }
        };
        let rows = read.num_rows();
        let of = FileRows { file: self.file, shown: &file.shown, columns: &file.columns, rows };
        let columns =
            shared.united.columns_of(&shared.request.columns, &of, |root| Some(read.column(root)))?;
        Decoded::tested(Batch { columns, rows }, test).map(Some)
    }
}
