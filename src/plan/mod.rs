//! The plan: what the steps mean, checked; its rewrites; its picture in text.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `node` | the operators |
//! | `join` | what a join is |
//! | `relation` | an operator with its named columns |
//! | `rules` | rewrites, one a file |
//! | `window` | what a window is |
//! | `picture` | as written beside as it will run |

pub(crate) mod join;
pub(crate) mod node;
pub(crate) mod picture;
pub(crate) mod relation;
pub(crate) mod rules;
mod window;

pub use join::JoinKind;
pub(crate) use join::{Comparison, Join, KeyPair};
pub(crate) use node::{Condition, Node, Op, SortKey, StepId, Target};
pub(crate) use window::{Call, Window, WindowKey};
pub(crate) use relation::{Plan, Relation, StepInfo};
