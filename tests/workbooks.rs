//! Workbooks: cells far apart, days beyond the calendar, and what is held while they are read.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::io::{Read, Write};

use churn::{ErrorKind, Flow, RunOptions};
use rstest::rstest;
use rust_xlsxwriter::{Format, Workbook};
use tempfile::TempDir;

/// A workbook in a folder, filled by a function.
fn book(fill: impl Fn(&mut rust_xlsxwriter::Worksheet)) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let mut book = Workbook::new();
    fill(book.add_worksheet());
    book.save(folder.path().join("t.xlsx")).unwrap();
    folder
}

fn read(folder: &TempDir, with: &str) -> Flow {
    Flow::steps(&format!("read 't.xlsx'{with}")).in_folder(folder.path())
}

#[rstest]
#[case::the_last_day(2_958_465.0, "9999-12-31")]
#[case::a_day_behind(2_958_466.0, "2958466")]
#[case::far_behind(1e9, "1000000000")]
#[case::before_the_first(-1.0, "-1")]
#[case::a_moment(45_000.25, "2023-03-15 06:00:00")]
#[case::a_time(0.25, "06:00:00")]
fn days_beyond_the_calendar_stay_numbers(#[case] number: f64, #[case] expected: &str) {
    let folder = book(|sheet| {
        sheet.write_string(0, 0, "day").unwrap();
        let date = Format::new().set_num_format("yyyy-mm-dd hh:mm:ss");
        sheet.write_number_with_format(1, 0, number, &date).unwrap();
    });
    let table = read(&folder, " with (types = (day text))").run().unwrap();
    assert_eq!(table.value(0, "day").unwrap().plain(), expected);
}

#[test]
fn cells_far_apart_take_little() {
    let folder = book(|sheet| {
        sheet.write_string(0, 0, "farm").unwrap();
        sheet.write_string(1_048_575, 3, "F1").unwrap();
    });
    let options = RunOptions::new().memory(32 << 20);
    let table = read(&folder, " with (header = false)").run_with(&options).unwrap();
    assert_eq!(table.len(), 2);
}

/// A workbook with the cell's place rewritten.
fn with_place(place: &str) -> TempDir {
    let folder = book(|sheet| {
        sheet.write_number(0, 0, 1).unwrap();
    });
    let path = folder.path().join("t.xlsx");
    let mut old = zip::ZipArchive::new(std::fs::File::open(&path).unwrap()).unwrap();
    let mut new = zip::ZipWriter::new(std::fs::File::create(folder.path().join("new.xlsx")).unwrap());
    for number in 0..old.len() {
        let mut part = old.by_index(number).unwrap();
        let mut text = String::new();
        part.read_to_string(&mut text).unwrap();
        new.start_file(part.name().unwrap(), zip::write::SimpleFileOptions::default()).unwrap();
        new.write_all(text.replace("r=\"A1\"", &format!("r=\"{place}\"")).as_bytes()).unwrap();
    }
    new.finish().unwrap();
    std::fs::rename(folder.path().join("new.xlsx"), path).unwrap();
    folder
}

/// A cell that says that it lies where no sheet has one: no row is as wide as it asks for, and its reader may panic on it.
#[rstest]
#[case::the_last_column("XFD1", true)]
#[case::a_column_behind("XFE1", false)]
#[case::far_to_the_right("ZZZZZZ1", false)]
#[case::more_than_a_number_holds("ZZZZZZZZ1", false)]
#[case::below_the_last_row("A1048577", false)]
#[case::a_row_that_no_number_holds("A99999999999", false)]
fn a_cell_outside_its_sheet_is_told(#[case] place: &str, #[case] is_in: bool) {
    let folder = with_place(place);
    let result = read(&folder, " with (header = false)").run_with(&RunOptions::new().memory(32 << 20));
    if is_in {
        assert_eq!(result.unwrap().len(), 1);
    } else {
        let error = result.unwrap_err();
        assert_eq!(error.kind(), ErrorKind::Input, "{error}");
        assert!(error.to_string().contains("t.xlsx cannot be read as a workbook"), "{error}");
    }
}

#[test]
fn an_area_that_no_sheet_has_is_told() {
    let folder = book(|sheet| {
        sheet.write_number(0, 0, 1).unwrap();
    });
    let error = read(&folder, " with (area = 'A1:ZZZZZZ2')").check().unwrap_err();
    assert!(error.to_string().contains("ZZZZZZ2"), "{error}");
}

/// Texts that cells share are held together: more than the run may use is refused before it starts.
#[test]
fn texts_that_do_not_fit_are_told() {
    let folder = book(|sheet| {
        sheet.write_string(0, 0, "note").unwrap();
        for row in 1..20_000 {
            sheet.write_string(row, 0, format!("a note of the driver, number {row}")).unwrap();
        }
    });
    let small = RunOptions::new().memory(1 << 20);
    let error = read(&folder, "").run_with(&small).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Memory);
    let told = error.to_string();
    assert!(told.contains("t.xlsx") && told.contains("--memory") && told.contains("1.0 MB"), "{told}");
    assert_eq!(read(&folder, "").run_with(&RunOptions::new().memory(32 << 20)).unwrap().len(), 19_999);
}

/// A sheet of a few letters that repeats a row of repeated cells, or whose cells are far apart.
#[rstest]
#[case::repeated_rows("table:number-rows-repeated='1000000'", "table:number-columns-repeated='10000'", "")]
#[case::repeated_cells(
    "",
    "table:number-columns-repeated='16384'",
    &"<table:table-row><table:table-cell office:value-type='float' office:value='1' \
      table:number-columns-repeated='16384'/></table:table-row>".repeat(40_000)
)]
#[case::far_corners(
    "",
    "",
    "<table:table-row table:number-rows-repeated='1000000'><table:table-cell/></table:table-row><table:table-row>\
     <table:table-cell table:number-columns-repeated='16000'/><table:table-cell office:value-type='float' \
     office:value='1'/></table:table-row>"
)]
fn a_small_sheet_that_unfolds_to_a_large_one_is_told(
    #[case] row: &str,
    #[case] cell: &str,
    #[case] more: &str,
) {
    let folder = tempfile::tempdir().unwrap();
    let mut file = zip::ZipWriter::new(std::fs::File::create(folder.path().join("t.ods")).unwrap());
    let mut part = |name: &str, text: &str| {
        file.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        file.write_all(text.as_bytes()).unwrap();
    };
    part("mimetype", "application/vnd.oasis.opendocument.spreadsheet");
    part("META-INF/manifest.xml", "<manifest:manifest/>");
    part(
        "content.xml",
        &format!(
            "<office:document-content><office:body><office:spreadsheet><table:table table:name='t'>\
             <table:table-row {row}><table:table-cell office:value-type='float' office:value='1' {cell}/>\
             </table:table-row>{more}</table:table></office:spreadsheet></office:body></office:document-content>"
        ),
    );
    file.finish().unwrap();
    let flow = Flow::steps("read 't.ods' with (header = false)").in_folder(folder.path());
    let error = flow.run_with(&RunOptions::new().memory(256 << 20)).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Memory, "{error}");
}
