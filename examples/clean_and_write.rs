//! A second journey: several dirty files of different years become one clean one, first on a part, then on all.
//!
//! `cargo run --example clean_and_write -- churn-demo`

use churn::{ErrorKind, Event, Flow, RunOptions};

fn main() -> Result<(), churn::Error> {
    let folder = std::env::args().nth(1).unwrap_or_else(|| "churn-demo".into());

    // Without a word about the dates, the malformed ones are told and nothing is written.
    let naive = Flow::steps("read 'deliveries-*.csv' with (types = (collected_on date))").in_folder(&folder);
    match naive.clone().filter("collected_on >= '2026-01-01'").run() {
        Err(error) if error.kind() == ErrorKind::Data => println!("As expected, it stops:\n{error}\n"),
        other => println!("This part has no malformed date: {} rows", other?.len()),
    }

    let clean = Flow::steps(
        "read 'deliveries-*.csv' with (types = (collected_on date), bad_cells = null, file_column = 'file')",
    )
    .in_folder(&folder)
    .filter("collected_on is not null and litres > 0")
    .fill("protein", "round(mean(protein) per grade, 2)")
    .add("month = start_of(month, collected_on)\nsolids = round(litres * (fat + protein) / 100, 1)")
    .drop("note, file")
    .require("fat between 2 and 9, 'fat out of range'");

    // The same chain on a small part first.
    let part = clean.run_with(&RunOptions::new().first_rows(1000))?;
    println!("{}", part.view(100, 3));

    let out = std::env::temp_dir().join("churn-clean-deliveries.csv");
    let ledger = clean.write(&out)?;
    println!("{ledger}");
    println!("{} bad dates were made null.", ledger.total(Event::BadCell));
    println!(
        "{}",
        Flow::read(&out)
            .group("month", "loads = count(), solids = sum(solids)")
            .sort("month")
            .run()?
            .view(80, 5)
    );
    let _ = std::fs::remove_file(out);
    Ok(())
}
