//! Parquet files: only the needed columns, only the row groups and pages that may hold rows of the answer.

mod fetched;
mod file;
mod format;
mod morsel;
mod page_by_page;
mod piece;
mod skip;
mod source;
pub(crate) mod write;

pub(crate) use format::ParquetFormat;
pub use source::ParquetSource;
