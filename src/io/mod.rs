//! Where rows come from and where they go: places and formats.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `place` | files, globs, folders, standard input; compression |
//! | `streams` | inputs that can be read only once |
//! | `charset` | text in other encodings and with other line ends |
//! | `temporary` | temporary folders that have names, and what killed runs left of them |
//! | `source` | what every format offers to the plan and the run |
//! | `memory` | batches that are there already |
//! | `csv` | delimited text, read and written |
//! | `json` | JSON and NDJSON, read and written |
//! | `parquet`, `arrow` | columnar files, read and written |
//! | `workbook` | sheets of workbooks, read and written |
//! | `merge_schemas` | several files of one table, columns by name |
//! | `ranges` | what conditions say of columns, to be held against a file's statistics |
//! | `binary` | what columnar formats that are written share |
//! | `files` | the files that a request reads and writes: none may be both |
//! | `folders`, `split` | folders of `key=value` folders, read and written |
//! | `identity` | whether two paths mean one file |
//! | `part` | a file that gets its name when it is complete |
//! | `target` | files that are complete or not there |

pub(crate) mod arrow;
pub(crate) mod binary;
pub(crate) mod charset;
pub(crate) mod csv;
pub(crate) mod files;
pub(crate) mod folders;
pub(crate) mod format;
pub(crate) mod identity;
pub(crate) mod json;
pub(crate) mod markdown;
pub(crate) mod memory;
pub(crate) mod merge_schemas;
pub(crate) mod open_files;
pub(crate) mod parquet;
pub(crate) mod part;
pub(crate) mod place;
pub(crate) mod ranges;
mod segments;
pub(crate) mod source;
pub(crate) mod split;
pub(crate) mod streams;
pub(crate) mod target;
pub(crate) mod temporary;
pub(crate) mod workbook;
