//! A window function of one's own: exponential smoothing, which remembers what went before.

use churn::Flow;
use churn::extend::{Catalogue, WindowFunction};

/// Each value, smoothed with those before it: of the new value a share counts, of the level before the rest.
pub fn smoothed() -> WindowFunction {
    let start = || {
        // Each partition starts with nothing remembered.
        let mut level: Option<f64> = None;
        move |x: Option<f64>, share: Option<f64>| {
            if let (Some(x), Some(share)) = (x, share) {
                level = Some(level.map_or(x, |level| level + share * (x - level)));
            }
            level
        }
    };
    WindowFunction::of_values("smoothed", start)
        .needs_order()
        .summary("The value smoothed with those before it.")
        .example("window by farm order by collected_on: level = smoothed(litres, 0.3)")
}

/// The level of each farm's deliveries.
pub fn main() -> churn::Result<()> {
    let catalogue = Catalogue::new().with(smoothed())?;
    let milk = "values farm, day, litres: \
                ('F001', 1, 100), ('F002', 1, 50), ('F001', 2, 140), ('F001', 3, null), ('F002', 2, 60)";
    let milk = Flow::steps(milk).extended(&catalogue);
    println!("{}", milk.then("window by farm order by day: level = smoothed(litres, 0.5)").run()?);
    Ok(())
}
