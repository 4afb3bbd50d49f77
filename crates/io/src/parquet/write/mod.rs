//! Parquet, written: row groups of a million rows, their columns encoded side by side (`column_scheduler`).

mod checksum;
mod chunk;
mod column_scheduler;
mod hybrid;
mod packer;
mod values;

use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::cast::AsArray;
use arrow_array::types::{Float64Type, Int64Type};
use arrow_schema::{DataType, FieldRef, Schema};
use bytes::Bytes;
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

use crate::binary::{Out, RowWriter, WaitingRows, WriterResources, failed};
use crate::format::{Codec, WriteOptions};
use checksum::{Encoder, PagesOfGroup};
use chunk::{ChunkBounds, ColumnChunk};
use column_scheduler::ColumnScheduler;
use packer::Packer;

/// Rows of a row group.
const GROUP_ROWS: usize = 1 << 20;

/// Rows that are encoded together: enough to keep all threads busy, few enough to hold.
const PART_ROWS: usize = 1 << 16;

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
    factory: ArrowRowGroupWriterFactory,
    /// Where the factory's encoders leave their pages.
    pages: Arc<PagesOfGroup>,
    schema: Arc<Schema>,
    packer: Packer,
    /// Columns whose values repeat.
    repeating: Vec<bool>,
    scheduler: ColumnScheduler,
    groups: usize,
    /// Rows of the row group, and bytes that they took.
    rows: usize,
    bytes: usize,
}

/// What encodes a column of the row group.
enum ColumnEncoder {
    Own(Box<ColumnChunk>),
    Crate(Vec<Encoder>),
}

/// A column of the row group, encoded: its bytes, and what the footer tells of them; of a list, one for each leaf.
type Done = Vec<(Bytes, ColumnCloseResult)>;

impl ParquetWriter {
    pub(crate) fn new(
        out: Out,
        fields: &[Field],
        options: &WriteOptions,
        resources: &WriterResources,
    ) -> ParquetWriter {
        let rows = WaitingRows::new(fields);
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

    /// Encodes the rows that wait.
    fn flush(&mut self) -> Result<()> {
        let batches = self.rows.take();
        if batches.is_empty() {
            return Ok(());
        }
        if let WriterState::Ready(_) = &self.state {
            self.start(&batches)?;
        }
        let WriterState::Writing(writing) = &mut self.state else { return Ok(()) };
        writing.write(&batches)
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
        let file = SerializedFileWriter::new(out, described.root_schema_ptr(), properties).map_err(broken)?;
        let pages = Arc::new(PagesOfGroup::default());
        let factory = ArrowRowGroupWriterFactory::new(&file, schema.clone());
        let factory = factory.with_page_store_factory(pages.clone());
        let packer = Packer::new(compression(&self.options));
        let scheduler = ColumnScheduler::new(schema.fields(), &self.resources.helpers);
        let writing = Writing {
            file,
            factory,
            pages,
            schema,
            packer,
            repeating,
            scheduler,
            groups: 0,
            rows: 0,
            bytes: 0,
        };
        self.state = WriterState::Writing(Box::new(writing));
        Ok(())
    }
}

impl RowWriter for ParquetWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        self.rows.push(batch)?;
        if !self.rows.are_many(PART_ROWS, self.resources.part()) {
            return Ok(());
        }
        self.flush()?;
        match &mut self.state {
            WriterState::Writing(writing) if writing.bytes >= self.resources.bytes => {
                writing.end_group();
                writing.write_ended()
            }
            _ => Ok(()),
        }
    }

    fn settle(&mut self) -> Result<()> {
        self.flush()?;
        if let WriterState::Writing(writing) = &mut self.state { writing.settle() } else { Ok(()) }
    }

    fn finish(mut self: Box<Self>) -> Result<Out> {
        self.flush()?;
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
    fn write(&mut self, batches: &[Batch]) -> Result<()> {
        let mut batches = batches.iter().cloned().peekable();
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
            self.bytes += some.iter().map(Batch::memory).sum::<usize>();
            self.scheduler.push(&some)?;
            if self.rows == GROUP_ROWS {
                self.end_group();
            }
            self.write_ended()?;
        }
        Ok(())
    }

    fn start_group(&mut self) -> Result<()> {
        let mut leaf = 0;
        let mut own = Vec::with_capacity(self.repeating.len());
        for (field, repeating) in self.schema.fields().iter().zip(&self.repeating) {
            // Whole numbers that do not repeat are written as differences.
            let is_own = *repeating || *field.data_type() != DataType::Int64;
            let column = || self.file.schema_descr().column(leaf);
            let bounds = ChunkBounds::of_columns(self.repeating.len());
            let chunk = is_own
                .then(|| ColumnChunk::new(column(), field.data_type(), &self.packer, *repeating, bounds));
            own.push(chunk.flatten());
            leaf += leaves(field.data_type());
        }
        let mut encoders = Vec::new();
        if own.iter().any(Option::is_none) {
            // Encoders are made for all columns or for none.
            let writers = self.factory.create_column_writers(self.groups).map_err(broken)?;
            let places = self.pages.take();
            encoders.extend(writers.into_iter().zip(places).map(|(writer, pages)| Encoder { writer, pages }));
        }
        let mut encoders = encoders.into_iter();
        let columns = own.into_iter().zip(self.schema.fields()).map(|(chunk, field)| {
            let encoders = encoders.by_ref().take(leaves(field.data_type())).collect();
            chunk.map_or(ColumnEncoder::Crate(encoders), |chunk| ColumnEncoder::Own(Box::new(chunk)))
        });
        let columns = columns.collect();
        self.scheduler.begin(columns);
        self.groups += 1;
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
            for (bytes, told) in columns.into_iter().flatten() {
                group.append_column(&bytes, told).map_err(broken)?;
            }
            group.close().map_err(broken)?;
        }
        Ok(())
    }
}

impl ColumnEncoder {
    fn push(&mut self, field: &FieldRef, array: &ArrayRef) -> Result<()> {
        match self {
            ColumnEncoder::Own(chunk) => chunk.push(array).map_err(broken),
            ColumnEncoder::Crate(encoders) => {
                let leaves = compute_leaves(field, array).map_err(broken)?;
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
    rows < 64 || different * 4 <= rows * 3
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
        Codec::Gzip => {
            Compression::GZIP(GzipLevel::try_new(within(0, 9, 6).unsigned_abs()).unwrap_or_default())
        }
        Codec::Brotli => {
            Compression::BROTLI(BrotliLevel::try_new(within(0, 11, 1).unsigned_abs()).unwrap_or_default())
        }
        Codec::Zstd => Compression::ZSTD(ZstdLevel::try_new(within(1, 22, 1)).unwrap_or_default()),
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
