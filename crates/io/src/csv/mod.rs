//! Delimited text, by RFC 4180 and as it is found in the wild.
//!
//! Reading goes in three stages. The *cutter* hands out ranges of files that any place can be read of, and blocks
//! of whole records of streams. The worker that takes one reads it block by block, finds where the needed cells
//! of each row stand, and decodes the columns, those of pushed-down conditions first.

mod at;
mod block;
mod cells;
mod cutter;
mod decode;
pub mod encoded;
mod format;
mod head;
mod infer;
mod opened;
mod options;
mod pad;
mod passthrough;
mod ranges;
mod scan;
mod source;
pub(crate) mod write;

pub(crate) use format::{Csv, Tsv};
pub use options::{BadCells, BadRows, CsvOptions, Encoding, Header};
pub use source::CsvSource;
