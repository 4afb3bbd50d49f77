//! Long to wide and back: a sheet with a month a column, turned so that every row is an observation.
//!
//! `cargo run --example wide_and_long`

use churn::Flow;

fn main() -> Result<(), churn::Error> {
    let quota = Flow::steps(
        "values farm, \"2026-01\", \"2026-02\", \"2026-03\": ('F001', 900, 850, null), ('F002', 400, null, 420)",
    );
    let long = quota.unpivot("litres for month in each '2026-*' skip nulls");
    println!("{}", long.run()?);

    let wide = long.clone().pivot("month by farm", "litres = sum(litres)\ntotals");
    println!("{}", wide.run()?);

    // Two values for one cell need an aggregate: without one the run stops and shows them.
    let doubled = long.clone().append(&long).pivot("month by farm", "litres");
    println!("{}", doubled.run().err().map(|e| e.to_string()).unwrap_or_default());
    Ok(())
}
