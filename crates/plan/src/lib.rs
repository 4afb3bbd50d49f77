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
//! | `picture` | as written beside as it will run |

#![forbid(unsafe_code)]

pub mod join;
pub mod node;
pub mod picture;
pub mod relation;
mod reshape;
pub mod rules;
mod stopped;
mod window;

pub use join::{Comparison, Join, KeyPair, PrefilterTests};
pub use node::{Condition, Node, Op, SortKey, Target};
pub use relation::{Find, Found, Plan, Relation, StepInfo, Wanted};
pub use reshape::{Cell, Cells, Pivot, Totals, Unnest, Unpivot};
pub use window::{Call, Window, WindowKey};
