//! Two tables into one: a lookup whose key has another name, and what the ledger says of rows that match none.
//!
//! `cargo run --example two_tables`

use churn::{Event, Flow, Join};

fn main() -> Result<(), churn::Error> {
    let farms = Flow::steps(
        "values code, district, herd: ('F001', 'Lakes', 40), ('F002', 'North Vale', 55), ('F004', 'Lakes', 70)",
    );
    let old = Flow::steps("values farm, litres: ('F002', 75), ('F009', 10)");
    let milk = Flow::steps(
        "values farm, litres, grade: ('F001', 120.0, 'A'), ('F003', 18.5, 'B'), ('F002', 80.0, 'A')",
    )
    .append(&old)
    .join(&farms, Join::left().on("farm = code").expect_one());
    let table = milk.run()?;
    println!("{table}");
    println!("{}", table.ledger());
    for warning in table.ledger().warnings() {
        println!("{warning}");
    }
    assert_eq!(table.ledger().total(Event::MatchedNone), 2);

    // A doubled key would multiply rows: the run stops and shows it.
    let doubled = Flow::steps("values code, district: ('F001', 'Lakes'), ('F001', 'Upper Fen')");
    let error = milk.drop("district, herd").join(&doubled, Join::left().on("farm = code").expect_one()).run();
    println!("{}", error.err().map(|e| e.to_string()).unwrap_or_default());
    Ok(())
}
