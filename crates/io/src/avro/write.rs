//! Avro files, written: blocks of up to 64 Ki rows or 4 MB, packed each by itself.

use std::io::Write;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_avro::schema::AvroSchema;
use arrow_avro::writer::format::AvroBinaryFormat;
use arrow_avro::writer::{Encoder, WriterBuilder};
use arrow_schema::{DataType, Field as ArrowField, Schema};
use churn_core::{Batch, Error, ErrorKind, Field, Result};

use super::container::{self, Packing};
use crate::binary::{Out, RowWriter, failed};
use crate::format::{Codec, WriteOptions};
use crate::waiting_rows::{PartEnd, WaitingPart, WaitingRows, in_one_piece};

pub(crate) struct AvroWriter {
    rows: WaitingRows,
    schema: Arc<Schema>,
    encoder: Encoder,
    mark: [u8; 16],
    packing: Packing,
    level: Option<i32>,
    out: Out,
}

/// Why a name cannot be that of an Avro field, if it cannot.
pub(crate) fn is_name(name: &str) -> bool {
    let is_start = |c: char| c.is_ascii_alphabetic() || c == '_';
    name.starts_with(is_start) && name.chars().all(|c| is_start(c) || c.is_ascii_digit())
}

impl AvroWriter {
    pub(crate) fn new(mut out: Out, fields: &[Field], options: &WriteOptions) -> Result<AvroWriter> {
        let rows = WaitingRows::new(fields, PartEnd::OF_FILES);
        let packing = match options.codec {
            Some(Codec::None) => Packing::None,
            Some(Codec::Snappy) => Packing::Snappy,
            Some(Codec::Zstd) => Packing::Zstd,
            Some(Codec::Bzip2) => Packing::Bzip2,
            Some(Codec::Xz) => Packing::Xz,
            _ => Packing::Deflate,
        };
        // Null alone needs no second null beside it.
        let field = |field: &Arc<ArrowField>| {
            let is_nullable = *field.data_type() != DataType::Null;
            (**field).clone().with_nullable(is_nullable)
        };
        let schema = Arc::new(Schema::new(rows.schema().fields().iter().map(field).collect::<Vec<_>>()));
        let told = AvroSchema::try_from(&*schema).map_err(|e| unwritten(&e))?;
        let encoder = WriterBuilder::new((*schema).clone()).build_encoder::<AvroBinaryFormat>();
        let encoder = encoder.map_err(|e| unwritten(&e))?;
        let mark = container::mark_of(&told.json_string);
        out.write_all(&container::heading(&told.json_string, packing, &mark)).map_err(|e| failed(&e))?;
        Ok(AvroWriter { rows, schema, encoder, mark, packing, level: options.level, out })
    }

    fn encode(&mut self, part: &WaitingPart) -> Result<()> {
        let Some(columns) = in_one_piece(&part.batches)? else { return Ok(()) };
        let batch = RecordBatch::try_new(self.schema.clone(), columns).map_err(|e| unwritten(&e))?;
        self.encoder.encode(&batch).map_err(|e| unwritten(&e))?;
        let records = self.encoder.flush();
        let packed = container::packed(records.bytes(), self.packing, self.level).map_err(|e| failed(&e))?;
        let block = container::block(batch.num_rows() as i64, &packed, &self.mark);
        self.out.write_all(&block).map_err(|e| failed(&e))
    }
}

impl RowWriter for AvroWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        let parts = self.rows.push(batch)?;
        parts.iter().try_for_each(|part| self.encode(part))
    }

    fn finish(mut self: Box<Self>) -> Result<Out> {
        let rest = self.rows.take();
        self.encode(&rest)?;
        self.out.flush().map_err(|e| failed(&e))?;
        Ok(self.out)
    }
}

fn unwritten(error: &dyn std::fmt::Display) -> Error {
    Error::new(ErrorKind::Output, format!("The Avro file cannot be written: {error}."))
}
