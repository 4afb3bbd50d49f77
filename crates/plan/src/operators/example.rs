//! How a logical operator is added: this file, and its name in `catalogue!`; then a file of the same name in
//! `crates/exec/src/operators/` with the pipeline that it is, and its line in `operators::of`. It is compiled as a test, and not in
//! the catalogue.
//!
//! Rules and walks over a plan ask an operator for what they must know; what it does not say has an answer that is always
//! sound: all columns pass, nothing moves below it.

use churn_core::{ColumnId, Field, Type};
use churn_expr::Bound;

use crate::operator::{FilterBelow, Operator, Pruning};

/// Every second row, with its number among them.
struct EverySecond {
    number: Field,
}

impl Operator for EverySecond {
    /// The number comes behind the columns of the input, which all pass.
    fn made(&self) -> Vec<&Field> {
        vec![&self.number]
    }

    /// It needs no column of its input, and makes one that the input has not.
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        needed.retain(|id| *id != self.number.id);
        needed
    }

    /// A condition below it would make other rows the second ones.
    fn filter_below(&self, _: &Bound, _: &[ColumnId]) -> FilterBelow {
        FilterBelow::Stays
    }

    fn explain(&self) -> Vec<String> {
        vec!["every second row, as they come".to_owned()]
    }
}

#[test]
fn the_example_works() {
    let mut operator = EverySecond { number: Field::new(7, "number", Type::Int) };
    assert_eq!(operator.made().first().map(|field| field.id), Some(7));
    let needed = operator.prune(vec![3, 7], &mut Pruning::default());
    assert_eq!(needed, [3]);
    assert!(!operator.takes_all() && operator.others().is_empty());
}
