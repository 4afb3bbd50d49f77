//! One file: its footer, its stripes, and decoding some columns of one.

use std::io::{BufReader, Read};
use std::path::Path;
use std::sync::Arc;

use arrow_array::RecordBatch;
use bytes::Bytes;
use churn_core::parallel::caught;
use churn_core::{Error, Result};
use orc_rust::array_decoder::NaiveStripeDecoder;
use orc_rust::projection::ProjectionMask;
use orc_rust::reader::ChunkReader;
use orc_rust::reader::metadata::{FileMetadata, read_metadata};
use orc_rust::schema::{ArrowSchemaOptions, TimestampPrecision};
use orc_rust::stripe::Stripe;

use super::{OrcFormat, bridge};
use crate::format::{self, Opening};
use crate::merge_schemas::{self, Flat};
use crate::open_files::{OpenFiles, PositionedFile};

/// Rows that are decoded together.
const BATCH: usize = 1 << 13;

/// A file as the crate's reader takes it.
#[derive(Clone, Debug)]
struct Chunks(PositionedFile);

/// A reader that starts at a place of a file.
struct From(PositionedFile, u64);

impl Read for From {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let read = self.0.read_at(into, self.1)?;
        self.1 += read as u64;
        Ok(read)
    }
}

impl ChunkReader for Chunks {
    type T = BufReader<From>;

    fn len(&self) -> u64 {
        self.0.size()
    }

    fn get_read(&self, start: u64) -> std::io::Result<BufReader<From>> {
        Ok(BufReader::new(From(self.0.clone(), start)))
    }

    /// Bytes that a footer says are there are not made room for before it is known that the file has them.
    fn get_bytes(&self, start: u64, length: u64) -> std::io::Result<Bytes> {
        let outside = || std::io::Error::other("a part of it lies outside the file");
        let end = start.checked_add(length).filter(|end| *end <= self.0.size()).ok_or_else(outside)?;
        let range = std::iter::once(start..end).collect();
        self.0.read_ranges(range)?.pop().ok_or_else(outside)
    }
}

/// A file with its footer.
#[derive(Debug)]
pub(super) struct OrcFile {
    pub(super) shown: String,
    reader: Chunks,
    pub(super) metadata: Arc<FileMetadata>,
    pub(super) columns: Vec<Flat>,
    /// What should be told of its columns.
    pub(super) notes: Vec<String>,
}

/// Columns of a stripe, batch by batch.
pub(super) struct StripeBatches {
    decoder: NaiveStripeDecoder,
    /// Rows that are still to come, as the footer tells.
    left: u64,
}

impl OrcFile {
    /// Reads the footer of a file.
    ///
    /// # Errors
    /// It cannot be read, or is no ORC file.
    pub(super) fn open(
        path: &Path,
        shown: &str,
        files: &Arc<OpenFiles>,
        opening: &Opening,
    ) -> Result<OrcFile> {
        let reader = Chunks(PositionedFile::open(path, files, &opening.remote)?);
        let read = || {
            let metadata = read_metadata(&mut reader.clone()).map_err(|e| e.to_string())?;
            let schema = bridge::schema(&arrow_schema_of(&metadata, &ProjectionMask::all()))?;
            Ok::<_, String>((metadata, schema))
        };
        let read = caught(read).unwrap_or_else(|_| Err("its parts do not go together".to_owned()));
        let (metadata, schema) = read.map_err(|why| broken(shown, &why))?;
        let flattened = merge_schemas::flat(schema.fields());
        let notes = flattened.notes(shown);
        let file = OrcFile {
            shown: shown.to_owned(),
            reader,
            metadata: Arc::new(metadata),
            columns: flattened.columns,
            notes,
        };
        file.check()?;
        Ok(file)
    }

    /// Holds what the footer tells of the stripes to itself and to the length of the file.
    fn check(&self) -> Result<()> {
        let stripes = self.metadata.stripe_metadatas();
        let mut rows = 0u64;
        for (number, stripe) in stripes.iter().enumerate() {
            rows = rows.saturating_add(stripe.number_of_rows());
            let parts = [stripe.index_length(), stripe.data_length(), stripe.footer_length()];
            let end = parts.into_iter().try_fold(stripe.offset(), u64::checked_add);
            if end.is_none_or(|end| end > self.bytes()) {
                return Err(broken(&self.shown, &format!("its stripe {number} lies outside the file")));
            }
        }
        if rows != self.rows() {
            let why = format!("it has {} rows, and its stripes {rows}", self.rows());
            return Err(broken(&self.shown, &why));
        }
        Ok(())
    }

    /// Rows.
    pub(super) fn rows(&self) -> u64 {
        self.metadata.number_of_rows()
    }

    /// Bytes.
    pub(super) fn bytes(&self) -> u64 {
        self.reader.len()
    }

    /// Starts decoding a stripe: the columns of these places at its root.
    ///
    /// # Errors
    /// It cannot be read, or is damaged.
    pub(super) fn stripe(&self, number: usize, roots: &[usize]) -> Result<StripeBatches> {
        let told = |why: String| broken(&self.shown, &why);
        let stripe =
            self.metadata.stripe_metadatas().get(number).ok_or_else(|| told("it lost a stripe".into()))?;
        let columns = self.metadata.root_data_type().children();
        let names: Vec<&str> = roots.iter().filter_map(|root| columns.get(*root)).map(|c| c.name()).collect();
        let open = || {
            let root = self.metadata.root_data_type();
            let mask = ProjectionMask::named_roots(root, &names);
            let schema = arrow_schema_of(&self.metadata, &mask);
            let mut reader = self.reader.clone();
            let read = Stripe::new(&mut reader, &self.metadata, &root.project(&mask), stripe);
            read.and_then(|read| NaiveStripeDecoder::new(read, Arc::new(schema), BATCH))
                .map_err(|e| e.to_string())
        };
        let decoder = caught(open).unwrap_or_else(|_| Err("its parts do not go together".to_owned()));
        Ok(StripeBatches { decoder: decoder.map_err(told)?, left: stripe.number_of_rows() })
    }

    /// The next batch of a stripe; `None` at its end.
    ///
    /// # Errors
    /// As [`OrcFile::stripe`]; it has more or fewer rows than the footer tells.
    pub(super) fn next_of(&self, batches: &mut StripeBatches) -> Result<Option<RecordBatch>> {
        let next = || match batches.decoder.next() {
            Some(Ok(theirs)) => bridge::batch(&theirs).map(Some),
            Some(Err(error)) => Err(error.to_string()),
            None => Ok(None),
        };
        let next = caught(next).unwrap_or_else(|_| Err("its parts do not go together".to_owned()));
        let read = next.map_err(|why| broken(&self.shown, &why))?;
        let rows = read.as_ref().map_or(0, |batch| batch.num_rows() as u64);
        let is_end = read.is_none();
        match batches.left.checked_sub(rows) {
            Some(left) if !is_end || left == 0 => batches.left = left,
            _ => return Err(broken(&self.shown, "a stripe of it has other rows than its footer tells")),
        }
        Ok(read)
    }
}

/// The Arrow schema of some columns; times in microseconds, as the language has them.
fn arrow_schema_of(metadata: &FileMetadata, mask: &ProjectionMask) -> arrow_of_orc::datatypes::Schema {
    let options = ArrowSchemaOptions::new().with_timestamp_precision(TimestampPrecision::Microsecond);
    let root = metadata.root_data_type().project(mask);
    root.create_arrow_schema_with_options(&Default::default(), options)
}

/// The error of a file that cannot be understood.
pub(super) fn broken(shown: &str, why: &str) -> Error {
    format::damaged(&OrcFormat, shown, why)
}
