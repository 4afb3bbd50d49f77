//! Avro files: those that another program wrote, our own read back by it and by us, and damaged ones.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use churn::{Flow, RunOptions, Scalar, Table};
use rstest::rstest;

/// Files that `make.py` in the folder wrote.
fn data() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/avro")
}

fn run(folder: &Path, recipe: &str) -> churn::Result<Table> {
    Flow::recipe(recipe).in_folder(folder).run_with(&RunOptions::new().threads(2))
}

fn cells(table: &Table, row: usize) -> String {
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let cell = |name: &String| match table.value(row, name).unwrap() {
        Scalar::Null => "·".to_owned(),
        value => value.plain(),
    };
    names.iter().map(cell).collect::<Vec<_>>().join(" | ")
}

#[rstest]
fn files_of_another_program_are_read(
    #[values("null", "deflate", "snappy", "zstandard", "bzip2", "xz")] packing: &str,
    #[values(1, 2000, 1 << 20)] block: usize,
) {
    let flow = Flow::recipe(&format!("read '{packing}.avro'")).in_folder(data());
    let table = flow.run_with(&RunOptions::new().threads(2).block_bytes(block)).unwrap();
    assert_eq!(table.len(), 60);
    let kinds: Vec<String> = table.columns().map(|(name, kind)| format!("{name} {kind}")).collect();
    assert_eq!(
        kinds.join(", "),
        "farm text, litres float, loads int, cells int, fat float, good bool, day date, at timestamp, began timestamp, \
         local timestamp, clock time, price decimal(8, 2), grade text, raw binary, tanks list(int), lab.urea int, \
         lab.note text"
    );
    assert_eq!(
        cells(&table, 2),
        "F002 | 102.5 | 2 | · | 4.25 | true | 2026-01-01 | 2026-01-01 08:30:00 | 2026-01-01 08:30:00 | \
         2026-01-01 08:30:00 | 08:30:00 | 0.02 | reject | 0200 | [0, null] | 22 | höher"
    );
    assert_eq!(
        cells(&table, 59),
        "F003 | · | 3 | · | 4.25 | false | 2026-01-03 | 2026-01-03 17:30:00 | · | 2026-01-03 17:30:00 | 17:30:00 | 0.59 | \
         reject | 3b00 | [0, null, 2] | · | ·"
    );
}

#[rstest]
#[case::some_columns("read 'snappy.avro'\ngroup by grade: n = count(), l = sum(litres)", "A | 20 | 2052.0")]
#[case::within_a_record(
    "read 'null.avro'\ntotal: u = sum(\"lab.urea\"), n = count(\"lab.note\")",
    "2450 | 30"
)]
#[case::no_column("read 'zstandard.avro'\ntotal: n = count()", "60")]
#[case::several_forms(
    "read 'null.avro', 'earlier.avro'\nlast 1\nselect farm, cells, driver, grade",
    "F003 | · | · | reject"
)]
#[case::without_records("read 'empty.avro'\ntotal: n = count(driver)", "0")]
#[case::identifiers("read 'odd.avro'", "F001 | 00000000-0000-0000-0000-000000000007")]
#[case::of_a_folder(
    "read '*ar*.avro' with (file_column = 'file')\ngroup by file: n = count()",
    "earlier.avro | 2"
)]
fn answers(#[case] recipe: &str, #[case] expected: &str) {
    assert_eq!(cells(&run(&data(), recipe).unwrap(), 0), expected);
}

#[test]
fn types_without_a_counterpart_are_told() {
    let plan = Flow::recipe("read 'odd.avro'").in_folder(data()).plan().unwrap();
    let note = plan.notes().join("\n");
    assert!(
        note.contains("2 columns of types that are not read left out: either") && note.contains("by_name"),
        "{note}"
    );
}

const VALUES: &str = "values farm, litres, day, at, clock, price, good
  'F1', 1.5, date '2026-01-31', timestamp '2026-01-31 06:30:00', time '06:30:00', 0.5, true
  'Höfe, 2', null, null, null, null, null, null
  null, -0.0, date '1969-12-31', timestamp '1960-01-01 00:00:00', time '23:59:59', 99.25, false
add price = cast(price as decimal(6, 2)), tanks = parts(farm, ' '), n = 9007199254740993, nothing = null\n";

#[rstest]
#[case("none")]
#[case("deflate")]
#[case("snappy")]
#[case("zstd")]
#[case("bzip2")]
#[case("xz")]
fn our_files_read_back(#[case] compression: &str) {
    let folder = tempfile::tempdir().unwrap();
    let written =
        run(folder.path(), &format!("{VALUES}write 'out.avro' with (compression = {compression})")).unwrap();
    let again = run(folder.path(), "read 'out.avro'").unwrap();
    for row in 0..3 {
        assert_eq!(cells(&again, row), cells(&written, row));
    }
    let types = |table: &Table| table.columns().map(|(n, t)| format!("{n} {t}")).collect::<Vec<_>>();
    assert_eq!(types(&again), types(&written));
    let bytes = fs::read(folder.path().join("out.avro")).unwrap();
    run(folder.path(), &format!("{VALUES}write 'out.avro' with (compression = {compression})")).unwrap();
    assert!(fs::read(folder.path().join("out.avro")).unwrap() == bytes, "the same rows, the same bytes");
}

/// The rows of a file, as the other program reads them; `None` if it is not here, which is told.
fn read_by_another_program(path: &Path) -> Option<Vec<String>> {
    let python = std::env::var("CHURN_PYTHON").unwrap_or_else(|_| "python3".to_owned());
    let output = Command::new(&python).arg(data().join("make.py")).arg("--read").arg(path).output();
    match output {
        Ok(output) if output.status.success() => {
            Some(String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect())
        }
        _ => {
            assert!(std::env::var_os("CHURN_PYTHON").is_none(), "{python} does not read {}", path.display());
            println!("skipped: {python} has no fastavro; bash .ci/python makes one that has");
            None
        }
    }
}

#[rstest]
#[case("none")]
#[case("deflate")]
#[case("snappy")]
#[case("zstd")]
#[case("bzip2")]
#[case("xz")]
fn our_files_are_read_by_another_program(#[case] compression: &str) {
    let folder = tempfile::tempdir().unwrap();
    run(folder.path(), &format!("{VALUES}write 'out.avro' with (compression = {compression})")).unwrap();
    let Some(rows) = read_by_another_program(&folder.path().join("out.avro")) else { return };
    assert_eq!(
        rows,
        [
            "{\"farm\": \"F1\", \"litres\": 1.5, \"day\": \"2026-01-31\", \"at\": \"2026-01-31 06:30:00\", \
         \"clock\": \"06:30:00\", \"price\": \"0.50\", \"good\": true, \"tanks\": [\"F1\"], \
         \"n\": 9007199254740993, \"nothing\": null}",
            "{\"farm\": \"Höfe, 2\", \"litres\": null, \"day\": null, \"at\": null, \"clock\": null, \"price\": null, \
         \"good\": null, \"tanks\": [\"Höfe,\", \"2\"], \"n\": 9007199254740993, \"nothing\": null}",
            "{\"farm\": null, \"litres\": -0.0, \"day\": \"1969-12-31\", \"at\": \"1960-01-01 00:00:00\", \
         \"clock\": \"23:59:59\", \"price\": \"99.25\", \"good\": false, \"tanks\": null, \
         \"n\": 9007199254740993, \"nothing\": null}",
        ]
    );
}

#[test]
fn many_rows_are_cut_into_blocks() {
    let folder = tempfile::tempdir().unwrap();
    let rows: String = (0..200_000).map(|i| format!("{i},F{}\n", i % 97)).collect();
    let text = format!("n,farm\n{rows}");
    fs::write(folder.path().join("t.csv"), text).unwrap();
    run(folder.path(), "read 't.csv'\nwrite 't.avro'").unwrap();
    for (threads, block) in [(1, 1), (2, 1 << 20), (7, 1 << 14)] {
        let flow = Flow::recipe("read 't.avro'\ntotal: s = sum(n), f = count_distinct(farm), l = last(n)");
        let options = RunOptions::new().threads(threads).block_bytes(block);
        let table = flow.in_folder(folder.path()).run_with(&options).unwrap();
        assert_eq!(cells(&table, 0), "19999900000 | 97 | 199999");
    }
}

/// Wherever a file is cut or changed, the run tells it or gives rows: it does not panic, and takes no more memory than the
/// file says.
#[rstest]
#[case("null")]
#[case("snappy")]
#[case("deflate")]
fn damaged_files_are_told(#[case] packing: &str) {
    let folder = tempfile::tempdir().unwrap();
    let bytes = fs::read(data().join(format!("{packing}.avro"))).unwrap();
    let path = folder.path().join("t.avro");
    let mut told = 0;
    for cut in (0..bytes.len()).step_by(97) {
        fs::write(&path, &bytes[..cut]).unwrap();
        told += usize::from(run(folder.path(), "read 't.avro'\ntotal: n = count(litres)").is_err());
    }
    // Between two blocks a file may end.
    assert!(told + 3 >= bytes.len().div_ceil(97), "{told}");
    for place in (0..bytes.len()).step_by(71) {
        let mut changed = bytes.clone();
        changed[place] ^= 0x55;
        fs::write(&path, changed).unwrap();
        if let Err(error) = run(folder.path(), "read 't.avro'") {
            assert!(!error.to_string().contains("internal"), "{place}: {error}");
        }
    }
}

#[rstest]
#[case::interval("add t = interval '1' day\nwrite 'x.avro'", "Avro files hold no intervals")]
#[case::name("rename \"Fat %\" = litres\nwrite 'x.avro'", "cannot be called \"Fat %\"")]
#[case::compression(
    "write 'x.avro' with (compression = brotli)",
    "Avro files are not compressed with brotli"
)]
#[case::option("write 'x.avro' with (header = false)", "header is for delimited text")]
#[case::appended("write 'x.avro' with (mode = append)", "cannot be appended to a columnar file")]
fn refused(#[case] write: &str, #[case] expected: &str) {
    let folder = tempfile::tempdir().unwrap();
    let error =
        run(folder.path(), &format!("values farm, litres: ('F1', 1.5)\n{write}")).unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
}
