//! What every layer speaks of: errors, types, single values, batches of columns, counts of events.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `error` | what is wrong, where, why, and what to do next |
//! | `types`, `scalar` | the types of the language and single values |
//! | `field`, `batch`, `column` | columns of a relation, batches of rows, a column or a constant |
//! | `widen` | columns as they are carried, turned into those of the language's types |
//! | `events`, `counters`, `ledger` | what happens to values and rows on the way, counted by step, and the account of it |
//! | `join_kind` | the kinds of joins |
//! | `names`, `readable`, `aligned` | names, numbers and lines as people read them |
//! | `cancel`, `parallel`, `deep` | stopping a run, the threads of a run, recursion on deep trees |
//! | `current_step` | the step that a thread is at work for |

#![forbid(unsafe_code)]

pub mod aligned;
mod batch;
pub mod cancel;
mod column;
pub mod counters;
pub mod current_step;
pub mod deep;
pub mod error;
mod events;
mod field;
mod join_kind;
#[cfg(test)]
mod laws;
mod ledger;
pub mod names;
pub mod parallel;
pub mod readable;
mod rust_values;
pub mod scalar;
pub mod types;
pub mod widen;

pub use batch::{Batch, arrow_error, taken};
pub use column::{Column, Texts, both_valid};
pub use counters::{Counters, StepCounts, StepId};
pub use error::{Error, ErrorKind, OrFault, Place, Position, Result, SourceText, Span};
pub use events::{Event, Events};
pub use field::{ColumnId, Field};
pub use join_kind::JoinKind;
pub use ledger::{Ledger, LedgerStep};
pub use scalar::{Interval, Scalar};
pub use types::Type;
