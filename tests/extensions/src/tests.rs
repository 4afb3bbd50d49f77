//! What the examples give, and what is said where their names are mistyped.

#![allow(clippy::unwrap_used)]

use churn::extend::Catalogue;
use churn::{Flow, Result, RunOptions, Scalar};

use crate::{own_aggregate, own_format, own_function, own_source, own_store, own_window};

fn catalogue() -> Result<Catalogue> {
    Catalogue::new()
        .with(own_function::quality())?
        .with(own_aggregate::geometric_mean())?
        .with(own_window::smoothed())?
        .with_table("readings", own_source::Readings(2500))?
        .with_format(own_format::fixed())?
        .with_store(own_store::Shelf::default())
}

/// The rows of a recipe, as texts, in settings of which the last spills all that it can.
fn rows(recipe: &str) -> Result<Vec<String>> {
    let mut found: Option<Vec<String>> = None;
    for (threads, batch_rows, memory) in [(1, 8192, 1 << 30), (3, 7, 1 << 30), (2, 100, 1)] {
        let options = RunOptions::new().threads(threads).batch_rows(batch_rows).memory(memory);
        let table = Flow::recipe(recipe).extended(&catalogue()?).run_with(&options)?;
        let columns: Vec<Vec<Scalar>> =
            table.columns().map(|(name, _)| table.values(name)).collect::<Result<_>>()?;
        let row =
            |row: usize| columns.iter().map(|c: &Vec<Scalar>| c[row].plain()).collect::<Vec<_>>().join(" ");
        let rows: Vec<String> = (0..table.len()).map(row).collect();
        assert_eq!(*found.get_or_insert_with(|| rows.clone()), rows, "{threads} threads, {memory} bytes");
    }
    Ok(found.unwrap_or_default())
}

#[test]
fn examples_run() -> Result<()> {
    own_function::main()?;
    own_aggregate::main()?;
    own_window::main()?;
    own_source::main()?;
    own_format::main()?;
    own_store::main()
}

#[test]
fn each_gives_what_it_promises() -> Result<()> {
    let milk = "values farm, litres, fat, cells: ('a', 2, 4.1, 200), ('b', 3, 4.0, null), ('a', 8, 3.9, 100)";
    let score = rows(&format!("{milk}\nselect q = quality(fat, cells)"))?;
    assert_eq!(score, ["39.0", "", "38.0"]);
    let grouped = rows(&format!("{milk}\ngroup by farm: g = round(geometric_mean(litres), 6)"))?;
    assert_eq!(grouped, ["a 4.0", "b 3.0"]);
    let level =
        rows(&format!("{milk}\nwindow by farm order by litres: l = smoothed(litres, 0.5)\nselect l"))?;
    assert_eq!(level, ["2.0", "3.0", "5.0"]);
    let warm =
        rows("read readings\nfilter temp_c > 6.9\ngroup by hour = minute div 60: n = count()\nfirst 2")?;
    assert_eq!(warm, ["0 1", "1 1"]);
    Ok(())
}

#[test]
fn a_file_of_the_format_is_written_and_read() -> Result<()> {
    let folder = std::env::temp_dir().join(format!("churn-extensions-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let path = |name: &str| folder.join(name).display().to_string();
    for (name, farm) in [("one.fixed", "F001"), ("two.fixed", "F002")] {
        let written = rows(&format!("values farm, litres: ('{farm}', 120)\nwrite '{}'", path(name)))?;
        assert_eq!(written, [format!("{farm} 120")]);
    }
    let text = std::fs::read_to_string(folder.join("one.fixed")).unwrap();
    assert_eq!(text, "farm:12,litres:12\nF001        120         \n");
    // Both as one table, of one or as two that lack a column of each other.
    let both = rows(&format!("read '{}'\nselect farm", path("*.fixed")))?;
    assert_eq!(both, ["F001", "F002"]);
    std::fs::write(folder.join("two.fixed"), "farm:4,grade:1\nF002A\n").unwrap();
    assert_eq!(rows(&format!("read '{}'", path("*.fixed")))?, ["F001 120 ", "F002  A"]);
    // By its option, whatever its name is; in folders of keys; in a format that writes folders.
    std::fs::rename(folder.join("two.fixed"), folder.join("two.txt")).unwrap();
    assert_eq!(rows(&format!("read '{}' with (format = fixed)", path("two.txt")))?, ["F002 A"]);
    let split = format!(
        "values farm, n: ('a', '1'), ('b', '2')\nwrite '{}' with (split_by = (farm), format = fixed)",
        path("split")
    );
    assert_eq!(rows(&split)?, ["a 1", "b 2"]);
    assert_eq!(rows(&format!("read '{}'", path("split")))?, ["1 a", "2 b"]);
    // What it cannot read names the file.
    std::fs::write(folder.join("two.txt"), "no heading\n").unwrap();
    let error = rows(&format!("read '{}' with (format = fixed)", path("two.txt"))).unwrap_err();
    assert!(
        error.to_string().contains("two.txt") && error.to_string().contains("a name lacks its width"),
        "{error}"
    );
    std::fs::remove_dir_all(&folder).unwrap();
    Ok(())
}

#[test]
fn a_store_takes_files_and_gives_them() -> Result<()> {
    let catalogue = catalogue()?;
    let flow = |recipe: &str| Flow::recipe(recipe).extended(&catalogue);
    let written =
        "values farm, n: ('a', 1), ('b', 2)\nwrite 'shelf://x/one.parquet'\nwrite 'shelf://x/two.csv.gz'";
    flow(written).run()?;
    for address in ["shelf://x/one.parquet", "shelf://x/two.csv.gz"] {
        assert_eq!(
            flow(&format!("read '{address}'\ntotal n = sum(n)")).run()?.value(0, "n")?,
            Scalar::Int(3)
        );
    }
    // A run that fails leaves what was there.
    let failing = "values n: (9)\nwrite 'shelf://x/one.parquet'\nrequire n < 5";
    assert!(flow(failing).run().is_err());
    assert_eq!(flow("read 'shelf://x/one.parquet'").run()?.len(), 2);
    let said = |recipe: &str| flow(recipe).run().map(|_| ()).unwrap_err().to_string();
    let missing = said("read 'shelf://x/three.csv'");
    assert!(missing.contains("shelf://x/three.csv cannot be read: entity not found."), "{missing}");
    let both = said("read 'shelf://x/one.parquet'\nwrite 'shelf://x/one.parquet'");
    assert!(both.contains("shelf://x/one.parquet"), "{both}");
    let appended = said("values n: (1)\nwrite 'shelf://x/two.csv' with (mode = append)");
    assert!(appended.contains("replaced as a whole"), "{appended}");
    let split = said("values n, m: (1, 2)\nwrite 'shelf://x/two' with (split_by = (n), format = csv)");
    assert!(split.contains("this is an address"), "{split}");
    Ok(())
}

#[test]
fn mistyped_names_are_told_and_the_right_ones_offered() -> Result<()> {
    for (recipe, near) in [
        ("values x: (1.0)\nadd y = qualitty(x, 1)", "Did you mean quality?"),
        ("values x: (1.0)\ntotal y = geometric_mea(x)", "Did you mean geometric_mean?"),
        ("values x: (1.0)\nwindow order by x: y = smoothd(x, 0.5)", "Did you mean smoothed?"),
        ("read redings", "Did you mean readings?"),
        ("values x: (1)\nwrite 'x' with (format = fixd)", "Did you mean fixed?"),
        ("read 'shelv://x/one.csv'", "Did you mean shelf://?"),
    ] {
        let error = Flow::recipe(recipe).extended(&catalogue()?).check().unwrap_err();
        assert!(error.advice().iter().any(|advice| advice == near), "{error}");
    }
    Ok(())
}
