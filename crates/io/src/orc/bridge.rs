//! Batches of the Arrow that `orc-rust` is built on as batches of ours, and the other way round: written as a stream by the one, read
//! by the other. It costs a copy of each value twice, less than to decode or encode it.

use std::fmt::Display;
use std::io::Cursor;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::StreamWriter;
use arrow_of_orc::array::RecordBatch as TheirBatch;
use arrow_of_orc::datatypes::Schema as TheirSchema;
use arrow_of_orc::ipc::reader::StreamReader as TheirStreamReader;
use arrow_of_orc::ipc::writer::StreamWriter as TheirStreamWriter;
use arrow_schema::Schema;

/// A schema of theirs as ours.
///
/// # Errors
/// It has a type that ours lacks.
pub(super) fn schema(theirs: &TheirSchema) -> Result<Arc<Schema>, String> {
    Ok(stream(theirs, None)?.schema())
}

/// A batch of theirs as ours.
///
/// # Errors
/// As [`schema`].
pub(super) fn batch(theirs: &TheirBatch) -> Result<RecordBatch, String> {
    let read = stream(&theirs.schema(), Some(theirs))?.next();
    read.ok_or_else(|| "a batch of it was lost".to_owned())?.map_err(text)
}

/// A schema of ours as theirs.
///
/// # Errors
/// It has a type that theirs lacks.
pub(super) fn their_schema(ours: &Schema) -> Result<Arc<TheirSchema>, String> {
    Ok(their_stream(ours, None)?.schema())
}

/// A batch of ours as theirs, of a schema that was made of its own.
///
/// # Errors
/// As [`their_schema`].
pub(super) fn their_batch(ours: &RecordBatch, schema: &Arc<TheirSchema>) -> Result<TheirBatch, String> {
    let read = their_stream(&ours.schema(), Some(ours))?.next();
    let batch = read.ok_or_else(|| "a batch of it was lost".to_owned())?.map_err(text)?;
    TheirBatch::try_new(schema.clone(), batch.columns().to_vec()).map_err(text)
}

fn their_stream(
    schema: &Schema,
    batch: Option<&RecordBatch>,
) -> Result<TheirStreamReader<Cursor<Vec<u8>>>, String> {
    let mut out = StreamWriter::try_new(Vec::new(), schema).map_err(text)?;
    if let Some(batch) = batch {
        out.write(batch).map_err(text)?;
    }
    let bytes = out.into_inner().map_err(text)?;
    TheirStreamReader::try_new(Cursor::new(bytes), None).map_err(text)
}

fn stream(schema: &TheirSchema, batch: Option<&TheirBatch>) -> Result<StreamReader<Cursor<Vec<u8>>>, String> {
    let mut out = TheirStreamWriter::try_new(Vec::new(), schema).map_err(text)?;
    if let Some(batch) = batch {
        out.write(batch).map_err(text)?;
    }
    let bytes = out.into_inner().map_err(text)?;
    StreamReader::try_new(Cursor::new(bytes), None).map_err(text)
}

fn text(error: impl Display) -> String {
    error.to_string()
}
