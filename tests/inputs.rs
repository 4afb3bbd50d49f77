//! Text as other programs write it: encodings, line ends, lines to skip, records of JSON.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use arrow_array::Array;
use churn::{Error, Flow, RunOptions, Table};
use rstest::rstest;

/// Reads a file of the bytes, with or without options.
fn read(name: &str, bytes: &[u8], options: &str) -> Result<Table, Error> {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join(name), bytes).unwrap();
    let with = if options.is_empty() { String::new() } else { format!(" with ({options})") };
    Flow::steps(&format!("read '{name}'{with}")).in_folder(folder.path()).run()
}

fn csv(table: &Table) -> String {
    let names: Vec<&str> = table.columns().map(|(name, _)| name).collect();
    let mut text = names.join(",");
    for row in 0..table.len() {
        let cell = |name: &&str| {
            let value = table.value(row, name).unwrap();
            if value.is_null() { "·".to_owned() } else { value.plain() }
        };
        text += &format!("\n{}", names.iter().map(cell).collect::<Vec<_>>().join(","));
    }
    text
}

fn utf16(text: &str, big: bool) -> Vec<u8> {
    text.encode_utf16().flat_map(|unit| if big { unit.to_be_bytes() } else { unit.to_le_bytes() }).collect()
}

#[rstest]
#[case::lone_returns(b"farm,litres\rF1,20\rF2,\r".to_vec(), "")]
#[case::lone_returns_without_a_last_one(b"farm,litres\rF1,20\rF2,".to_vec(), "")]
#[case::utf16_little(utf16("farm,litres\nF1,20\nF2,\n", false), "")]
#[case::utf16_big(utf16("farm,litres\nF1,20\nF2,\n", true), "")]
#[case::utf16_said(utf16("farm,litres\nF1,20\nF2,\n", true), "encoding = 'utf-16'")]
#[case::lone_returns_in_utf16(utf16("farm,litres\rF1,20\rF2,\r", true), "")]
#[case::blank_lines_before(b"\n\r\n  \nfarm,litres\nF1,20\nF2,\n".to_vec(), "")]
fn the_same_table(#[case] bytes: Vec<u8>, #[case] options: &str) {
    assert_eq!(csv(&read("t.csv", &bytes, options).unwrap()), "farm,litres\nF1,20\nF2,·");
}

#[test]
fn lone_returns_in_a_file_of_many_blocks() {
    let rows: String = (0..200_000).map(|i| format!("F{i},{i}\r")).collect();
    let table = read("t.csv", format!("farm,litres\r{rows}").as_bytes(), "").unwrap();
    assert_eq!(table.len(), 200_000);
    assert_eq!(table.value(199_999, "litres").unwrap(), churn::Scalar::Int(199_999));
}

#[rstest]
#[case::heading(b"f\xe4rm,litres\nF1,20\n", "line 1")]
#[case::heading_after_lines(b"\n\nf\xe4rm,litres\nF1,20\n", "line 3")]
#[case::cell(b"farm,litres\nF1,20\nF\xe4,20\n", "line 3")]
fn text_that_is_no_utf8_is_told_with_its_line(#[case] bytes: &[u8], #[case] line: &str) {
    let error = read("t.csv", bytes, "").unwrap_err().to_string();
    assert!(error.contains("not UTF-8") && error.contains(line), "{error}");
}

#[test]
fn a_lone_surrogate_is_told() {
    let mut bytes = utf16("farm,litres\nF1,20\n", false);
    bytes.extend_from_slice(&[0x00, 0xdc, b'\n', 0]);
    let error = read("t.csv", &bytes, "").unwrap_err().to_string();
    assert!(error.contains("is not UTF-16LE"), "{error}");
}

#[rstest]
#[case(3, 10)]
#[case(3, 200_000)]
#[case(20_000, 30)]
fn lines_are_skipped_however_many_and_long(#[case] lines: usize, #[case] length: usize) {
    let skipped: String = (0..lines).map(|i| format!("\"{i}, {}\n", "x".repeat(length))).collect();
    let text = format!("{skipped}farm,litres\nF1,20\nF2,bad\n");
    let table = read("t.csv", text.as_bytes(), &format!("skip = {lines}")).unwrap();
    assert_eq!(csv(&table), "farm,litres\nF1,20\nF2,bad");
    let options = format!("skip = {lines}, types = (litres int)");
    let error = read("t.csv", text.as_bytes(), &options).unwrap_err().to_string();
    assert!(error.contains(&format!("line {}", lines + 3)), "{error}");
}

#[rstest]
#[case("ORC,litres\nF1,20\n")]
#[case("PAR1,litres\nF1,20\n")]
#[case("ARROW1,litres\nF1,20\n")]
fn a_heading_may_start_as_another_format_does(#[case] text: &str) {
    assert_eq!(csv(&read("t.csv", text.as_bytes(), "").unwrap()), text.trim_end());
    assert_eq!(csv(&read("t.dat", text.as_bytes(), "").unwrap()), text.trim_end());
}

#[test]
fn many_equal_headings_and_columns_take_no_time() {
    let names = vec!["x"; 4000].join(",");
    let table = read("t.csv", format!("{names}\n{}\n", vec!["1"; 4000].join(",")).as_bytes(), "").unwrap();
    assert_eq!(table.columns().last().unwrap().0, "x_4000");
    let names: Vec<String> = (0..20_000).map(|i| format!("c{i}")).collect();
    let text = format!("{}\n{}\n", names.join(","), vec!["1"; 20_000].join(","));
    assert_eq!(read("t.csv", text.as_bytes(), "").unwrap().columns().count(), 20_000);
}

#[rstest]
#[case::no_end(r#"[{"a":1},{"a":2}"#, "The array of records does not end")]
#[case::no_comma(r#"[{"a":1}{"a":2}]"#, "A comma is missing between two records.")]
#[case::two_commas(r#"[{"a":1},,{"a":2}]"#, "A comma stands where a record should.")]
#[case::last_comma(r#"[{"a":1},]"#, "A comma stands before the end of the array.")]
#[case::more(r#"[{"a":1}] {"a":2}"#, "Something follows the end of the array.")]
#[case::lines_with_commas("{\"a\":1},\n{\"a\":2}\n", "A comma stands between records of no array.")]
fn json_that_is_none(#[case] text: &str, #[case] what: &str) {
    let error = read("t.json", text.as_bytes(), "").unwrap_err();
    assert!(error.what().contains(what), "{error}");
    // Behind what is looked at before the run the same is found.
    let many: String = (0..1_500_000).map(|i| format!("{{\"a\":{i}}},\n")).collect();
    if let Some(rest) = text.strip_prefix('[') {
        let error = read("t.json", format!("[{many}{rest}").as_bytes(), "").unwrap_err();
        assert!(error.what().contains(what) && error.to_string().contains("line 15000"), "{error}");
    }
}

#[rstest]
#[case::beyond_int(r#"{"a":9223372036854775808}"#, "", "text", "9223372036854775808")]
#[case::beyond_64_bits(r#"{"a":-123456789012345678901234}"#, "", "text", "-123456789012345678901234")]
#[case::a_decimal(
    r#"{"a":123456789012345678901234}"#,
    "types = (a decimal(30, 0))",
    "decimal(30, 0)",
    "123456789012345678901234"
)]
#[case::a_float(r#"{"a":9223372036854775808}"#, "types = (a float)", "float", "9.223372036854776e18")]
#[case::the_largest_int(r#"{"a":9223372036854775807}"#, "", "int", "9223372036854775807")]
#[case::in_a_list(r#"{"a":[1,9223372036854775808]}"#, "", "list(text)", "[1, 9223372036854775808]")]
#[case::a_power(r#"{"a":1e30}"#, "", "float", "1e30")]
fn long_numbers_keep_their_digits(
    #[case] text: &str,
    #[case] options: &str,
    #[case] kind: &str,
    #[case] value: &str,
) {
    let table = read("t.json", text.as_bytes(), options).unwrap();
    assert_eq!(table.columns().next().unwrap().1.to_string(), kind);
    assert_eq!(table.value(0, "a").unwrap().plain().replace('\'', ""), value);
}

#[test]
fn a_first_record_may_be_long() {
    let text = format!("{{\"a\":\"{}\",\"b\":1}}", "x".repeat(3_000_000));
    assert_eq!(read("t.json", text.as_bytes(), "").unwrap().value(0, "b").unwrap(), churn::Scalar::Int(1));
}

/// A Parquet and an Arrow file of columns with these names, of which some are within a record.
fn columnar(folder: &std::path::Path, names: &[&str]) {
    use arrow_array::{ArrayRef, Int64Array, RecordBatch, StructArray};
    use arrow_schema::{DataType, Field, Schema};
    use std::sync::Arc;
    let number = |n: usize| Arc::new(Int64Array::from(vec![n as i64])) as ArrayRef;
    let mut columns: Vec<(Field, ArrayRef)> = Vec::new();
    for (n, name) in names.iter().enumerate() {
        columns.push(match name.strip_prefix("record ") {
            None => (Field::new(*name, DataType::Int64, true), number(n)),
            Some(path) => {
                let (record, field) = path.split_once('.').unwrap();
                let field = Arc::new(Field::new(field, DataType::Int64, true));
                let array = Arc::new(StructArray::from(vec![(field, number(n))])) as ArrayRef;
                (Field::new(record, array.data_type().clone(), true), array)
            }
        });
    }
    let (fields, arrays): (Vec<Field>, Vec<ArrayRef>) = columns.into_iter().unzip();
    let batch = RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).unwrap();
    let file = fs::File::create(folder.join("t.arrow")).unwrap();
    let mut writer = arrow_ipc::writer::FileWriter::try_new(file, &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    writer.finish().unwrap();
    let file = fs::File::create(folder.join("t.parquet")).unwrap();
    let mut writer = parquet::arrow::ArrowWriter::try_new(file, batch.schema(), None).unwrap();
    writer.write(&batch).unwrap();
    writer.close().unwrap();
}

#[rstest]
#[case::twice(&["a", "b", "a"], "a,b,a_2\n0,1,2")]
#[case::a_number_that_is_taken(&["a", "a_2", "a"], "a,a_2,a_3\n0,1,2")]
#[case::beside_a_field(&["record t.x", "t.x"], "t.x,t.x_2\n0,1")]
fn columns_of_one_name_are_all_there(#[case] names: &[&str], #[case] expected: &str) {
    let folder = tempfile::tempdir().unwrap();
    columnar(folder.path(), names);
    for name in ["t.arrow", "t.parquet"] {
        let flow = Flow::read(name).in_folder(folder.path());
        assert_eq!(csv(&flow.run().unwrap()), expected, "{name}");
        assert!(flow.plan().unwrap().notes()[0].contains("a second"), "{name}");
    }
}

#[cfg(unix)]
#[test]
fn a_folder_that_leads_back_to_itself_is_read_once() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("d")).unwrap();
    fs::write(folder.path().join("d/t.csv"), "a\n1\n").unwrap();
    std::os::unix::fs::symlink("..", folder.path().join("d/up")).unwrap();
    std::os::unix::fs::symlink(".", folder.path().join("d/here")).unwrap();
    let flow = Flow::read("d").in_folder(folder.path());
    assert_eq!(csv(&flow.run().unwrap()), "a\n1");
}

#[test]
fn what_json_and_text_lack_is_counted_or_written_as_json() {
    let folder = tempfile::tempdir().unwrap();
    let flow = Flow::steps(
        "values x, t: (1.5, 'a'), (null, 'b')\nadd y = if(x is null, cast('NaN' as float), x)\nwrite 't.json'",
    );
    let table = flow.in_folder(folder.path()).run().unwrap();
    assert_eq!(table.ledger().total(churn::Event::NoNumber), 1);
    assert!(fs::read_to_string(folder.path().join("t.json")).unwrap().contains("\"y\":null"));
    let lists = Flow::steps("values t: ('a \"q\"'), ('b')\ntotal: l = array_agg(t)\nwrite 't.csv'");
    lists.in_folder(folder.path()).run().unwrap();
    let written = fs::read_to_string(folder.path().join("t.csv")).unwrap();
    assert_eq!(written, "l\n\"[\"\"a \\\"\"q\\\"\"\"\",\"\"b\"\"]\"\n");
}

#[rstest]
#[case("filter herd = null", "Nothing equals null: herd = null is true of no row. Write herd is null.")]
#[case("filter null <> herd", "Nothing equals null: herd <> null is true of no row. Write herd is not null.")]
fn a_comparison_with_null_is_told(#[case] step: &str, #[case] note: &str) {
    let flow = Flow::steps(&format!("values herd: (1), (null)\n{step}"));
    assert_eq!(flow.plan().unwrap().notes(), [note]);
    let table = flow.run().unwrap();
    assert!(table.ledger().to_string().contains("2 unknown: something is null"), "{}", table.ledger());
}

#[test]
fn a_table_after_a_pivot_that_finds_its_columns_is_not_said_to_be_useless() {
    let recipe = "table f\n  values farm, name: ('F1', 'Hill')\nvalues farm, g, x: ('F1', 'A', 2)\npivot g by farm: x = sum(x)\njoin f on farm\n";
    let plan = Flow::recipe(recipe).plan().unwrap();
    assert!(plan.notes().is_empty() && plan.open().is_some(), "{:?}", plan.notes());
    assert_eq!(csv(&Flow::recipe(recipe).run().unwrap()), "farm,A,name\nF1,2,Hill");
}

/// The line of a cell is counted over a whole file, which is cut into parts.
#[test]
fn lines_are_counted_past_64_megabytes() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("t.csv");
    let mut text = String::from("id,note\n");
    let note = "a note of the driver that is long, ".repeat(40);
    let mut lines = 1;
    while text.len() < 68 << 20 {
        text += &format!("{lines},\"{note}\nin two lines\"\n");
        lines += 2;
    }
    text += "x1,bad\n";
    std::fs::write(&path, text).unwrap();
    let flow =
        Flow::steps("read 't.csv' with (types = (id int))\ntotal: s = sum(id)").in_folder(folder.path());
    for threads in [1, 2] {
        let error = flow.run_with(&churn::RunOptions::new().threads(threads)).unwrap_err().to_string();
        assert!(error.contains(&format!("t.csv, line {}, column id", lines + 1)), "{error}");
    }
}

/// Headings of several files that differ in case or blanks make two columns, which is told before the run.
#[test]
fn headings_that_are_nearly_alike_are_told() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("a-1.csv"), "farm,litres\nF1,10\n").unwrap();
    fs::write(folder.path().join("a-2.csv"), "farm,Litres\nF2,20\n").unwrap();
    let flow = Flow::read("a-*.csv").in_folder(folder.path());
    let plan = flow.plan().unwrap();
    let told: Vec<_> = plan.notes().iter().filter(|note| note.contains("only in case or blanks")).collect();
    assert_eq!(told.len(), 1, "{:?}", plan.notes());
    assert!(told[0].starts_with("The columns litres and Litres differ"), "{}", told[0]);
    // The way out that it tells works.
    let table = flow.add("litres = coalesce(litres, Litres)").drop("Litres").run().unwrap();
    assert_eq!(table.values("litres").unwrap(), [churn::Scalar::Int(10), churn::Scalar::Int(20)]);
    let alone = Flow::read("a-1.csv").in_folder(folder.path()).plan().unwrap();
    assert!(alone.notes().is_empty());
}

/// A block whose start was guessed is read again for the line of what is wrong in it, alone: what its first rows did to a step that
/// knows all rows before is not done twice.
#[rstest]
fn what_is_wrong_behind_a_guess_has_its_line(
    #[values(1, 3)] threads: usize,
    #[values(64, 200, 4096)] bytes: usize,
) {
    let folder = tempfile::tempdir().unwrap();
    let row = |i: usize| match i {
        431 => "431,bad,\n".to_owned(),
        i if i % 10 == 0 => format!("{i},{i},\"two\nlines, {i}\"\n"),
        i => format!("{i},{i},plain\n"),
    };
    let rows: String = (0..600).map(row).collect();
    std::fs::write(folder.path().join("milk.csv"), format!("id,litres,note\n{rows}")).unwrap();
    let flow =
        Flow::steps("read 'milk.csv' with (types = (litres int))\nrequire unique by id\nsort litres desc");
    let options = RunOptions::new().threads(threads).block_bytes(bytes);
    let error = flow.in_folder(folder.path()).run_with(&options).unwrap_err();
    assert_eq!(error.what(), "'bad' is not an int.");
    // The heading, the rows before it, and a line more for each tenth of them.
    let line = 1 + 431 + 44 + 1;
    assert!(error.to_string().contains(&format!("milk.csv, line {line}")), "{error}");
}
