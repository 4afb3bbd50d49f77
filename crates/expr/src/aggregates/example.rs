//! How an aggregate is added: this file, and `example::AGGREGATES` as a line of [`ALL`](super::ALL). It is compiled as a
//! test, and not in the catalogue.
//!
//! A state is that of one group. `merge` is given the state of later rows, so an aggregate may depend on order. That is all
//! that `group`, `per`, windows and spilling need.

use std::sync::Arc;

use arrow_array::types::Float64Type;
use arrow_array::{ArrayRef, Float64Array};
use churn_core::Type;
use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::{Aggregate, AggregateState, Made, column, each_value, made};
use crate::{Bound, Node};

const AGGREGATES: &[Aggregate] = &[Aggregate {
    name: "spread",
    usage: "spread(x)",
    summary: "The difference between the largest value and the smallest.",
    example: "group by farm: range = spread(litres)",
    bind: spread,
}];

/// The smallest value and the largest, none before the first.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Ends(Option<(f64, f64)>);

impl AggregateState for Ends {
    fn merge(&mut self, later: &mut Self) {
        if let Some((least, most)) = later.0 {
            self.see(least);
            self.see(most);
        }
    }
}

impl Ends {
    fn see(&mut self, value: f64) {
        let (least, most) = self.0.unwrap_or((value, value));
        self.0 = Some((least.min(value), most.max(value)));
    }
}

fn spread(mut args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    args.want(0, &Type::Float)?;
    Ok(made(
        args,
        Type::Float,
        |states: &mut [Ends], groups, args| {
            each_value::<_, Float64Type>(states, groups, column(args, 0)?, Ends::see);
            Ok(())
        },
        |states| {
            let spread = |ends: &Ends| ends.0.map(|(least, most)| most - least);
            Ok(Arc::new(states.iter().map(spread).collect::<Float64Array>()))
        },
    ))
}

#[test]
fn the_example_works() -> churn_core::Result<()> {
    let [aggregate] = AGGREGATES else { panic!("one aggregate") };
    let values = vec![Bound { node: Node::Column(0), kind: Type::Float }];
    let made = (aggregate.bind)(Arguments { name: aggregate.name, usage: aggregate.usage, values });
    let Ok(made) = made else { panic!("the arguments fit") };
    let litres: ArrayRef = Arc::new(Float64Array::from(vec![Some(10.0), None, Some(40.0), Some(25.0)]));
    let mut groups = (made.make)();
    groups.grow(3);
    groups.update(&[0, 0, 0, 1], std::slice::from_ref(&litres))?;
    assert_eq!(*groups.finish()?, Float64Array::from(vec![Some(30.0), Some(0.0), None]));
    // As a window function it needs nothing more.
    let moving = (made.make)().slide(&[litres], None, &[(0, 1), (0, 2), (1, 3), (2, 4)])?;
    assert_eq!(*moving, Float64Array::from(vec![0.0, 0.0, 0.0, 15.0]));
    Ok(())
}
