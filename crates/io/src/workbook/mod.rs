//! Workbooks: a sheet is read as the delimited text that it would be, and written cell by cell.

mod format;
mod held;
mod ods;
mod read;
mod sheets;
pub(crate) mod write;
mod xls;

pub(crate) use format::WorkbookFormat;
pub use read::WorkbookSource;
