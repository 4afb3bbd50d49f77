//! The plan: what the steps mean, checked; its rewrites; its picture in text.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `node` | the operators |
//! | `join` | what a join is |
//! | `relation` | an operator with its named columns |
//! | `rules` | rewrites, one a file |
//! | `window` | what a window is |
//! | `reshape` | wide to long, long to wide, lists to rows |
//! | `stopped` | steps below a `first` that had enough |
//! | `counters` | what is counted of each step |
//! | `picture` | as written beside as it will run |

mod counters;
pub(crate) mod join;
pub(crate) mod node;
pub(crate) mod picture;
pub(crate) mod relation;
mod reshape;
pub(crate) mod rules;
mod stopped;
mod window;

pub(crate) use counters::Counters;
pub use join::JoinKind;
pub(crate) use join::{Comparison, Join, KeyPair, PrefilterTests};
pub(crate) use node::{Condition, Node, Op, SortKey, StepId, Target};
pub(crate) use relation::{Find, Found, Plan, Relation, StepInfo, Wanted};
pub(crate) use reshape::{Cell, Cells, Pivot, Totals, Unnest, Unpivot};
pub(crate) use window::{Call, Window, WindowKey};
