//! The plan: what the steps mean, checked; its rewrites; its picture in text.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `operator` | what the planner asks of a logical operator |
//! | `operators` | the catalogue of logical operators, one a file |
//! | `node` | the tree of operators |
//! | `relation` | an operator with its named columns, and the whole plan |
//! | `rules` | rewrites, one a file |
//! | `stopped` | steps below a `first` that had enough |
//! | `picture` | as written beside as it will run |

#![forbid(unsafe_code)]

mod node;
pub mod operator;
pub mod operators;
pub mod picture;
mod relation;
pub mod rules;
mod stopped;

pub use node::Node;
pub use relation::{Find, Found, Plan, Relation, StepInfo, Wanted};
