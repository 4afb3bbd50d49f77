//! Avro files: blocks of records behind a heading with their schema, read by many workers at once.

mod container;
mod format;
mod source;
mod walk;
pub(crate) mod write;

pub(crate) use format::AvroFormat;
pub use source::AvroSource;
