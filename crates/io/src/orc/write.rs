//! ORC files, written: stripes of about 8 MB, of columns without nested values. The crate `orc-rust` encodes them; it writes no
//! statistics, so no stripe of them is skipped when they are read.

use std::io::Write;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{Builder, JoinHandle};

use arrow_array::cast::AsArray;
use arrow_array::{ArrayRef, BinaryArray, RecordBatch, StringArray};
use arrow_of_orc::array::RecordBatch as TheirBatch;
use arrow_of_orc::datatypes::Schema as TheirSchema;
use arrow_schema::{DataType, Schema};
use churn_core::{Batch, Error, ErrorKind, Field, Result, Type};
use orc_rust::arrow_writer::ArrowWriterBuilder;
use orc_rust::compression::CompressionType;
use orc_rust::error::OrcError;

use super::bridge;
use crate::binary::{Out, RowWriter, failed};
use crate::format::{Codec, WriteOptions};
use crate::waiting_rows::{PartEnd, WaitingPart, WaitingRows, in_one_piece};

/// Bytes of a stripe, about.
const STRIPE: usize = 8 << 20;

/// Encoders are bound to the thread that made them, so they have one of their own, which takes batches and writes them.
pub(crate) struct OrcWriter {
    rows: WaitingRows,
    schema: Arc<Schema>,
    theirs: Arc<TheirSchema>,
    batches: SyncSender<Sent>,
    /// Until it was waited for.
    encoding: Option<JoinHandle<Result<Out>>>,
}

/// What the encoding thread is sent: without an end nothing is written at the file's end.
enum Sent {
    Batch(TheirBatch),
    End,
}

/// Whether a column of this type can be written.
pub(super) fn is_written(kind: &Type) -> bool {
    use Type::{Binary, Bool, Date, Float, Int, Text, Timestamp};
    matches!(kind, Bool | Int | Float | Text | Date | Timestamp | Binary)
}

impl OrcWriter {
    pub(super) fn new(out: Out, fields: &[Field], options: &WriteOptions) -> Result<OrcWriter> {
        let rows = WaitingRows::new(fields, PartEnd::OF_FILES);
        let field = |field: &Arc<arrow_schema::Field>| {
            let kind = match field.data_type() {
                DataType::Utf8View => DataType::Utf8,
                DataType::BinaryView => DataType::Binary,
                kind => kind.clone(),
            };
            (**field).clone().with_data_type(kind)
        };
        let schema = Arc::new(Schema::new(rows.schema().fields().iter().map(field).collect::<Vec<_>>()));
        let theirs = bridge::their_schema(&schema).map_err(unwritten)?;
        let packing = match options.codec {
            Some(Codec::None) => None,
            Some(Codec::Deflate) => Some(CompressionType::Zlib),
            Some(Codec::Snappy) => Some(CompressionType::Snappy),
            Some(Codec::Lz4) => Some(CompressionType::Lz4),
            _ => Some(CompressionType::Zstd),
        };
        let (batches, sent) = sync_channel(1);
        let own = theirs.clone();
        let encoding = Builder::new().name("orc".into()).spawn(move || encoded(out, own, packing, &sent));
        let encoding = encoding.map_err(|e| failed(&e))?;
        Ok(OrcWriter { rows, schema, theirs, batches, encoding: Some(encoding) })
    }

    fn encode(&mut self, part: &WaitingPart) -> Result<()> {
        let Some(columns) = in_one_piece(&part.batches)? else { return Ok(()) };
        let columns = columns.iter().map(without_views).collect();
        let batch =
            RecordBatch::try_new(self.schema.clone(), columns).map_err(|e| unwritten(e.to_string()))?;
        let batch = bridge::their_batch(&batch, &self.theirs).map_err(unwritten)?;
        self.send(Sent::Batch(batch))
    }

    /// Where the thread takes no more it has failed.
    fn send(&mut self, sent: Sent) -> Result<()> {
        match self.batches.send(sent) {
            Ok(()) => Ok(()),
            Err(_) => self.ended().map(drop),
        }
    }

    /// What the thread ended with.
    fn ended(&mut self) -> Result<Out> {
        let lost = || unwritten("its encoder was lost".to_owned());
        self.encoding.take().ok_or_else(lost)?.join().map_err(|_| lost())?
    }
}

impl RowWriter for OrcWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        let parts = self.rows.push(batch)?;
        parts.iter().try_for_each(|part| self.encode(part))
    }

    fn finish(mut self: Box<Self>) -> Result<Out> {
        let rest = self.rows.take();
        self.encode(&rest)?;
        self.send(Sent::End)?;
        self.ended()
    }
}

/// Encodes batches as they are sent; gives back what was written to.
fn encoded(
    out: Out,
    schema: Arc<TheirSchema>,
    packing: Option<CompressionType>,
    sent: &Receiver<Sent>,
) -> Result<Out> {
    let out = Arc::new(Mutex::new(out));
    let builder = ArrowWriterBuilder::new(Lent(out.clone()), schema).with_stripe_byte_size(STRIPE);
    let builder = packing.into_iter().fold(builder, ArrowWriterBuilder::with_compression);
    let mut writer = builder.try_build().map_err(refused)?;
    loop {
        match sent.recv() {
            Ok(Sent::Batch(batch)) => writer.write(&batch).map_err(refused)?,
            Ok(Sent::End) => break,
            Err(_) => return Err(unwritten("the run was stopped".to_owned())),
        }
    }
    writer.close().map_err(refused)?;
    let out = Arc::into_inner(out).ok_or_else(|| unwritten("it is still being written".to_owned()))?;
    let mut out = out.into_inner().unwrap_or_else(PoisonError::into_inner);
    out.flush().map_err(|e| failed(&e))?;
    Ok(out)
}

/// Texts and bytes in one piece, which the encoder wants.
fn without_views(column: &ArrayRef) -> ArrayRef {
    match column.data_type() {
        DataType::Utf8View => Arc::new(column.as_string_view().iter().collect::<StringArray>()),
        DataType::BinaryView => Arc::new(column.as_binary_view().iter().collect::<BinaryArray>()),
        _ => column.clone(),
    }
}

/// What a file is written to, lent to the encoder, which does not give it back.
struct Lent(Arc<Mutex<Out>>);

impl Write for Lent {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).write(bytes)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).flush()
    }
}

fn refused(error: OrcError) -> Error {
    match error {
        OrcError::IoError { source, .. } => failed(&source),
        error => unwritten(error.to_string()),
    }
}

fn unwritten(why: String) -> Error {
    Error::new(ErrorKind::Output, format!("The ORC file cannot be written: {why}."))
}
