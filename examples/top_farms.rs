//! A first journey: look at a file, check a chain, see its plan, run it, read the account.
//!
//! `cargo run --example top_farms -- churn-demo` over the folder that `churn demo` wrote.

use churn::{Flow, column, count, mean, sum};

fn main() -> Result<(), churn::Error> {
    let folder = std::env::args().nth(1).unwrap_or_else(|| "churn-demo".into());
    let deliveries =
        Flow::steps("read 'deliveries-2026.csv' with (types = (collected_on date), bad_cells = null)")
            .in_folder(&folder);

    // The columns are known before a row is read.
    for (name, kind) in deliveries.plan()?.columns() {
        println!("{name:14} {kind}");
    }

    // Text and typed pieces make the same plan.
    let by_farm = deliveries
        .filter(column("litres").gt(0).and(column("grade").differs("reject")))
        .group(
            [column("farm")],
            [
                sum(column("litres")).named("litres"),
                mean(column("fat")).named("fat"),
                count().only_where(column("temp_c").gt(6)).named("warm"),
            ],
        )
        .add("share = litres / sum(litres) per table")
        .sort("share desc")
        .first(10);

    println!("\n{}", by_farm.plan()?);
    let table = by_farm.run()?;
    println!("{table}");
    println!("{}", table.ledger());
    Ok(())
}
