//! Parquet, written: row groups of a million rows, their columns encoded side by side (`column_scheduler`).

mod checksum;
mod chunk;
mod column_scheduler;
mod hybrid;
mod packer;
mod spool;
mod values;

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Float64Type, Int64Type};
use arrow_array::{Array, ArrayRef};
use arrow_schema::{DataType, FieldRef, Schema};
use churn_core::{Batch, Error, ErrorKind, Field, Result};
use hashbrown::HashSet;
use parquet::arrow::ArrowSchemaConverter;
use parquet::arrow::arrow_writer::{ArrowRowGroupWriterFactory, compute_leaves};
use parquet::basic::{BrotliLevel, Compression, Encoding, GzipLevel, ZstdLevel};
use parquet::column::writer::ColumnCloseResult;
use parquet::errors::ParquetError;
use parquet::file::metadata::SortingColumn;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;

use crate::binary::{Out, RowWriter, WriterResources, failed};
use crate::format::{Codec, WriteOptions};
use crate::waiting_rows::{PartEnd, WaitingPart, WaitingRows, bytes_of};
use checksum::{Encoder, PagesOfGroup};
use chunk::{ChunkBounds, ColumnChunk};
use column_scheduler::ColumnScheduler;
use packer::Packer;
use spool::{EncodedColumn, Spool};

/// Rows of a row group.
const GROUP_ROWS: usize = 1 << 20;

/// Values of a column that is thought to repeat: as many as a dictionary of numbers holds.
const MOST_VALUES: usize = 1 << 17;

/// Bytes of values of a row group, if its rows are fewer.
const GROUP_BYTES: usize = 256 << 20;

pub(crate) struct ParquetWriter {
    rows: WaitingRows,
    options: WriteOptions,
    resources: WriterResources,
    state: WriterState,
}

enum WriterState {
    /// Nothing was written: encodings are chosen by the first rows.
    Ready(Out),
    Writing(Box<Writing>),
}

struct Writing {
    file: SerializedFileWriter<Out>,
    /// By columns, what makes the crate's encoders of those that it encodes.
    factories: Vec<Option<EncoderFactory>>,
    schema: Arc<Schema>,
    packer: Packer,
    /// Columns whose values repeat.
    repeating: Vec<bool>,
    scheduler: ColumnScheduler,
    /// Rows of the row group, and bytes that they took.
    rows: usize,
    bytes: usize,
    spool: Spool,
}

/// Makes the crate's encoders of one column: they could be made for all columns of a file at once, but each has a
/// compressor and a decompressor.
struct EncoderFactory {
    writers: ArrowRowGroupWriterFactory,
    pages: Arc<PagesOfGroup>,
}

/// What encodes a column of the row group.
enum ColumnEncoder {
    Own(Box<ColumnChunk>),
    Crate(Vec<Encoder>),
}

/// A column of the row group, encoded: its pages, and what the footer tells of them; of a list, one for each leaf.
type Done = Vec<(EncodedColumn, ColumnCloseResult)>;

impl ParquetWriter {
    pub(crate) fn new(
        out: Out,
        fields: &[Field],
        options: &WriteOptions,
        resources: &WriterResources,
    ) -> ParquetWriter {
        let rows = WaitingRows::new(fields, PartEnd::OF_FILES);
        ParquetWriter {
            rows,
            options: options.clone(),
            resources: resources.clone(),
            state: WriterState::Ready(out),
        }
    }

    fn properties(&self, repeating: &[bool]) -> WriterProperties {
        let mut properties = WriterProperties::builder()
            .set_compression(compression(&self.options))
            .set_max_row_group_row_count(Some(GROUP_ROWS))
            .set_write_batch_size(1 << 13);
        let schema = self.rows.schema();
        for (field, _) in schema.fields().iter().zip(repeating).filter(|(_, repeating)| !**repeating) {
            let name = || parquet::schema::types::ColumnPath::new(vec![field.name().clone()]);
            properties = properties.set_column_dictionary_enabled(name(), false);
            if *field.data_type() == DataType::Int64 {
                properties = properties.set_column_encoding(name(), Encoding::DELTA_BINARY_PACKED);
            }
        }
        let place = |name: &String| schema.fields().iter().position(|f| f.name() == name);
        let sorted: Vec<SortingColumn> = self
            .options
            .sorted_by
            .iter()
            .map_while(|(name, descending, nulls_first)| {
                let column_idx = i32::try_from(place(name)?).ok()?;
                Some(SortingColumn { column_idx, descending: *descending, nulls_first: *nulls_first })
            })
            .collect();
        properties.set_sorting_columns((!sorted.is_empty()).then_some(sorted)).build()
    }

    /// Encodes a part of the rows.
    fn encode(&mut self, part: WaitingPart) -> Result<()> {
        if let WriterState::Ready(_) = &self.state {
            self.start(&part.batches)?;
        }
        let WriterState::Writing(writing) = &mut self.state else { return Ok(()) };
        writing.write(part)
    }

    fn start(&mut self, first: &[Batch]) -> Result<()> {
        let schema = self.rows.schema();
        let repeating: Vec<bool> = (0..schema.fields().len()).map(|i| is_repeating(i, first)).collect();
        let properties = Arc::new(self.properties(&repeating));
        let WriterState::Ready(out) = std::mem::replace(&mut self.state, WriterState::Ready(Out::nowhere()))
        else {
            return Ok(());
        };
        let described = ArrowSchemaConverter::new().convert(&schema).map_err(broken)?;
        let root = described.root_schema_ptr();
        let file = SerializedFileWriter::new(out, root, properties.clone()).map_err(broken)?;
        let spool = Spool::new(&self.resources);
        let packer = Packer::new(compression(&self.options));
        let factory = |(field, repeating): (&FieldRef, &bool)| {
            // Whole numbers that do not repeat are written as differences.
            let is_own = *repeating || *field.data_type() != DataType::Int64;
            let is_own = is_own && packer.can() && values::of(field.data_type()).is_some();
            (!is_own).then(|| EncoderFactory::new(field, &properties, &spool)).transpose()
        };
        let factories = schema.fields().iter().zip(&repeating).map(factory).collect::<Result<_>>()?;
        let scheduler = ColumnScheduler::new(schema.fields(), &self.resources);
        let writing =
            Writing { file, factories, schema, packer, repeating, scheduler, rows: 0, bytes: 0, spool };
        self.state = WriterState::Writing(Box::new(writing));
        Ok(())
    }
}

impl RowWriter for ParquetWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        let parts = self.rows.push(batch)?;
        parts.into_iter().try_for_each(|part| self.encode(part))
    }

    fn finish(mut self: Box<Self>) -> Result<Out> {
        let rest = self.rows.take();
        if !rest.batches.is_empty() {
            self.encode(rest)?;
        }
        if let WriterState::Ready(_) = &self.state {
            self.start(&[])?;
        }
        let WriterState::Writing(mut writing) = self.state else { return Ok(Out::nowhere()) };
        writing.settle()?;
        // Ended and flushed first: giving the file back would hide why its last bytes could not be written.
        writing.file.finish().and_then(|_| Ok(writing.file.flush()?)).map_err(broken)?;
        Ok(std::mem::replace(writing.file.inner_mut(), Out::nowhere()))
    }
}

impl Writing {
    fn write(&mut self, part: WaitingPart) -> Result<()> {
        let mut batches = part.batches.into_iter().peekable();
        let mut bytes = part.bytes;
        while batches.peek().is_some() {
            if self.rows == 0 {
                self.start_group()?;
            }
            let mut some = Vec::new();
            while let Some(batch) = batches.peek_mut().filter(|_| self.rows < GROUP_ROWS) {
                let room = GROUP_ROWS - self.rows;
                if batch.rows <= room {
                    self.rows += batch.rows;
                    some.extend(batches.next());
                } else {
                    self.rows += room;
                    some.push(batch.slice(0, room));
                    *batch = batch.slice(room, batch.rows - room);
                }
            }
            self.scheduler.push(&some)?;
            if self.rows == GROUP_ROWS {
                self.end_group();
                bytes = batches.clone().map(|batch| bytes_of(&batch)).sum();
            }
            self.write_ended()?;
        }
        self.bytes += bytes;
        if self.bytes >= GROUP_BYTES {
            self.end_group();
            self.write_ended()?;
        }
        Ok(())
    }

    fn start_group(&mut self) -> Result<()> {
        let mut leaf = 0;
        let mut columns = Vec::with_capacity(self.repeating.len());
        let bounds = ChunkBounds::of_columns(self.repeating.len());
        let kinds = self.schema.fields().iter().zip(&self.repeating);
        for ((field, repeating), factory) in kinds.zip(&self.factories) {
            columns.push(match factory {
                Some(factory) => ColumnEncoder::Crate(factory.encoders()?),
                None => {
                    let column = self.file.schema_descr().column(leaf);
                    let (data, bounds) = (field.data_type(), (bounds, &self.spool));
                    let chunk = ColumnChunk::new(column, data, &self.packer, *repeating, bounds);
                    ColumnEncoder::Own(Box::new(chunk.ok_or_else(|| internal("a column has no encoder"))?))
                }
            });
            leaf += leaves(field.data_type());
        }
        self.scheduler.begin(columns);
        Ok(())
    }

    fn end_group(&mut self) {
        if self.rows > 0 {
            self.scheduler.end();
            (self.rows, self.bytes) = (0, 0);
        }
    }

    /// Writes all rows that came, with them as the last ones of a row group.
    fn settle(&mut self) -> Result<()> {
        self.end_group();
        self.scheduler.settle(0)?;
        self.write_ended()
    }

    /// Writes the row groups that have ended.
    fn write_ended(&mut self) -> Result<()> {
        while let Some(columns) = self.scheduler.ended() {
            let mut group = self.file.next_row_group().map_err(broken)?;
            for (column, told) in columns.into_iter().flatten() {
                group.append_column(&column, told).map_err(broken)?;
            }
            group.close().map_err(broken)?;
        }
        Ok(())
    }
}

impl EncoderFactory {
    fn new(field: &FieldRef, properties: &Arc<WriterProperties>, spool: &Spool) -> Result<EncoderFactory> {
        let schema = Arc::new(Schema::new(vec![field.clone()]));
        let described = ArrowSchemaConverter::new().convert(&schema).map_err(broken)?;
        let (root, properties) = (described.root_schema_ptr(), properties.clone());
        let file = SerializedFileWriter::new(std::io::sink(), root, properties).map_err(broken)?;
        let pages = Arc::new(PagesOfGroup::new(spool.clone()));
        let writers = ArrowRowGroupWriterFactory::new(&file, schema);
        Ok(EncoderFactory { writers: writers.with_page_store_factory(pages.clone()), pages })
    }

    /// An encoder for each leaf of the column.
    fn encoders(&self) -> Result<Vec<Encoder>> {
        let writers = self.writers.create_column_writers(0).map_err(broken)?;
        let pages = self.pages.take();
        Ok(writers.into_iter().zip(pages).map(|(writer, pages)| Encoder { writer, pages }).collect())
    }
}

impl ColumnEncoder {
    /// Appends the values of a part of the rows.
    fn push(&mut self, field: &FieldRef, arrays: &[ArrayRef]) -> Result<()> {
        match self {
            ColumnEncoder::Own(chunk) => chunk.push(arrays).map_err(broken),
            ColumnEncoder::Crate(encoders) => {
                // In one piece: its pages end where arrays do.
                let arrays: Vec<&dyn Array> = arrays.iter().map(AsRef::as_ref).collect();
                let array = arrow_select::concat::concat(&arrays).map_err(churn_core::arrow_error)?;
                let leaves = compute_leaves(field, &array).map_err(broken)?;
                let mut pairs = encoders.iter_mut().zip(&leaves);
                pairs.try_for_each(|(encoder, leaf)| encoder.writer.write(leaf).map_err(broken))
            }
        }
    }

    fn finish(self) -> Result<Done> {
        match self {
            ColumnEncoder::Own(chunk) => Ok(vec![chunk.finish().map_err(broken)?]),
            ColumnEncoder::Crate(encoders) => {
                encoders.into_iter().map(|encoder| encoder.finish().map_err(broken)).collect()
            }
        }
    }
}

/// How many columns of values a column has.
fn leaves(data: &DataType) -> usize {
    match data {
        DataType::List(item) | DataType::LargeList(item) => leaves(item.data_type()),
        _ => 1,
    }
}

/// Whether values of a column repeat, as far as its first rows tell.
fn is_repeating(column: usize, first: &[Batch]) -> bool {
    let parts: Vec<&ArrayRef> = first.iter().filter_map(|batch| batch.columns.get(column)).collect();
    let rows: usize = parts.iter().map(|part| part.len()).sum();
    let different = match parts.first().map(|part| part.data_type()) {
        Some(DataType::Int64) => {
            different(parts.iter().flat_map(|part| part.as_primitive::<Int64Type>().values()))
        }
        Some(DataType::Float64) => {
            let values = parts.iter().flat_map(|part| part.as_primitive::<Float64Type>().values());
            different(values.map(|value| value.to_bits()))
        }
        Some(DataType::Utf8View) => {
            different(parts.iter().flat_map(|part| part.as_string_view().iter().flatten()))
        }
        _ => 0,
    };
    // Of d values, each as frequent as the others, about n² / 2d of n rows have the value of a row before them.
    rows < 64 || different * 4 <= rows * 3 || rows * rows / 2 <= (rows - different) * MOST_VALUES
}

fn different<T: Eq + std::hash::Hash>(values: impl Iterator<Item = T>) -> usize {
    values.collect::<HashSet<_>>().len()
}

fn compression(options: &WriteOptions) -> Compression {
    let level = options.level;
    let within = |least: i32, most: i32, usual: i32| level.unwrap_or(usual).clamp(least, most);
    match options.codec.unwrap_or(Codec::Zstd) {
        Codec::None => Compression::UNCOMPRESSED,
        Codec::Snappy => Compression::SNAPPY,
        Codec::Lz4 => Compression::LZ4_RAW,
        Codec::Gzip | Codec::Deflate => {
            Compression::GZIP(GzipLevel::try_new(within(0, 9, 6).unsigned_abs()).unwrap_or_default())
        }
        Codec::Brotli => {
            Compression::BROTLI(BrotliLevel::try_new(within(0, 11, 1).unsigned_abs()).unwrap_or_default())
        }
        // The last two are refused before: Parquet has no such codec.
        Codec::Zstd | Codec::Bzip2 | Codec::Xz => {
            Compression::ZSTD(ZstdLevel::try_new(within(1, 22, 1)).unwrap_or_default())
        }
    }
}

fn broken(error: ParquetError) -> Error {
    match error {
        ParquetError::External(inner) => match inner.downcast::<std::io::Error>() {
            Ok(error) => failed(&error),
            Err(other) => internal(&other.to_string()),
        },
        other => internal(&other.to_string()),
    }
}

fn internal(why: &str) -> Error {
    Error::new(
        ErrorKind::Output,
        format!("The Parquet file cannot be written: {}.", why.trim_end_matches('.')),
    )
}
