//! Pages compressed. A compressor is as large as a page: there are no more of them than threads that use one.

use std::sync::{Arc, Mutex, PoisonError};

use parquet::basic::Compression;
use parquet::errors::{ParquetError, Result};
use zstd::bulk::Compressor;

/// What compresses the pages of a file.
#[derive(Clone)]
pub(super) struct Packer {
    compression: Compression,
    /// Those that nobody uses at the moment.
    free: Arc<Mutex<Vec<WithRoom>>>,
}

/// A compressor, and room for a compressed page.
type WithRoom = (Compressor<'static>, Vec<u8>);

impl Packer {
    pub(super) fn new(compression: Compression) -> Packer {
        Packer { compression, free: Arc::default() }
    }

    /// Whether it knows how: the crate's own encoders have more ways.
    pub(super) fn can(&self) -> bool {
        matches!(self.compression, Compression::UNCOMPRESSED | Compression::ZSTD(_))
    }

    pub(super) fn compression(&self) -> Compression {
        self.compression
    }

    pub(super) fn pack(&self, bytes: &[u8]) -> Result<Vec<u8>> {
        let Compression::ZSTD(level) = self.compression else { return Ok(bytes.to_vec()) };
        let failed = |e: std::io::Error| ParquetError::External(Box::new(e));
        let free = || self.free.lock().unwrap_or_else(PoisonError::into_inner);
        let waiting = free().pop();
        let (mut compressor, mut room) = match waiting {
            Some(both) => both,
            None => (Compressor::new(level.compression_level()).map_err(failed)?, Vec::new()),
        };
        room.clear();
        room.reserve(zstd::zstd_safe::compress_bound(bytes.len()));
        // What stays is as large as the page, since many pages wait for the end of their row group.
        let packed = compressor.compress_to_buffer(bytes, &mut room).map(|_| room.clone()).map_err(failed);
        free().push((compressor, room));
        packed
    }
}
