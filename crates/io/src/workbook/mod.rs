//! Workbooks: a sheet is read as the delimited text that it would be, and written cell by cell.

mod read;
mod sheets;
pub(crate) mod write;

pub use read::{SheetPart, WorkbookSource};
