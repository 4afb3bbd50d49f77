//! How files are written: decimals, line ends, encodings, sheets of workbooks; and archives that are read.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs::{self, File};
use std::io::{Read, Write};

use churn::{Flow, RunOptions, Scalar};
use rstest::rstest;
use tempfile::TempDir;

const VALUES: &str = "values farm, litres, price, day\n  'Höfe', 1.5, 2.25, date '2026-01-31'\n  \
                      'F2', -1000.25, null, null\n  null, 3.0, 1.0e300, date '2026-02-01'";

fn run(folder: &TempDir, recipe: &str) -> churn::Result<churn::Table> {
    Flow::recipe(recipe).in_folder(folder.path()).run_with(&RunOptions::new().threads(2))
}

fn milk(write: &str) -> String {
    format!("values farm, litres, day\n  'Höfe', 1.5, date '2026-01-31'\n  'F; 2', -1000.25, null\n{write}")
}

#[rstest]
#[case::decimal(
    "separator = ';', decimal = ','",
    "farm;litres;day\nHöfe;1,5;2026-01-31\n\"F; 2\";-1000,25;\n"
)]
#[case::decimal_of_tabs(
    "format = tsv, decimal = ','",
    "farm\tlitres\tday\nHöfe\t1,5\t2026-01-31\nF; 2\t-1000,25\t\n"
)]
#[case::line_ends("line_end = crlf", "farm,litres,day\r\nHöfe,1.5,2026-01-31\r\nF; 2,-1000.25,\r\n")]
#[case::quoted_line_ends(
    "line_end = crlf, quote = always, header = false",
    "\"Höfe\",1.5,2026-01-31\r\n\"F; 2\",-1000.25,\r\n"
)]
#[case::mark("encoding = 'utf-8-bom', header = false", "\u{feff}Höfe,1.5,2026-01-31\nF; 2,-1000.25,\n")]
fn text_is_written(#[case] options: &str, #[case] expected: &str) {
    let folder = tempfile::tempdir().unwrap();
    run(&folder, &milk(&format!("write 'out.csv' with ({options})"))).unwrap();
    assert_eq!(fs::read_to_string(folder.path().join("out.csv")).unwrap(), expected);
}

#[test]
fn other_encodings_are_written() {
    let folder = tempfile::tempdir().unwrap();
    run(&folder, &milk("write 'out.csv' with (encoding = 'latin1')")).unwrap();
    assert_eq!(
        fs::read(folder.path().join("out.csv")).unwrap(),
        b"farm,litres,day\nH\xf6fe,1.5,2026-01-31\nF; 2,-1000.25,\n"
    );
    run(&folder, &milk("write 'out.csv' with (encoding = 'utf-16')")).unwrap();
    let expected = "\u{feff}farm,litres,day\nHöfe,1.5,2026-01-31\nF; 2,-1000.25,\n";
    let units: Vec<u8> = expected.encode_utf16().flat_map(u16::to_le_bytes).collect();
    assert_eq!(fs::read(folder.path().join("out.csv")).unwrap(), units);
}

/// What is written by some options reads back by the same: row by row, sorted, split into folders, and compressed.
#[rstest]
fn text_reads_back(
    #[values(
        "",
        "line_end = crlf",
        "separator = ';', decimal = ','",
        "quote = always, decimal = ',', separator = tab"
    )]
    options: &str,
    #[values("", "encoding = 'utf-16'", "encoding = 'latin1'", "encoding = 'utf-8-bom'")] encoding: &str,
    #[values("", "sort litres\n")] sort: &str,
    #[values("out.csv", "out.csv.gz")] name: &str,
) {
    let folder = tempfile::tempdir().unwrap();
    let all: Vec<&str> = [options, encoding].into_iter().filter(|o| !o.is_empty()).collect();
    let with = if all.is_empty() { String::new() } else { format!(" with ({})", all.join(", ")) };
    let rows = "values farm, litres, n\n  'Höfe, \"1\"', 1.5, 1\n  'F\n2', -0.25, 2\n  null, 3.0, 3\n  '', null, 4\n";
    let written = run(&folder, &format!("{rows}{sort}write '{name}'{with}")).unwrap();
    let reading = |option: &&&str| !option.is_empty() && !option.starts_with("line_end");
    let options: Vec<String> = [options.replace("quote = always, ", "").as_str(), encoding]
        .iter()
        .filter(reading)
        .map(|o| o.replace("utf-8-bom", "utf-8"))
        .collect();
    let with = if options.is_empty() { String::new() } else { format!(" with ({})", options.join(", ")) };
    let again = run(&folder, &format!("read '{name}'{with}")).unwrap();
    let cells =
        |table: &churn::Table| format!("{:?}", ["farm", "litres", "n"].map(|n| table.values(n).unwrap()));
    assert_eq!(cells(&again), cells(&written));
}

#[rstest]
#[case::same_characters("write 'x.csv' with (decimal = ',')", "decimal and separator are the same")]
#[case::a_digit("write 'x.csv' with (decimal = '1')", "one ASCII character")]
#[case::no_encoding("write 'x.csv' with (encoding = 'ebcdic')", "'utf-16' or 'latin1'")]
#[case::no_line_end("write 'x.csv' with (line_end = cr)", "lf or crlf")]
#[case::of_a_sheet("write 'x.xlsx' with (line_end = crlf)", "line_end is for delimited text")]
#[case::of_text("write 'x.csv' with (sheet = 'A')", "sheet is for workbooks")]
#[case::name_of_a_sheet("write 'x.xlsx' with (sheet = 'a:b')", "it has no :")]
#[case::long_name_of_a_sheet(
    "write 'x.xlsx' with (sheet = 'a name of more than thirty-one letters')",
    "1 to 31"
)]
#[case::sheet_twice(
    "write 'x.xlsx' with (sheet = 'A')\nwrite 'x.xlsx' with (sheet = 'a')",
    "The sheet a of x.xlsx is written twice"
)]
#[case::sheet_and_none(
    "write 'x.xlsx'\nwrite 'x.xlsx' with (sheet = 'a')",
    "once without the name of a sheet"
)]
#[case::format_of_no_column("write 'x.xlsx' with (number_formats = (litters '0.0'))", "Did you mean litres?")]
#[case::appended_sheet("write 'x.xlsx' with (mode = append)", "Rows cannot be appended to a workbook")]
#[case::appended_utf16(
    "write 'x.csv' with (mode = append, encoding = 'utf-16')",
    "cannot be appended to UTF-16"
)]
#[case::an_archive("write 'x.csv.zip' with (format = csv)", "Zip archives are read, not written")]
#[case::lacking(
    "add farm = farm || '漢'\nwrite 'x.csv' with (encoding = 'latin1')",
    "'漢' cannot be written as latin1: the column farm"
)]
#[case::lacking_in_the_heading(
    "rename 漢 = farm\nwrite 'x.csv' with (encoding = 'latin1')",
    "cannot be written as latin1"
)]
fn refused(#[case] write: &str, #[case] expected: &str) {
    let folder = tempfile::tempdir().unwrap();
    let error = run(&folder, &milk(write)).unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
}

/// The text of a part of a workbook.
fn part(folder: &TempDir, name: &str) -> String {
    let mut archive = zip::ZipArchive::new(File::open(folder.path().join("out.xlsx")).unwrap()).unwrap();
    let mut text = String::new();
    archive.by_name(name).unwrap().read_to_string(&mut text).unwrap();
    text
}

/// Sheets stand in the order of the steps that write them, whichever runs first.
#[test]
fn several_steps_write_sheets_of_one_workbook() {
    let folder = tempfile::tempdir().unwrap();
    let recipe = "table farms\n  values farm, herd: ('F1', 40), ('F2', 12)\n  write 'out.xlsx' with (sheet = 'Farms')\n\
                  table aside\n  values x: (1)\n  write 'out.xlsx' with (sheet = 'Aside')\n\
                  read farms\ntotal: herd = sum(herd)\nwrite 'out.xlsx' with (sheet = 'All of them')";
    run(&folder, recipe).unwrap();
    let book = part(&folder, "xl/workbook.xml");
    let places: Vec<usize> =
        ["\"Farms\"", "\"Aside\"", "\"All of them\""].map(|n| book.find(n).unwrap()).into();
    assert!(places.is_sorted(), "{book}");
    for (sheet, column, expected) in [("Farms", "herd", 40), ("Aside", "x", 1), ("All of them", "herd", 52)] {
        let table = run(&folder, &format!("read 'out.xlsx' with (sheet = '{sheet}')")).unwrap();
        assert_eq!(table.value(0, column).unwrap(), Scalar::Int(expected));
    }
}

#[test]
fn numbers_and_widths_of_a_sheet() {
    let folder = tempfile::tempdir().unwrap();
    let recipe = format!(
        "{VALUES}\nadd worth = cast(litres as decimal(9, 2)), name = 'a text of thirty characters …'\n\
         write 'out.xlsx' with (number_formats = (litres '#,##0.0'))"
    );
    let written = run(&folder, &recipe).unwrap();
    let styles = part(&folder, "xl/styles.xml");
    for format in ["#,##0.0", "yyyy-mm-dd", "0.00"] {
        // The last is one of those that workbooks have by number.
        assert!(styles.contains(format) || styles.contains("numFmtId=\"2\""), "{format}: {styles}");
    }
    let sheet = part(&folder, "xl/worksheets/sheet1.xml");
    assert!(sheet.contains("<pane") && sheet.contains("state=\"frozen\""), "{sheet}");
    let widths: Vec<f64> = sheet
        .split("<col ")
        .skip(1)
        .map(|col| col.split("width=\"").nth(1).unwrap().split('"').next().unwrap().parse().unwrap())
        .collect();
    assert_eq!(widths.len(), 6, "{sheet}");
    assert!(widths[5] > 30.0 && widths[0] < 10.0, "{widths:?}");
    let again = run(&folder, "read 'out.xlsx'").unwrap();
    assert_eq!(again.values("litres").unwrap(), written.values("litres").unwrap());
    assert_eq!(again.values("day").unwrap(), written.values("day").unwrap());
}

/// Nothing of a workbook is seen unless all its sheets were written.
#[test]
fn a_workbook_is_complete_or_not_there() {
    let folder = tempfile::tempdir().unwrap();
    let recipe = "table farms\n  values farm: ('F1')\n  write 'out.xlsx' with (sheet = 'A')\n\
                  values x: (1), (2)\nwrite 'out.xlsx' with (sheet = 'B')\nrequire x < 2";
    assert!(run(&folder, recipe).is_err());
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
}

fn archived(folder: &TempDir, archive: &str, files: &[(&str, &str)]) {
    let mut writer = zip::ZipWriter::new(File::create(folder.path().join(archive)).unwrap());
    for (name, text) in files {
        writer.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        writer.write_all(text.as_bytes()).unwrap();
    }
    writer.finish().unwrap();
}

#[rstest]
#[case::csv("t.csv", "farm,litres\nF1,1\nF2,2\n")]
#[case::without_an_ending("t", "farm,litres\nF1,1\nF2,2\n")]
#[case::tsv("t.tsv", "farm\tlitres\nF1\t1\nF2\t2\n")]
#[case::ndjson("t.ndjson", "{\"farm\":\"F1\",\"litres\":1}\n{\"farm\":\"F2\",\"litres\":2}\n")]
#[case::json("in/a/folder/t.json", "[{\"farm\":\"F1\",\"litres\":1},\n{\"farm\":\"F2\",\"litres\":2}]\n")]
fn text_within_an_archive_is_read(#[case] name: &str, #[case] text: &str) {
    let folder = tempfile::tempdir().unwrap();
    archived(&folder, "milk.zip", &[(name, text)]);
    fs::write(folder.path().join("more.csv"), "farm,litres\nF3,3\n").unwrap();
    let table =
        run(&folder, "read 'milk.zip'\nappend 'more.csv'\ntotal: s = sum(litres), n = count()").unwrap();
    assert_eq!(table.value(0, "s").unwrap(), Scalar::Int(6));
    let plan = Flow::recipe("read 'milk.zip'").in_folder(folder.path()).plan().unwrap();
    assert!(plan.sources()[0].bytes.is_some());
}

#[test]
fn large_text_within_an_archive_is_read_in_any_blocks() {
    let folder = tempfile::tempdir().unwrap();
    let rows: String = (0..200_000).map(|i| format!("{i},F{}\n", i % 97)).collect();
    let text = format!("n,farm\n{rows}");
    archived(&folder, "milk.csv.zip", &[("milk.csv", &text)]);
    for (threads, block) in [(1, 1 << 20), (2, 1 << 12), (7, 1 << 16)] {
        let flow = Flow::recipe("read 'milk.csv.zip'\ntotal: s = sum(n), f = count_distinct(farm)");
        let options = RunOptions::new().threads(threads).block_bytes(block);
        let table = flow.in_folder(folder.path()).run_with(&options).unwrap();
        assert_eq!(table.value(0, "s").unwrap(), Scalar::Int(19_999_900_000));
        assert_eq!(table.value(0, "f").unwrap(), Scalar::Int(97));
    }
}

#[rstest]
#[case::several(&[("a.csv", "x\n1\n"), ("b.csv", "x\n1\n")], "several files, a.csv and b.csv")]
#[case::none(&[], "holds no file")]
#[case::columnar(&[("a.parquet", "PAR1")], "only text is read within an archive")]
#[case::workbook(&[("a.xlsx", "PK")], "only text is read within an archive")]
fn other_archives_are_refused(#[case] files: &[(&str, &str)], #[case] expected: &str) {
    let folder = tempfile::tempdir().unwrap();
    archived(&folder, "milk.zip", files);
    let error = run(&folder, "read 'milk.zip'").unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
}

#[rstest]
#[case::csv("csv")]
#[case::ndjson("ndjson")]
#[case::parquet("parquet")]
#[case::arrow("arrow")]
fn strict_reading_refuses_files_of_other_columns(#[case] ending: &str) {
    let folder = tempfile::tempdir().unwrap();
    let write =
        |name: &str, values: &str| run(&folder, &format!("{values}\nwrite '{name}.{ending}'")).unwrap();
    write("a1", "values farm, litres: ('F1', 1)");
    write("a2", "values litres, farm: (2, 'F2')");
    write("b1", "values farm: ('F3')");
    let total = |pattern: &str, strict: &str| {
        run(&folder, &format!("read '{pattern}.{ending}'{strict}\ntotal: s = sum(litres), n = count()"))
    };
    assert_eq!(total("a*", " strict").unwrap().value(0, "s").unwrap(), Scalar::Int(3));
    assert_eq!(total("??", "").unwrap().value(0, "n").unwrap(), Scalar::Int(3));
    let error = total("??", " strict").unwrap_err().to_string();
    assert!(error.contains(&format!("a1.{ending} has a column litres, and b1.{ending} has none")), "{error}");
}
