//! A third journey: Arrow batches in and out, rows into a struct, a run that is watched and can be stopped.
//!
//! `cargo run --example rows_and_batches -- churn-demo`

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use churn::{Flow, RunOptions};
use serde::Deserialize;

/// A row of the answer.
#[derive(Debug, Deserialize)]
struct Grade {
    grade: String,
    loads: i64,
    litres: f64,
    protein: Option<f64>,
}

fn main() -> Result<(), churn::Error> {
    let folder = std::env::args().nth(1).unwrap_or_else(|| "churn-demo".into());
    let deliveries = Flow::read("deliveries-2026.csv").in_folder(&folder);

    // Rows as values of a struct.
    let grades = deliveries
        .clone()
        .group("grade", "loads = count(), litres = sum(litres), protein = mean(protein)")
        .sort("litres desc")
        .run()?;
    for Grade { grade, loads, litres, protein } in grades.rows()? {
        println!(
            "{grade:8} {loads:6} loads {litres:12.1} litres, protein {:.2}",
            protein.unwrap_or(f64::NAN)
        );
    }

    // Batches while the run goes on, a few at a time, whatever the size of the file.
    let stop = Arc::new(AtomicBool::new(false));
    let options = RunOptions::new()
        .threads(2)
        .memory(256 << 20)
        .cancel(stop)
        .on_progress(|p| eprintln!("{} of {:?} bytes, {} rows", p.done, p.total, p.rows));
    let mut warm = Vec::new();
    for batch in
        deliveries.filter("temp_c > 7").select("farm, collected_on, temp_c").batches_with(&options)?
    {
        warm.push(batch?);
    }
    println!("{} batches of warm milk", warm.len());

    // And back in, without a copy.
    let table = Flow::batches_of(warm)?
        .group("farm", "loads = count(), warmest = max(temp_c)")
        .sort("loads desc")
        .first(5);
    println!("{}", table.run()?);
    Ok(())
}
