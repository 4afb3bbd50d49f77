//! The catalogue of logical operators, one a file.
//!
//! An operator adds columns to those of its input, or makes new ones; it never renames and never drops. Names belong to
//! a `Relation`, and what nobody needs is left out by the rule `prune`.

mod append;
mod compute;
mod densify;
mod distinct;
#[cfg(test)]
mod example;
mod filter;
mod first;
mod group;
mod join;
mod last;
mod paste;
mod per;
mod pivot;
mod require;
mod require_unique;
mod sample;
mod scan;
mod shared;
mod sort;
mod top_per_group;
mod totals;
mod unnest;
mod unpivot;
mod window;
mod write;

pub use append::Append;
pub use compute::Compute;
pub use densify::{DenseKey, Densify, Series, SeriesStep};
pub use distinct::Distinct;
pub use filter::Filter;
pub use first::First;
pub use group::Group;
pub use join::{Comparison, Join, KeyPair, PrefilterTests};
pub use last::Last;
pub use paste::Paste;
pub use per::Per;
pub use pivot::{Cell, Pivot};
pub use require::Require;
pub use require_unique::RequireUnique;
pub use sample::{Sample, SampleSize};
pub use scan::{Condition, Scan};
pub use shared::Shared;
pub use sort::{Sort, SortKey};
pub use top_per_group::TopPerGroup;
pub use totals::Totals;
pub use unnest::Unnest;
pub use unpivot::{Cells, Unpivot};
pub use window::{Call, Window, WindowKey};
pub use write::Write;

use crate::operator::Operator;

/// Makes the enumeration of all operators of their list.
macro_rules! catalogue {
    ($($name:ident),* $(,)?) => {
        /// What an operator does: one of the catalogue.
        #[derive(Clone)]
        pub enum Op {
            $(#[doc = concat!("See [`", stringify!($name), "`].")] $name($name)),*
        }

        impl Op {
            /// What the planner asks of it.
            pub fn operator(&self) -> &dyn Operator {
                match self {
                    $(Op::$name(op) => op),*
                }
            }

            /// The same, to be rewritten.
            pub fn operator_mut(&mut self) -> &mut dyn Operator {
                match self {
                    $(Op::$name(op) => op),*
                }
            }
        }

        $(impl From<$name> for Op {
            fn from(op: $name) -> Op {
                Op::$name(op)
            }
        })*
    };
}

catalogue![
    Append,
    Compute,
    Densify,
    Distinct,
    Filter,
    First,
    Group,
    Join,
    Last,
    Paste,
    Per,
    Pivot,
    Require,
    RequireUnique,
    Sample,
    Scan,
    Shared,
    Sort,
    TopPerGroup,
    Totals,
    Unnest,
    Unpivot,
    Window,
    Write,
];
