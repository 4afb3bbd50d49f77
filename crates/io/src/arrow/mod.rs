//! Arrow files and streams: batches are read in place, a file's by many workers at once.

mod damage;
mod format;
mod source;
pub(crate) mod write;

pub(crate) use format::ArrowFormat;
pub use source::ArrowSource;
