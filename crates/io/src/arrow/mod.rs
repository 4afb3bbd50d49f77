//! Arrow files and streams: batches are read in place, a file's by many workers at once.

mod damage;
mod source;
pub(crate) mod write;

pub use source::ArrowSource;
