//! Batches of the Arrow that `orc-rust` is built on as batches of ours: written as a stream by the one, read by the other. It
//! costs a copy of each value twice, less than decoding it did.

use std::fmt::Display;
use std::io::Cursor;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_ipc::reader::StreamReader;
use arrow_of_orc::array::RecordBatch as TheirBatch;
use arrow_of_orc::datatypes::Schema as TheirSchema;
use arrow_of_orc::ipc::writer::StreamWriter;
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

fn stream(schema: &TheirSchema, batch: Option<&TheirBatch>) -> Result<StreamReader<Cursor<Vec<u8>>>, String> {
    let mut out = StreamWriter::try_new(Vec::new(), schema).map_err(text)?;
    if let Some(batch) = batch {
        out.write(batch).map_err(text)?;
    }
    let bytes = out.into_inner().map_err(text)?;
    StreamReader::try_new(Cursor::new(bytes), None).map_err(text)
}

fn text(error: impl Display) -> String {
    error.to_string()
}
