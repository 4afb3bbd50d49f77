//! Delimited text, by RFC 4180 and as it is found in the wild.
//!
//! Reading goes in three stages. The *cutter*, under a lock, cuts a file into blocks of whole records. The
//! worker that takes a block finds its cells, and decodes the columns that are needed, those of pushed-down
//! conditions first. See `README.md` beside this file.

mod cells;
mod cutter;
mod decode;
mod head;
mod infer;
mod options;
mod source;
pub(crate) mod write;

pub(crate) use options::{BadCells, BadRows, CsvOptions, Encoding, Header};
pub(crate) use source::CsvSource;
