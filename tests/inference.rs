//! Column types that are inferred, and the cells that are found not to fit later.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use churn::{ErrorKind, Flow, RunOptions, Scalar};
use proptest::prelude::*;
use rstest::rstest;
use tempfile::TempDir;

fn folder(files: &[(&str, String)]) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    for (name, text) in files {
        fs::write(folder.path().join(name), text).unwrap();
    }
    folder
}

/// More rows of whole numbers than are looked at as a whole, an odd row where no place is looked at, and more rows.
fn with_a_late_cell(cell: &str) -> String {
    let rows = |from: usize, to: usize| (from..to).fold(String::new(), |all, i| all + &number(i) + ",1\n");
    // 64 places of 16 kB each in 24 MB: the start, and then one each 370 kB.
    format!("farm,litres\n{}{cell},1\n{}", rows(0, 60_000), rows(0, 3_000_000))
}

fn number(i: usize) -> String {
    (1000 + i % 5000).to_string()
}

#[rstest]
#[case::leading_zeros("0042", "'0042' would lose its leading zeros as an int.")]
#[case::negative_with_zeros("-007", "'-007' would lose its leading zeros as an int.")]
#[case::a_plus("+7", "'+7' would lose its sign as an int.")]
#[case::too_many_digits("12345678901234567890", "'12345678901234567890' would lose digits as an int.")]
#[case::a_fraction("1.5", "'1.5' is not an int.")]
fn a_late_cell_that_does_not_fit_an_inferred_column(#[case] cell: &str, #[case] what: &str) {
    let folder = folder(&[("t.csv", with_a_late_cell(cell))]);
    let flow = Flow::steps("read 't.csv'\ngroup by farm: n = count()").in_folder(folder.path());
    let error = flow.run().unwrap_err();
    assert_eq!((error.kind(), error.what()), (ErrorKind::Data, what));
    let told = error.to_string();
    assert!(
        told.contains("t.csv, line 60002, column farm") && told.contains("types = (farm text)"),
        "{told}"
    );
    if what.contains("lose") && !cell.starts_with("12") {
        let declared = Flow::steps("read 't.csv' with (types = (farm int))\nlast 1").in_folder(folder.path());
        assert!(declared.run().is_ok(), "a column that was declared int takes it");
    }
}

#[test]
fn zeros_anywhere_in_a_small_file_keep_their_column_text() {
    let rows: String = (1000..6000).map(|i| format!("{i},1\n")).collect();
    let folder = folder(&[("t.csv", format!("farm,litres\n{rows}0042,1\n42,1\n"))]);
    let flow = Flow::steps("read 't.csv'\ngroup by farm: n = count()\nlast 2").in_folder(folder.path());
    let table = flow.run().unwrap();
    assert_eq!(table.values("farm").unwrap(), [Scalar::from("0042"), Scalar::from("42")]);
}

#[test]
fn the_last_rows_of_a_large_file_are_looked_at() {
    let rows: String = (0..3_500_000).map(|i| number(i) + ",1\n").collect();
    let folder = folder(&[("t.csv", format!("farm,litres\n{rows}0042,1\n"))]);
    let plan = Flow::read("t.csv").in_folder(folder.path()).plan().unwrap();
    assert_eq!(plan.columns().next().unwrap().1.to_string(), "text");
    let source = plan.sources()[0];
    assert!(!source.looked_at_all && source.rows_looked_at.unwrap() > 100_000, "{source:?}");
}

/// Records of an array may begin anywhere, also in what looks like an array of others.
#[rstest]
#[case::on_lines(",\n", "")]
#[case::on_one_line(",", "")]
#[case::with_records_in_them(",", ", \"visits\": [{\"farm\": 7}, {\"farm\": 8}]")]
fn the_last_records_of_a_large_array_are_looked_at(#[case] between: &str, #[case] more: &str) {
    let record = |farm: &str| format!("{{\"farm\": {farm}, \"note\": \"a, [note]\"{more}}}");
    let mut records: Vec<String> = (0..540_000).map(|i| record(&number(i))).collect();
    records.push(record("\"0042\""));
    let folder = folder(&[("t.json", format!("[{}]", records.join(between)))]);
    assert!(fs::metadata(folder.path().join("t.json")).unwrap().len() > 16 << 20);
    let plan = Flow::read("t.json").in_folder(folder.path()).plan().unwrap();
    assert_eq!(plan.columns().next().unwrap().1.to_string(), "text");
    let source = plan.sources()[0];
    assert!(!source.looked_at_all && source.rows_looked_at.unwrap() > 50_000, "{source:?}");
}

#[test]
fn every_file_of_a_glob_is_looked_at() {
    let mut files: Vec<(String, String)> =
        (0..30).map(|i| (format!("t{i:02}.csv"), "farm,litres\n1000,1\n".to_owned())).collect();
    files[17].1 = "farm,litres\n0042,1\n".to_owned();
    let files: Vec<(&str, String)> = files.iter().map(|(n, t)| (n.as_str(), t.clone())).collect();
    let folder = folder(&files);
    let plan = Flow::read("t*.csv").in_folder(folder.path()).plan().unwrap();
    assert_eq!(plan.columns().next().unwrap().1.to_string(), "text");
    assert!(plan.sources()[0].looked_at_all);
}

#[rstest]
#[case::floats("x\n1.5\n+2.5\n+3\n", "float")]
#[case::telephones("x\n+4930123\n4930124\n", "text")]
#[case::beyond_a_float("x\n1.5\n1e400\n", "text")]
#[case::infinite("x\n1.5\ninf\n", "float")]
fn types_of_signed_and_huge_numbers(#[case] text: &str, #[case] expected: &str) {
    let folder = folder(&[("t.csv", text.to_owned())]);
    let plan = Flow::read("t.csv").in_folder(folder.path()).plan().unwrap();
    assert_eq!(plan.columns().next().unwrap().1.to_string(), expected);
}

#[test]
fn a_number_beyond_the_largest_float_does_not_fit() {
    let folder = folder(&[("t.csv", "x\n1.5\n1e400\n".to_owned())]);
    let read = |options: &str| {
        Flow::steps(&format!("read 't.csv' with (types = (x float){options})")).in_folder(folder.path()).run()
    };
    assert_eq!(read("").unwrap_err().what(), "'1e400' is not a float.");
    let table = read(", bad_cells = null").unwrap();
    assert_eq!(table.ledger().total(churn::Event::BadCell), 1);
}

#[rstest]
#[case::data("1,x\n2,y\n", 2, "a row of data")]
#[case::a_heading("id,x\n2,y\n", 1, "a heading")]
#[case::texts_alone("a,x\nb,y\n", 1, "a heading")]
#[case::data_with_gaps("1,\n2,y\n", 2, "a row of data")]
fn names_without_a_word_about_a_heading(#[case] text: &str, #[case] rows: usize, #[case] taken_for: &str) {
    let folder = folder(&[("t.csv", text.to_owned())]);
    let flow = Flow::steps("read 't.csv' with (columns = (n, t))").in_folder(folder.path());
    assert_eq!(flow.run().unwrap().len(), rows);
    assert!(flow.plan().unwrap().notes()[0].contains(&format!("was taken for {taken_for}")));
    let said = Flow::steps("read 't.csv' with (columns = (n, t), header = true)").in_folder(folder.path());
    assert_eq!(said.run().unwrap().len(), 1);
}

proptest! {
    /// Whatever is inferred, no number loses a digit, a zero or a plus sign of a code: what is read is written back the
    /// same, or the run stops.
    #[test]
    fn codes_survive(codes in prop::collection::vec("[+-]?[0-9]{1,4}|0{1,3}[0-9]{1,3}|[0-9]{17,21}", 1..40), late in "0{0,2}[0-9]{1,3}") {
        let rows: String = codes.iter().map(|code| format!("{code},x\n")).collect();
        let folder = folder(&[("a.csv", format!("code,t\n{rows}")), ("b.csv", format!("code,t\n{late},x\n"))]);
        let flow = Flow::read("*.csv").in_folder(folder.path());
        let table = flow.run_with(&RunOptions::new().block_bytes(16)).unwrap();
        let kind = table.columns().next().unwrap().1.to_string();
        let found: Vec<String> = table.values("code").unwrap().iter().map(Scalar::plain).collect();
        let all: Vec<String> = codes.iter().cloned().chain([late]).collect();
        if kind == "text" || kind == "int" {
            let plain = |code: &String| if kind == "int" && code == "-0" { "0".to_owned() } else { code.clone() };
            prop_assert_eq!(found, all.iter().map(plain).collect::<Vec<_>>());
        } else {
            prop_assert!(false, "codes were read as {}", kind);
        }
    }
}
