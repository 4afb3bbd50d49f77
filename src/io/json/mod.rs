//! JSON and NDJSON: an array of records, or a record a line.

pub(crate) mod write;
