//! ORC files, read: a stripe by each worker, of its columns those that are needed. The crate `orc-rust` decodes them; it is built
//! on an older Arrow than ours, so batches cross over as Arrow streams.

mod bridge;
mod file;
mod format;
mod skip;
mod source;

pub(crate) use format::OrcFormat;
pub use source::OrcSource;
