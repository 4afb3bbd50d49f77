//! Where rows come from and where they go: places and formats.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `place` | files, globs, folders, standard input; compression |
//! | `streams` | inputs that are read from front to back: standard input, pipes, addresses |
//! | `store`, `web` | what stands behind addresses; the web |
//! | `charset` | text in other encodings and with other line ends |
//! | `temporary` | temporary folders that have names, and what killed runs left of them |
//! | `source` | what every format offers to the plan and the run |
//! | `memory` | batches that are there already |
//! | `own` | sources of a user's own |
//! | `csv` | delimited text, read and written |
//! | `json` | JSON and NDJSON, read and written |
//! | `parquet`, `arrow`, `avro` | columnar files, read and written |
//! | `orc` | columnar files, read |
//! | `workbook` | sheets of workbooks, read and written |
//! | `merge_schemas` | several files of one table, columns by name |
//! | `ranges` | what conditions say of columns, to be held against a file's statistics |
//! | `machine` | the memory that a run may use |
//! | `waiting_rows` | rows that wait until there are enough of them to be written |
//! | `binary` | what columnar formats that are written share |
//! | `sheet` | what options say of the sheets of workbooks |
//! | `zip` | text within a zip archive of one file |
//! | `files` | the files that a request reads and writes: none may be both |
//! | `folders`, `split` | folders of `key=value` folders, read and written |
//! | `identity` | whether two paths mean one file |
//! | `part` | a file that gets its name when it is complete |
//! | `target` | files that are complete or not there |

#![forbid(unsafe_code)]
// What several formats share is used by none where a build has few of them.
#![cfg_attr(
    not(all(feature = "parquet", feature = "arrow-ipc", feature = "avro", feature = "workbook")),
    allow(dead_code)
)]

#[cfg(feature = "arrow-ipc")]
pub mod arrow;
#[cfg(feature = "avro")]
pub mod avro;
pub mod binary;
pub mod charset;
pub mod csv;
#[cfg(test)]
mod example;
pub mod files;
pub mod folders;
pub mod format;
pub mod identity;
#[cfg(feature = "json")]
pub mod json;
mod json_text;
pub mod machine;
pub mod markdown;
pub mod memory;
pub mod merge_schemas;
pub mod open_files;
#[cfg(feature = "orc")]
pub mod orc;
pub mod own;
#[cfg(feature = "parquet")]
pub mod parquet;
pub mod part;
pub mod place;
pub mod ranges;
mod segments;
pub mod sheet;
pub mod source;
pub mod split;
pub mod store;
pub mod streams;
pub mod target;
pub mod temporary;
mod waiting_rows;

#[cfg(feature = "workbook")]
pub mod workbook;
pub mod zip;
