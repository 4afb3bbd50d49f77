//! A function of one's own: a score of milk, called from the language as those that it has are.

use churn::Flow;
use churn::extend::{Catalogue, ScalarFunction};

/// More fat is better, more cells are worse; where one is missing, so is the score.
pub fn quality() -> ScalarFunction {
    let score = |fat: Option<f64>, cells: Option<i64>| Some(fat? * 10.0 - cells? as f64 / 100.0);
    ScalarFunction::of_values("quality", score).summary("A score of milk by its fat and its cells.")
}

/// Scores, and what is said of a mistyped name.
pub fn main() -> churn::Result<()> {
    let catalogue = Catalogue::new().with(quality())?;
    let milk =
        Flow::steps("values farm, fat, cells: ('F001', 4.1, 200), ('F002', 3.8, 420), ('F003', 4.4, null)");
    let scored = milk.extended(&catalogue).add("score = quality(fat, cells)").sort("score desc");
    println!("{}", scored.run()?);

    // A mistyped name is told before anything runs, and the right one is offered.
    if let Err(error) = scored.filter("qualty(fat, cells) > 30").check() {
        println!("{error}");
    }
    Ok(())
}
