//! Where rows come from and where they go: places and formats.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `place` | files, globs, folders, standard input; compression |
//! | `source` | what every format offers to the plan and the run |
//! | `memory` | batches that are there already |
//! | `csv` | delimited text, read and written |
//! | `json` | JSON and NDJSON, written |
//! | `target` | files that are complete or not there |

pub(crate) mod csv;
pub(crate) mod format;
pub(crate) mod json;
pub(crate) mod memory;
pub(crate) mod place;
pub(crate) mod source;
pub(crate) mod target;
