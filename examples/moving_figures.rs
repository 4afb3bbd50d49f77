//! Each row beside its neighbours: a moving mean, the day before, the place in the month.
//!
//! `cargo run --example moving_figures`

use churn::{Flow, Scalar, Window};

fn main() -> Result<(), churn::Error> {
    let rows: Vec<String> = (0..24)
        .map(|i| format!("('F00{}', date '2026-01-{:02}', {}.5)", 1 + i % 2, 1 + i / 2, 100 + (i * 37) % 50))
        .collect();
    let milk = Flow::steps(&format!("values farm, day, litres: {}", rows.join(", ")))
        .window(
            Window::by("farm").order("day"),
            "week = mean(litres) over last 7 rows
             three_days = sum(litres) over last 3 days
             before = lag(litres)",
        )
        .window(Window::by("farm").order("litres desc"), "place = rank()")
        .filter("litres = max(litres) per farm or place <= 3");
    println!("{}", milk.plan()?);
    let table = milk.run()?;
    println!("{table}");
    assert_eq!(table.value(0, "before")?, Scalar::Null);
    Ok(())
}
