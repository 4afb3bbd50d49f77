//! Arrow files, written: batches of up to 64 Ki rows or 4 MB, which readers take as they stand.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_ipc::CompressionType;
use arrow_ipc::writer::{FileWriter, IpcWriteOptions};
use arrow_schema::ArrowError;
use churn_core::{Batch, Error, ErrorKind, Field, Result};

use crate::binary::{Out, RowWriter, failed};
use crate::format::{Codec, WriteOptions};
use crate::waiting_rows::{PartEnd, WaitingPart, WaitingRows, in_one_piece};

pub(crate) struct ArrowWriter {
    rows: WaitingRows,
    file: FileWriter<Out>,
}

impl ArrowWriter {
    pub(crate) fn new(out: Out, fields: &[Field], options: &WriteOptions) -> Result<ArrowWriter> {
        let rows = WaitingRows::new(fields, PartEnd::OF_FILES);
        let codec = match options.codec {
            None | Some(Codec::None) => None,
            Some(Codec::Lz4) => Some(CompressionType::LZ4_FRAME),
            Some(_) => Some(CompressionType::ZSTD),
        };
        let options = IpcWriteOptions::default().try_with_compression(codec).map_err(broken)?;
        let file = FileWriter::try_new_with_options(out, &rows.schema(), options).map_err(broken)?;
        Ok(ArrowWriter { rows, file })
    }

    fn encode(&mut self, part: &WaitingPart) -> Result<()> {
        let Some(columns) = in_one_piece(&part.batches)? else { return Ok(()) };
        // A file holds all that its views point into.
        let columns = columns.into_iter().map(churn_core::widen::alone).collect();
        let batch = RecordBatch::try_new(self.rows.schema(), columns).map_err(broken)?;
        self.file.write(&batch).map_err(broken)
    }
}

impl RowWriter for ArrowWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        let parts = self.rows.push(batch)?;
        parts.iter().try_for_each(|part| self.encode(part))
    }

    fn finish(mut self: Box<Self>) -> Result<Out> {
        let rest = self.rows.take();
        self.encode(&rest)?;
        self.file.finish().map_err(broken)?;
        let mut out = self.file.into_inner().map_err(broken)?;
        out.flush().map_err(|e| failed(&e))?;
        Ok(out)
    }
}

fn broken(error: ArrowError) -> Error {
    match error {
        ArrowError::IoError(_, error) => failed(&error),
        other => Error::new(ErrorKind::Output, format!("The Arrow file cannot be written: {other}.")),
    }
}
