//! Workbooks: a sheet is read as the delimited text that it would be, and written cell by cell.

mod held;
mod ods;
mod read;
mod sheets;
pub(crate) mod write;
mod xls;

pub use read::{SheetPart, WorkbookSource};
pub use write::fault_of_name;
