//! Damaged Arrow data: places of columns that are outside their batch are found before the batch is decoded, as the
//! decoder takes them for granted.

use arrow_buffer::Buffer;
use arrow_ipc::{Block, root_as_message};
use arrow_schema::ArrowError;
use churn_core::parallel::caught;

fn damaged(why: &str) -> ArrowError {
    ArrowError::ParseError(why.into())
}

/// What stands before the metadata of a block: a mark, in files of today, and the length of what follows.
const MARK: [u8; 4] = [0xff; 4];

/// Holds the places of all columns of a block, a batch or a dictionary, to the bytes that it has.
///
/// # Errors
/// The metadata cannot be read, or a column lies outside.
pub(super) fn check_places(block: &Block, bytes: &Buffer) -> Result<(), ArrowError> {
    let length = usize::try_from(block.metaDataLength()).map_err(|_| damaged("a batch has no length"))?;
    let metadata = bytes.get(..length).ok_or_else(|| damaged("it is cut short"))?;
    let start = if metadata.starts_with(&MARK) { 8 } else { 4 };
    let message = metadata.get(start..).ok_or_else(|| damaged("it is cut short"))?;
    let message = root_as_message(message).map_err(|e| damaged(&e.to_string()))?;
    let of_dictionary = message.header_as_dictionary_batch().and_then(|dictionary| dictionary.data());
    let Some(batch) = message.header_as_record_batch().or(of_dictionary) else { return Ok(()) };
    let room = i64::try_from(bytes.len() - length).unwrap_or(i64::MAX);
    for buffer in batch.buffers().iter().flatten() {
        let end = buffer.offset().checked_add(buffer.length());
        if buffer.offset() < 0 || buffer.length() < 0 || end.is_none_or(|end| end > room) {
            return Err(damaged("a column lies outside its batch"));
        }
    }
    for node in batch.nodes().iter().flatten() {
        if node.length() < 0 || node.null_count() < 0 || node.null_count() > node.length() {
            return Err(damaged("a column has no length"));
        }
    }
    Ok(())
}

/// Runs a decoder, which may panic on what is damaged in other ways.
///
/// # Errors
/// The decoder's own; it panicked.
pub(super) fn decoded<T>(decode: impl FnOnce() -> Result<T, ArrowError>) -> Result<T, ArrowError> {
    caught(decode).unwrap_or_else(|_| Err(damaged("its parts do not go together")))
}
