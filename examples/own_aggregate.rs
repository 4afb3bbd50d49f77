//! An aggregate of one's own: the geometric mean, in groups, beside rows and in windows.

use churn::Flow;
use churn::extend::{AggregateFunction, AggregateState, Catalogue};
use churn::serde::{Deserialize, Serialize};

/// What is kept of a group: the sum of the logarithms, and how many there are. Where memory is short, serde writes it to disk.
#[derive(Clone, Default, Serialize, Deserialize)]
#[serde(crate = "churn::serde")]
pub struct Logarithms {
    sum: f64,
    count: u32,
}

impl AggregateState for Logarithms {
    fn merge(&mut self, later: &mut Logarithms) {
        self.sum += later.sum;
        self.count += later.count;
    }
}

/// The n-th root of the product of n numbers; null of none.
pub fn geometric_mean() -> AggregateFunction {
    let add = |state: &mut Logarithms, x: Option<f64>| {
        if let Some(x) = x {
            state.sum += x.ln();
            state.count += 1;
        }
    };
    let finish = |state: &Logarithms| (state.count > 0).then(|| (state.sum / f64::from(state.count)).exp());
    AggregateFunction::of_values("geometric_mean", add, finish)
        .summary("The n-th root of the product of n numbers.")
        .example("group by farm: growth = geometric_mean(factor)")
}

/// Growth of deliveries by farm, and over the last two months.
pub fn main() -> churn::Result<()> {
    let catalogue = Catalogue::new().with(geometric_mean())?;
    let factors = "values farm, month, factor: \
                   ('F001', 1, 1.1), ('F001', 2, 0.9), ('F002', 1, 1.2), ('F002', 2, null), ('F002', 3, 1.3)";
    let factors = Flow::steps(factors).extended(&catalogue);
    println!("{}", factors.clone().group("farm", "growth = round(geometric_mean(factor), 4)").run()?);
    let moving =
        "window by farm order by month: g = geometric_mean(factor) over last 2 rows\nadd g = round(g, 4)";
    println!("{}", factors.then(moving).run()?);
    Ok(())
}
