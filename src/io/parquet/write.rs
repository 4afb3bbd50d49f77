//! Parquet, written: row groups of a million rows, their columns encoded by all threads.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Float64Type, Int64Type};
use arrow_array::{Array, ArrayRef};
use arrow_schema::{DataType, Field as ArrowField, Schema};
use hashbrown::HashSet;
use parquet::arrow::ArrowSchemaConverter;
use parquet::arrow::arrow_writer::{ArrowColumnWriter, ArrowRowGroupWriterFactory, compute_leaves};
use parquet::basic::{BrotliLevel, Compression, Encoding, GzipLevel, ZstdLevel};
use parquet::errors::ParquetError;
use parquet::file::metadata::SortingColumn;
use parquet::file::properties::{WriterProperties, WriterPropertiesBuilder};
use parquet::file::writer::SerializedFileWriter;

use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, Field};
use crate::io::binary::{Out, RowWriter, Rows, failed};
use crate::io::format::{Codec, WriteOptions};
use crate::parallel;

/// Rows of a row group.
const GROUP_ROWS: usize = 1 << 20;

/// Rows that are encoded together: enough to keep all threads busy, few enough to hold.
const PART_ROWS: usize = 1 << 17;

pub(crate) struct ParquetWriter {
    rows: Rows,
    options: WriteOptions,
    threads: usize,
    state: State,
}

enum State {
    /// Nothing was written: encodings are chosen by the first rows.
    Ready(Out),
    Writing(Box<Writing>),
}

struct Writing {
    file: SerializedFileWriter<Out>,
    factory: ArrowRowGroupWriterFactory,
    schema: Arc<Schema>,
    columns: Vec<Vec<ArrowColumnWriter>>,
    groups: usize,
    rows: usize,
}

impl ParquetWriter {
    pub(crate) fn new(out: Out, fields: &[Field], options: &WriteOptions, threads: usize) -> ParquetWriter {
        let rows = Rows::new(fields);
        ParquetWriter { rows, options: options.clone(), threads, state: State::Ready(out) }
    }

    fn properties(&self, first: &[ArrayRef]) -> WriterProperties {
        let mut properties = WriterProperties::builder()
            .set_compression(compression(&self.options))
            .set_max_row_group_row_count(Some(GROUP_ROWS))
            .set_write_batch_size(1 << 13);
        let schema = self.rows.schema();
        for (field, column) in schema.fields().iter().zip(first) {
            properties = encoding(properties, field, column);
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
        let Some(columns) = self.rows.take()? else { return Ok(()) };
        if let State::Ready(_) = &self.state {
            self.start(&columns)?;
        }
        let State::Writing(writing) = &mut self.state else { return Ok(()) };
        writing.write(columns, self.threads)
    }

    fn start(&mut self, first: &[ArrayRef]) -> Result<()> {
        let properties = Arc::new(self.properties(first));
        let State::Ready(out) = std::mem::replace(&mut self.state, State::Ready(Out::nowhere())) else {
            return Ok(());
        };
        let schema = self.rows.schema();
        let described = ArrowSchemaConverter::new().convert(&schema).map_err(broken)?;
        let file = SerializedFileWriter::new(out, described.root_schema_ptr(), properties).map_err(broken)?;
        let factory = ArrowRowGroupWriterFactory::new(&file, schema.clone());
        let writing = Writing { file, factory, schema, columns: Vec::new(), groups: 0, rows: 0 };
        self.state = State::Writing(Box::new(writing));
        Ok(())
    }
}

impl RowWriter for ParquetWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        self.rows.push(batch)?;
        if self.rows.waiting() >= PART_ROWS { self.flush() } else { Ok(()) }
    }

    fn finish(mut self: Box<Self>) -> Result<Out> {
        self.flush()?;
        if let State::Ready(_) = &self.state {
            self.start(&[])?;
        }
        let State::Writing(mut writing) = self.state else { return Ok(Out::nowhere()) };
        writing.end_group(self.threads)?;
        writing.file.into_inner().map_err(broken)
    }
}

impl Writing {
    fn write(&mut self, columns: Vec<ArrayRef>, threads: usize) -> Result<()> {
        let rows = columns.first().map_or(0, |c| c.len());
        let mut from = 0;
        while from < rows {
            if self.columns.is_empty() {
                self.start_group()?;
            }
            let some = (rows - from).min(GROUP_ROWS - self.rows);
            let mut work: Vec<_> = self.columns.iter_mut().zip(&columns).zip(self.schema.fields()).collect();
            // What takes longest comes first, so that all threads end about together.
            work.sort_by_key(|((_, column), _)| std::cmp::Reverse(effort(column.data_type())));
            parallel::each(threads, work.into_iter(), |((writers, column), field)| {
                let leaves = compute_leaves(field, &column.slice(from, some)).map_err(broken)?;
                for (writer, leaf) in writers.iter_mut().zip(&leaves) {
                    writer.write(leaf).map_err(broken)?;
                }
                Ok(())
            })?;
            self.rows += some;
            from += some;
            if self.rows == GROUP_ROWS {
                self.end_group(threads)?;
            }
        }
        Ok(())
    }

    fn start_group(&mut self) -> Result<()> {
        let mut writers = self.factory.create_column_writers(self.groups).map_err(broken)?.into_iter();
        for field in self.schema.fields() {
            let leaves = leaves(field.data_type());
            self.columns.push(writers.by_ref().take(leaves).collect());
        }
        self.groups += 1;
        Ok(())
    }

    fn end_group(&mut self, threads: usize) -> Result<()> {
        if self.columns.is_empty() {
            return Ok(());
        }
        let writers: Vec<ArrowColumnWriter> =
            std::mem::take(&mut self.columns).into_iter().flatten().collect();
        let chunks = parallel::each(threads, writers.into_iter(), |writer| writer.close().map_err(broken))?;
        let mut group = self.file.next_row_group().map_err(broken)?;
        for chunk in chunks {
            chunk.append_to_row_group(&mut group).map_err(broken)?;
        }
        group.close().map_err(broken)?;
        self.rows = 0;
        Ok(())
    }
}

/// How long a column takes to encode, beside others.
fn effort(data: &DataType) -> usize {
    match data {
        DataType::List(_) | DataType::LargeList(_) => 3,
        DataType::Utf8View | DataType::BinaryView => 2,
        DataType::Float64 => 1,
        _ => 0,
    }
}

/// How many columns of values a column has.
fn leaves(data: &DataType) -> usize {
    match data {
        DataType::List(item) | DataType::LargeList(item) => leaves(item.data_type()),
        _ => 1,
    }
}

/// No dictionary for a column whose first rows are nearly all different; such whole numbers as differences.
fn encoding(
    properties: WriterPropertiesBuilder,
    field: &ArrowField,
    column: &ArrayRef,
) -> WriterPropertiesBuilder {
    let rows = column.len();
    let many = |different: usize| rows >= 64 && different * 4 > rows * 3;
    let name = || parquet::schema::types::ColumnPath::new(vec![field.name().clone()]);
    match column.data_type() {
        DataType::Int64 if many(different(column.as_primitive::<Int64Type>().values().iter())) => properties
            .set_column_dictionary_enabled(name(), false)
            .set_column_encoding(name(), Encoding::DELTA_BINARY_PACKED),
        DataType::Float64
            if many(different(column.as_primitive::<Float64Type>().values().iter().map(|v| v.to_bits()))) =>
        {
            properties.set_column_dictionary_enabled(name(), false)
        }
        DataType::Utf8View if many(different(column.as_string_view().iter().flatten())) => {
            properties.set_column_dictionary_enabled(name(), false)
        }
        _ => properties,
    }
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
