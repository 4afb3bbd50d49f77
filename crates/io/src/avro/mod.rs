//! Avro files: blocks of records behind a heading with their schema, read by many workers at once.

mod container;
mod source;
pub(crate) mod write;

pub use source::AvroSource;
