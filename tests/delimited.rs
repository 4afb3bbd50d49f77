//! Delimited text as it is found in the wild, and the `csv` crate as a second opinion.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::io::Write;

use churn::{Event, Flow, RunOptions, Scalar, Table};
use proptest::prelude::*;
use rstest::rstest;
use tempfile::TempDir;

fn folder(files: &[(&str, &[u8])]) -> TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    for (name, bytes) in files {
        fs::write(folder.path().join(name), bytes).expect("a file");
    }
    folder
}

/// The rows as text, null as `·`, under a line of names with types.
fn shown(table: &Table) -> String {
    let heading: Vec<String> = table.columns().map(|(n, t)| format!("{n}:{t}")).collect();
    let columns: Vec<Vec<Scalar>> =
        table.columns().map(|(n, _)| table.values(n).expect("a column")).collect();
    let mut text = heading.join("|");
    for row in 0..table.len() {
        let cell = |v: &Scalar| if v.is_null() { "·".to_owned() } else { v.plain() };
        text += &("\n".to_owned() + &columns.iter().map(|c| cell(&c[row])).collect::<Vec<_>>().join("|"));
    }
    text
}

fn read(text: &[u8], options: &str) -> String {
    let folder = folder(&[("t.csv", text)]);
    let step =
        if options.is_empty() { "read 't.csv'".to_owned() } else { format!("read 't.csv' with ({options})") };
    let flow = Flow::steps(&step).in_folder(folder.path());
    let whole = shown(&flow.run().unwrap_or_else(|e| panic!("{e}")));
    // Blocks of a few bytes give the same.
    let small = flow.run_with(&RunOptions::new().threads(2).block_bytes(7)).unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(shown(&small), whole);
    whole
}

#[rstest]
#[case::plain("a,b\n1,x\n2,y\n", "", "a:int|b:text\n1|x\n2|y")]
#[case::crlf_and_no_last_line_end("a,b\r\n1,x\r\n2,y", "", "a:int|b:text\n1|x\n2|y")]
#[case::byte_order_mark("\u{feff}a,b\n1,x\n", "", "a:int|b:text\n1|x")]
#[case::quotes("a,b\n1,\"x, \"\"y\"\"\nz\"\n", "", "a:int|b:text\n1|x, \"y\"\nz")]
#[case::null_and_empty("a,b\n1,\n2,\"\"\n", "", "a:int|b:text\n1|·\n2|")]
#[case::empty_quotes_in_numbers("a,b\n\"1\",x\n\"\",y\n", "", "a:int|b:text\n1|x\n·|y")]
#[case::zeros_are_kept("id\n00042\n00007\n", "", "id:text\n00042\n00007")]
#[case::too_long_for_int("id\n12345678901234567890\n", "", "id:text\n12345678901234567890")]
#[case::mixed_numbers("a\n1\n2.5\n", "", "a:float\n1.0\n2.5")]
#[case::dates(
    "a,b,c\n2026-03-01,06:30,2026-03-01T06:30:00Z\n",
    "",
    "a:date|b:time|c:timestamp\n2026-03-01|06:30:00|2026-03-01 06:30:00"
)]
#[case::a_date_among_texts("a\n2026-03-01\nsoon\n", "", "a:text\n2026-03-01\nsoon")]
#[case::blank_and_repeated_headings("a,,a\n1,2,3\n", "", "a:int|column_2:int|a_2:int\n1|2|3")]
#[case::a_heading_of_blanks("a, \n1,2\n", "", "a:int|column_2:int\n1|2")]
#[case::no_heading("1,x\n2,y\n", "header = false", "column_1:int|column_2:text\n1|x\n2|y")]
#[case::names_of_its_own("1,x\n", "header = false, columns = (n, \"Fat %\")", "n:int|Fat %:text\n1|x")]
#[case::two_heading_rows(
    "2026,,2025\nA,B,A\n1,2,3\n",
    "header = 2",
    "2026 | A:int|2026 | B:int|2025 | A:int\n1|2|3"
)]
#[case::skipped_lines("made by hand\n\na,b\n1,2\n", "skip = 2", "a:int|b:int\n1|2")]
#[case::comments("# made, \"by hand\na,b\n1,2\n#3,4\n5,6\n", "comment = '#'", "a:int|b:int\n1|2\n5|6")]
#[case::semicolons_and_commas(
    "a;b\n1.234,5;x\n",
    "separator = ';', decimal = ',', thousands = '.'",
    "a:float|b:text\n1234.5|x"
)]
#[case::tabs("a\tb\n1\tx\n", "separator = tab", "a:int|b:text\n1|x")]
#[case::marks_of_missing("a,b\nNA,-\n1,x\n", "missing = ('NA', '-')", "a:int|b:text\n·|·\n1|x")]
#[case::day_first("d\n31/12/2026\n01/02/2026\n", "dates = '%d/%m/%Y'", "d:date\n2026-12-31\n2026-02-01")]
#[case::explicit_types(
    "a,b,c\n007,1,12.50\n",
    "types = (a int, b text, c decimal(6, 2))",
    "a:int|b:text|c:decimal(6, 2)\n7|1|12.50"
)]
#[case::bad_cells("a\n1\nx\n", "types = (a int), bad_cells = null", "a:int\n1\n·")]
#[case::padded("a,b\n1,2\n3\n\"4\n\"\n7,8\n", "bad_rows = pad", "a:int|b:int\n1|2\n3|·\n4|·\n7|8")]
#[case::padded_of_another_null("a,b\n1,2\n3\n", "bad_rows = pad, missing = ('NA')", "a:int|b:int\n1|2\n3|·")]
#[case::patterns_of_columns(
    "a,b,c\n31/12/2026,12.31.2026 06:30,2026-01-31\n01/02/2026,,2026-02-01\n",
    "types = (a date '%d/%m/%Y', b timestamp '%m.%d.%Y %H:%M')",
    "a:date|b:timestamp|c:date\n2026-12-31|2026-12-31 06:30:00|2026-01-31\n2026-02-01|·|2026-02-01"
)]
#[case::a_pattern_beside_that_of_all(
    "a,b\n31/12/2026,12-2026-31\n",
    "dates = '%d/%m/%Y', types = (b date '%m-%Y-%d')",
    "a:date|b:date\n2026-12-31|2026-12-31"
)]
#[case::ragged("a,b\n1,2\n3\n4,5,6\n7,8\n", "bad_rows = skip", "a:int|b:int\n1|2\n7|8")]
#[case::blank_lines("a,b\n\n1,2\n\n\n3,4\n", "", "a:int|b:int\n1|2\n3|4")]
#[case::one_column_with_nulls("a\n1\n\n3\n", "", "a:int\n1\n·\n3")]
#[case::stray_quotes("a,b\n5\" pipe,x\n6\" pipe,y\n", "", "a:text|b:text\n5\" pipe|x\n6\" pipe|y")]
#[case::no_quotes("a,b\n\"x,1\ny\",2\n", "quote = none", "a:text|b:int\n\"x|1\ny\"|2")]
#[case::floats("a\nNaN\n-inf\n1e3\n.5\n", "", "a:float\nNaN\n-inf\n1000.0\n0.5")]
#[case::only_a_heading("a,b\n", "", "a:null|b:null")]
#[case::all_null("a,b\n,\n,\n", "", "a:null|b:null\n·|·\n·|·")]
#[case::an_empty_text_is_a_text("a,b\n\"\",1\n,2\n", "", "a:text|b:int\n|1\n·|2")]
#[case::a_blank_that_is_no_null("a,b\n,1\nNA,2\n", "missing = ('NA')", "a:text|b:int\n|1\n·|2")]
#[case::blank_of_a_type("a,b\n,1\n", "types = (a float)", "a:float|b:int\n·|1")]
fn read_as_expected(#[case] text: &str, #[case] options: &str, #[case] expected: &str) {
    assert_eq!(read(text.as_bytes(), options), expected);
}

#[test]
fn encodings() {
    let utf16: Vec<u8> = "\u{feff}farm,litres\nHöfe,1\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
    assert_eq!(read(&utf16, "encoding = 'utf-16'"), "farm:text|litres:int\nHöfe|1");
    assert_eq!(read(b"farm,litres\nH\xf6fe,1\n", "encoding = 'latin1'"), "farm:text|litres:int\nHöfe|1");
}

/// Found by fuzzing: an odd byte at the end of UTF-16 text, read in small blocks.
#[test]
fn half_a_character_at_the_end() {
    let mut bytes: Vec<u8> = "\u{feff}é€".encode_utf16().flat_map(u16::to_le_bytes).collect();
    bytes.push(b'x');
    let folder = folder(&[("t.csv", &bytes)]);
    let error = Flow::steps("read 't.csv' with (header = false)").in_folder(folder.path()).run().unwrap_err();
    assert!(error.what().contains("byte 6 is not UTF-16LE"), "{error}");
}

#[test]
fn compressed_files_and_folders() {
    let folder = folder(&[("b.csv", b"a,b\n1,x\n")]);
    let mut gz = flate2_writer(folder.path().join("a.csv.gz"));
    gz.write_all(b"a,c\n2,true\n").expect("bytes");
    gz.finish().expect("an end");
    let flow = Flow::steps("read '.' with (file_column = 'from')").in_folder(folder.path());
    assert_eq!(
        shown(&flow.run().expect("a table")),
        "a:int|c:bool|b:text|from:text\n2|true|·|a.csv.gz\n1|·|x|b.csv"
    );
}

fn flate2_writer(path: std::path::PathBuf) -> flate2::write::GzEncoder<fs::File> {
    flate2::write::GzEncoder::new(fs::File::create(path).expect("a file"), flate2::Compression::fast())
}

#[test]
fn rejects_are_kept_as_they_stood() {
    let folder = folder(&[("t.csv", b"a,b\n1,2\n3\n4,5,\"6\"\n7,8\n")]);
    let flow = Flow::steps("read 't.csv' with (bad_rows = 'rejects.csv')").in_folder(folder.path());
    let table = flow.run_with(&RunOptions::new().block_bytes(5)).expect("a table");
    assert_eq!(table.ledger().total(Event::RaggedRow), 2);
    assert_eq!(fs::read_to_string(folder.path().join("rejects.csv")).expect("the file"), "3\n4,5,\"6\"\n");
}

#[test]
fn notes_tell_what_may_be_wrong() {
    let note = |text: &str| {
        let folder = folder(&[("t.csv", text.as_bytes())]);
        Flow::read("t.csv").in_folder(folder.path()).plan().expect("a plan").notes().join("\n")
    };
    assert!(note("a;b;c\n1;2;3\n").contains("separated by ';'"));
    assert!(note("day\n31/12/2026\n30/12/2026\n").contains("dates = '%d/%m/%Y'"));
    let dates: String = (10..30).map(|d| format!("2026-01-{d}\n")).collect();
    assert!(note(&format!("day\n{dates}n/a\n")).contains("(types = (day date), bad_cells = null)"));
    assert!(note("1,2,3\n4,5,6\n").contains("header = false"));
    assert_eq!(note("a,b\n1,x\n"), "");
}

#[test]
fn a_failed_run_leaves_the_old_file_and_nothing_else() {
    let folder = folder(&[("t.csv", b"a,b\n1,x\n2,y\n"), ("out.csv", b"old\n")]);
    let flow = Flow::steps("read 't.csv' with (types = (b int))\nwrite 'out.csv'").in_folder(folder.path());
    assert!(flow.plan().unwrap().run_for_effect(&RunOptions::new()).is_err());
    assert_eq!(fs::read_to_string(folder.path().join("out.csv")).expect("the file"), "old\n");
    assert_eq!(fs::read_dir(folder.path()).expect("the folder").count(), 2);
    // A file is not read and written in one run.
    let source = Flow::read("t.csv").in_folder(folder.path());
    let error = source.clone().filter("a > 1").then("write 't.csv'").run().unwrap_err();
    assert_eq!(error.what(), "t.csv is read, and would be written as well.");
    source.clone().then("write 'out.csv'").run().expect("a run");
    source.filter("a > 1").then("write 'out.csv' with (mode = append)").run().expect("a run");
    assert_eq!(fs::read_to_string(folder.path().join("out.csv")).expect("the file"), "a,b\n1,x\n2,y\n2,y\n");
}

#[test]
fn a_tap_sees_every_row_whatever_follows() {
    let text: String = (0..5000).map(|i| format!("{i},x\n")).collect();
    let folder = folder(&[("t.csv", format!("a,b\n{text}").as_bytes())]);
    let flow = Flow::steps("read 't.csv'\nwrite 'all.csv'\nfirst 3").in_folder(folder.path());
    assert_eq!(flow.run_with(&RunOptions::new().block_bytes(100)).expect("a table").len(), 3);
    assert_eq!(fs::read_to_string(folder.path().join("all.csv")).expect("the file").lines().count(), 5001);
}

/// Cells that delimited text finds hard.
fn cell() -> impl Strategy<Value = String> {
    prop_oneof!["[a-z]{0,3}", "[a-z,\"\n ]{0,12}", Just("\"".to_owned()), Just("€ \u{1f404}".to_owned())]
}

/// Cells of every form that a type may be read from, so that a row may or may not stand as it would be written.
fn cells() -> impl Strategy<Value = Vec<[String; 5]>> {
    let cell = (
        "-?[1-9][0-9]{0,9}|[+]?0?[0-9]| 7|",
        "-?[0-9]{1,4}[.][0-9]{1,5}|[0-9]{1,7}|[0-9]e[0-9]|[.]5|",
        "20[0-9]{2}-0[1-9]-1[0-9]|",
        "true|false|TRUE|",
        "[a-zé]{0,20}|\"[a-z,]{0,9}\"|\"\"|5\" pipe|\u{feff}x",
    );
    prop::collection::vec(cell.prop_map(|(a, b, c, d, e)| [a, b, c, d, e]), 1..80)
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn rows_that_stand_as_they_are_written_are_written_the_same(rows in cells(), ending in "\n|\r\n", last in any::<bool>()) {
        let lines: Vec<String> = rows.iter().map(|cells| cells.join(",")).collect();
        let text = format!("a,b,c,d,e{ending}{}{}", lines.join(&ending), if last { &ending } else { "" });
        let folder = folder(&[("t.csv", text.as_bytes())]);
        let read = "read 't.csv' with (types = (a int, b float, c date, d bool, e text), bad_cells = null)";
        for steps in [vec![], vec!["filter b > 3 or b is null"], vec!["sort a desc, b"], vec!["filter a > 1", "sort e"]] {
            let written = |how: &[&str]| {
                let steps = how.iter().chain(&steps).fold(Flow::steps(read).in_folder(folder.path()), |f, s| f.then(s));
                let plan = steps.then("write 'out.csv'").plan().unwrap();
                plan.run_for_effect(&RunOptions::new().threads(2)).unwrap_or_else(|e| panic!("{e}"));
                fs::read_to_string(folder.path().join("out.csv")).unwrap()
            };
            // Behind another step, rows are written from their values.
            prop_assert_eq!(written(&[]), written(&["first 1000"]));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// What churn writes, the `csv` crate and churn itself read back the same.
    #[test]
    fn what_is_written_reads_back(rows in prop::collection::vec((cell(), any::<f64>(), any::<Option<i32>>()), 1..20)) {
        let mut text = String::from("text,float,int\n");
        for (t, f, i) in &rows {
            let int = i.map(|i| i.to_string()).unwrap_or_default();
            text += &format!("\"{}\",{f:?},{int}\n", t.replace('"', "\"\""));
        }
        let folder = folder(&[("t.csv", text.as_bytes())]);
        let options = "with (types = (text text, float float, int int))";
        let first = Flow::steps(&format!("read 't.csv' {options}")).in_folder(folder.path());
        let out = folder.path().join("out.csv");
        first.write_with(&out, &RunOptions::new().block_bytes(40)).expect("a run");
        let again = Flow::steps(&format!("read 'out.csv' {options}")).in_folder(folder.path());
        prop_assert_eq!(shown(&again.run().expect("a table")), shown(&first.run().expect("a table")));
        let mut reader = csv::Reader::from_path(&out).expect("a reader");
        for (record, (t, _, _)) in reader.records().zip(&rows) {
            let record = record.expect("a record");
            prop_assert_eq!(record.get(0), Some(t.as_str()));
        }
    }

    /// With any separator and text for missing values, what is written reads back the same, or is refused.
    #[test]
    fn odd_separators_read_back(
        separator in prop::sample::select((b' '..=b'~').map(char::from).chain(['\t']).collect::<Vec<_>>()),
        missing in prop::sample::select(vec!["", "NA", "a", "-", "1", "0.5", "true", "2026-03-01", "a,b", "\"", ";", " "]),
        quote in prop::sample::select(vec!["needed", "always"]),
        cells in prop::collection::vec((cell(), prop::option::of(-3i64..20), prop::option::of(any::<f64>())), 1..6),
    ) {
        let quoted = |c: &str| format!("'{}'", c.replace('\'', "''"));
        let number = |n: Option<String>| n.unwrap_or_else(|| "null".to_owned());
        let mut table = String::from("values t, i, f, d, b, s\n  'F1', 1, 0.5, date '2026-03-01', true, timestamp '2026-03-01 06:30:00'\n");
        for (text, int, float) in &cells {
            let line = text.replace(['\n', '\r'], " ");
            let float = float.filter(|f| f.is_finite()).map(|f| format!("{f:?}"));
            table += &format!("  {}, {}, {}, null, false, null\n", quoted(&line), number(int.map(|i| i.to_string())), number(float));
        }
        let folder = folder(&[]);
        let options = format!("separator = {}, missing = {}", quoted(&separator.to_string()), quoted(missing));
        let types = "types = (t text, i int, f float, d date, b bool, s timestamp)";
        let write = format!("write 'out.csv' with ({options}, quote = {quote})");
        let given = Flow::steps(&table).in_folder(folder.path());
        let told = match given.clone().then(&write).plan() {
            Ok(plan) => plan.run_for_effect(&RunOptions::new()).map(drop),
            Err(error) => Err(error),
        };
        match told {
            Ok(()) => {
                let options = if missing.is_empty() { options.replace(", missing = ''", "") } else { options };
                let again = Flow::steps(&format!("read 'out.csv' with ({options}, {types})")).in_folder(folder.path());
                let again = again.run().map_err(|e| TestCaseError::fail(format!("{e}\n{:?}", fs::read_to_string(folder.path().join("out.csv")))))?;
                prop_assert_eq!(shown(&again), shown(&given.run().expect("a table")));
            }
            Err(error) => {
                let told = error.to_string();
                prop_assert!(told.contains("is written for null") || told.contains("cannot separate cells"), "{}", told);
            }
        }
    }

    /// Any bytes are read as the `csv` crate reads them, row by row, where every row has as many cells.
    #[test]
    fn read_as_the_csv_crate_reads(body in "[a-c,\"\n]{0,80}") {
        let text = format!("x,y\n{body}\n");
        let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(text.as_bytes());
        let expected: Vec<Vec<String>> = reader
            .records()
            .map(|r| r.expect("a record").iter().map(str::to_owned).collect::<Vec<_>>())
            .filter(|r| r.len() == 2)
            .collect();
        let folder = folder(&[("t.csv", text.as_bytes())]);
        let flow = Flow::steps("read 't.csv' with (types = (x text, y text), bad_rows = skip, missing = ('none'))");
        let found = flow.in_folder(folder.path()).run_with(&RunOptions::new().block_bytes(16));
        // A quote that never closes is an error here and the rest of the file there.
        if let Ok(table) = found {
            let columns = [table.values("x").expect("x"), table.values("y").expect("y")];
            let rows: Vec<Vec<String>> = (0..table.len()).map(|i| columns.iter().map(|c| c[i].plain()).collect()).collect();
            prop_assert_eq!(rows, expected);
        }
    }
}

/// A cell as it is written: in quotes where it must be, and at times where it need not.
fn written_cell() -> impl Strategy<Value = String> {
    let part = prop::sample::select(vec![
        "a",
        "1",
        " ",
        ",",
        ";",
        "\"",
        "\n",
        "\r\n",
        "\r",
        "ä",
        "text of some length ",
    ]);
    (prop::collection::vec(part, 0..6), any::<bool>()).prop_map(|(parts, quoted)| {
        let text = parts.concat();
        match quoted || text.contains([',', '"', '\n', '\r']) {
            true => format!("\"{}\"", text.replace('"', "\"\"")),
            false => text,
        }
    })
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 300, ..ProptestConfig::default() })]

    /// However the bytes are cut into blocks, the cells are those that the `csv` crate finds.
    #[test]
    fn cells_are_those_of_the_csv_crate(
        rows in prop::collection::vec(prop::array::uniform3(written_cell()), 1..12),
        ending in prop::sample::select(vec!["\n", "\r\n"]),
        last in any::<bool>(),
        block in 1usize..65,
        threads in 1usize..4,
    ) {
        let lines: Vec<String> = rows.iter().map(|cells| cells.join(",")).collect();
        let text = format!("\"a\nb\",c,\"d, e\"{ending}{}{}", lines.join(ending), if last { ending } else { "" });
        let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(text.as_bytes());
        let mut records = reader.records().map(|record| record.expect("a record"));
        let heading: Vec<String> = records.next().expect("a heading").iter().map(str::to_owned).collect();
        let expected: Vec<Vec<String>> = records.map(|record| record.iter().map(str::to_owned).collect()).collect();

        let folder = folder(&[("t.csv", text.as_bytes())]);
        let read = "read 't.csv' with (header = 1, types = ('a\nb' text, c text, 'd, e' text), separator = ',')";
        let read = read.replace("'a\nb'", "\"a\nb\"").replace("'d, e'", "\"d, e\"");
        let options = RunOptions::new().threads(threads).block_bytes(block);
        let table = Flow::steps(&read).in_folder(folder.path()).run_with(&options).unwrap_or_else(|e| panic!("{e}\n{text}"));
        let names: Vec<&str> = table.columns().map(|(name, _)| name).collect();
        prop_assert_eq!(&names, &heading);
        let columns: Vec<Vec<Scalar>> = names.iter().map(|name| table.values(name).expect("a column")).collect();
        let cell = |value: &Scalar| if value.is_null() { String::new() } else { value.plain() };
        let found: Vec<Vec<String>> =
            (0..table.len()).map(|row| columns.iter().map(|column| cell(&column[row])).collect()).collect();
        prop_assert_eq!(found, expected, "{:?}", text);
    }
}

#[rstest]
#[case(
    "types = (a date 'DD/MM/YYYY')",
    "'DD/MM/YYYY' is no pattern of dates: it has no part of a date, such as %Y, %m or %d."
)]
#[case("dates = 'DD/MM/YYYY'", "it has no part of a date")]
#[case("types = (a text '%d')", "'%d' is not expected here.")]
fn patterns_that_are_none_are_told(#[case] with: &str, #[case] what: &str) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), "a\n31/12/2026\n").unwrap();
    let error =
        Flow::steps(&format!("read 't.csv' with ({with})")).in_folder(folder.path()).check().unwrap_err();
    assert!(error.to_string().contains(what), "{error}");
    // A cell that is not written by its column's pattern is a bad cell as any other.
    let read = "read 't.csv' with (types = (a date '%m/%d/%Y'), bad_cells = null)";
    let table = Flow::steps(read).in_folder(folder.path()).run().unwrap();
    assert_eq!(table.ledger().total(churn::Event::BadCell), 1);
}
