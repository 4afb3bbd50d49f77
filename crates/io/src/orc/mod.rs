//! ORC files: read, a stripe by each worker, of its columns those that are needed; and written. The crate `orc-rust` decodes and
//! encodes them; it is built on an older Arrow than ours, so batches cross over as Arrow streams.

mod bridge;
mod file;
mod format;
mod skip;
mod source;
mod write;

pub(crate) use format::OrcFormat;
pub use source::OrcSource;
