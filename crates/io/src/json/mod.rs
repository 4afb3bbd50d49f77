//! JSON and NDJSON: an array of records, or a record a line.
//!
//! The *cutter*, under a lock, cuts the text into blocks of whole records; workers read them into columns. Between lines it
//! looks for the last line that begins a record, and nothing else; an array it goes over byte by byte. Records of plain
//! shape are read straight from their bytes (`direct`), all others by a parser (`decode`), with the same result. A record
//! within a record becomes columns named by path, an array of values a list, an array of records a list for each
//! field. Types are found and kept to as in delimited text: what does not fit stops the run or is made null and
//! counted, and so does a field that was in none of the records looked at before the run.

mod columns;
mod cut;
mod cutter;
mod decode;
mod direct;
mod fields;
mod format;
mod infer;
mod leads;
mod lists;
mod long;
mod look;
mod source;
mod values;
mod write;

pub(crate) use format::{Json, NdJson};
pub use source::{JsonOptions, JsonSource};
