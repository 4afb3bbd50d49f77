//! Parquet, Arrow and JSON files: what is written reads back, conditions skip, damage is told.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use churn::{ErrorKind, Event, Flow, RunOptions, Table};
use rstest::rstest;
use tempfile::TempDir;

const DELIVERIES: &str = "values farm, day, litres, fat, note
  'F1', date '2026-01-01', 120, 4.25, 'gate closed'
  'F2', date '2026-01-02', 80, null, null
  null, null, null, 3.5, 'a note of more than twelve bytes, \"quoted\"'
  'F1', date '2026-02-01', -7, 4.5, ''";

fn flow(folder: &TempDir, steps: &[&str]) -> Flow {
    let (first, rest) = steps.split_first().unwrap();
    rest.iter().fold(Flow::steps(first).in_folder(folder.path()), |flow, step| flow.then(step))
}

fn run(folder: &TempDir, steps: &[&str]) -> Table {
    flow(folder, steps).run().unwrap_or_else(|e| panic!("{e}"))
}

fn write(folder: &TempDir, steps: &[&str]) {
    flow(folder, steps).plan().unwrap().run_for_effect(&RunOptions::new()).unwrap_or_else(|e| panic!("{e}"));
}

#[rstest]
#[case("t.parquet", "")]
#[case("t.parquet", " with (compression = snappy)")]
#[case("t.parquet", " with (compression = gzip, level = 3)")]
#[case("t.parquet", " with (compression = lz4)")]
#[case("t.parquet", " with (compression = brotli)")]
#[case("t.parquet", " with (compression = none)")]
#[case("t.arrow", "")]
#[case("t.arrow", " with (compression = lz4)")]
#[case("t.arrow", " with (compression = zstd)")]
#[case("t.json", "")]
#[case("t.ndjson", "")]
#[case("t.csv", "")]
fn what_is_written_reads_back(#[case] file: &str, #[case] with: &str) {
    let folder = tempfile::tempdir().unwrap();
    write(&folder, &[DELIVERIES, &format!("write '{file}'{with}")]);
    let expected = run(&folder, &[DELIVERIES]);
    let found = run(&folder, &[&format!("read '{file}'")]);
    assert_eq!(found.to_string(), expected.to_string());
    let types = |t: &Table| t.columns().map(|(n, k)| format!("{n} {k}")).collect::<Vec<_>>();
    assert_eq!(types(&found), types(&expected));
}

#[rstest]
#[case("t.parquet")]
#[case("t.arrow")]
fn lists_decimals_and_times_read_back(#[case] file: &str) {
    let folder = tempfile::tempdir().unwrap();
    let table = [
        DELIVERIES,
        "add at = timestamp '2026-03-01 06:30:00.25', o = time '06:30:00', d = cast(litres as decimal(9, 2)), b = litres > 90",
        "group by farm: l = array_agg(litres), n = array_agg(note), at = max(at), o = min(o), d = sum(d), b = any(b)",
    ];
    let target = format!("write '{file}'");
    write(&folder, &[table[0], table[1], table[2], &target]);
    assert_eq!(run(&folder, &[&format!("read '{file}'")]).to_string(), run(&folder, &table).to_string());
}

/// A file of many rows in order, whose statistics tell what is where.
fn many(folder: &TempDir) {
    let rows: String =
        (0..300_000u64).map(|i| format!("{i},F{},{},{}\n", i / 1000, i % 7, i * 7919 % 300_007)).collect();
    fs::write(folder.path().join("many.csv"), format!("id,farm,x,lot\n{rows}")).unwrap();
    write(folder, &["read 'many.csv'", "write 'many.parquet'"]);
}

#[rstest]
#[case("id between 1000 and 1004", 5, true)]
#[case("id = 299999", 1, true)]
#[case("id < 0", 0, true)]
#[case("farm = 'F150' and x = 3", 142, true)]
#[case("farm = 'nowhere'", 0, true)]
#[case("x >= 0", 300_000, false)]
#[case("id > 100 or x = 1", 299_914, false)]
fn conditions_skip_what_statistics_rule_out(
    #[case] condition: &str,
    #[case] rows: usize,
    #[case] skips: bool,
) {
    let folder = tempfile::tempdir().unwrap();
    many(&folder);
    let table = run(&folder, &["read 'many.parquet'", &format!("filter {condition}")]);
    assert_eq!(table.len(), rows);
    let steps: Vec<_> = table.ledger().steps().to_vec();
    assert_eq!(steps[0].rows_out, Some(300_000));
    let skipped = steps[1].events.iter().find(|(event, _)| *event == Event::Skipped).map_or(0, |(_, n)| *n);
    assert_eq!(skipped > 0, skips, "{skipped}");
    let told: u64 = steps[1].events.iter().map(|(_, n)| n).sum();
    assert_eq!(told + rows as u64, 300_000);
}

/// Conditions, and the keys of a join, reach the files of a folder, of a glob and of an append.
#[rstest]
#[case::a_folder("read 'split'", true)]
#[case::a_glob("read 'many-*.parquet'", true)]
#[case::an_append("read 'many-0.parquet'\nappend 'many-1.parquet'", true)]
#[case::a_sorted_append("read 'many-0.parquet'\nappend 'many-1.parquet'\nsort lot", true)]
#[case::a_folder_of_text("read 'text'", false)]
fn conditions_reach_files_through_what_wraps_them(#[case] read: &str, #[case] has_statistics: bool) {
    let folder = tempfile::tempdir().unwrap();
    many(&folder);
    let half = "add half = if(id < 150000, 0, 1)";
    write(
        &folder,
        &["read 'many.parquet'", half, "write 'split' with (split_by = (half), format = parquet)"],
    );
    write(&folder, &["read 'many.parquet'", half, "write 'text' with (split_by = (half), format = csv)"]);
    for (number, condition) in ["id < 150000", "id >= 150000"].iter().enumerate() {
        let target = format!("write 'many-{number}.parquet'");
        write(&folder, &["read 'many.parquet'", half, &format!("filter {condition}"), &target]);
    }
    fs::write(folder.path().join("few.csv"), "id,v\n151000,a\n151004,b\n152000,c\n").unwrap();
    let steps: Vec<&str> = read.lines().collect();
    let of = |table: &Table, event: Event| table.ledger().total(event);
    for condition in [
        "id between 151000 and 151004",
        "id between 151000 and 151004 and farm <> 'F3'",
        "half = 1 and id < 150010",
    ] {
        let filter = format!("filter {condition}");
        let total = "total: n = count(), s = sum(lot), h = max(half), f = max(farm)";
        let found = run(&folder, &[&steps[..], &[&filter, total]].concat());
        let expected = run(&folder, &["read 'many.parquet'", half, &filter, total]);
        assert_eq!(found.to_string(), expected.to_string(), "{condition}");
        if has_statistics {
            let told = of(&found, Event::Skipped) + of(&found, Event::NotTrue);
            assert!(of(&found, Event::Skipped) > 0 && told > 299_000, "{condition}\n{}", found.ledger());
        }
    }
    let join = ["join 'few.csv' on id", "total: n = count(), s = sum(lot), v = max(v)"];
    let found = run(&folder, &[&steps[..], &join].concat());
    let expected = run(&folder, &[&["read 'many.parquet'", half][..], &join].concat());
    assert_eq!(found.to_string(), expected.to_string());
    assert_eq!(of(&found, Event::MatchedNone), 299_997);
}

/// Columns that a Parquet file holds as numbers into a dictionary, at first so and later plainly, or plainly at all.
fn of_every_kind(folder: &TempDir) {
    let row = |i: u64| {
        let of = |value: String, every: u64| if i / 1000 % every == 1 { String::new() } else { value };
        let late = if i < 135_000 { i % 9 } else { i };
        format!(
            "{i},{},{},{},{},farm {late} that has a name of some length,{}\n",
            of(format!("{}.{}", i % 700, i % 4), 5),
            of(format!("{late}.5"), 3),
            of(format!("2026-0{}-1{}", i / 30_000 + 1, i % 9), 4),
            of(format!("F{}", i % 300), 7),
            if i % 1000 < 3 { "nan" } else { "0.5" },
        )
    };
    let rows: String = (0..180_000).map(row).collect();
    fs::write(folder.path().join("kinds.csv"), format!("id,few,late,day,farm,name,odd\n{rows}")).unwrap();
}

const CONDITIONS: &[&str] = &[
    "few > 650 or few is null",
    "late = 170000.5",
    "late < 1",
    "day >= date '2026-05-01'",
    "farm = 'F17'",
    "name = 'farm 150000 that has a name of some length'",
    "odd > 0.5 and day is null",
    "odd < 0.6 and id > 179000",
];

#[rstest]
#[case("zstd")]
#[case("none")]
#[case("snappy")]
fn encodings_keep_values_and_statistics(#[case] compression: &str) {
    let folder = tempfile::tempdir().unwrap();
    of_every_kind(&folder);
    let read = "read 'kinds.csv' with (types = (odd float))";
    write(&folder, &[read, &format!("write 'kinds.parquet' with (compression = {compression})")]);
    let kept = |read: &str, condition: &str| {
        write(&folder, &[read, &format!("filter {condition}"), "write 'kept.csv'"]);
        fs::read_to_string(folder.path().join("kept.csv")).unwrap()
    };
    for condition in CONDITIONS {
        let found = kept("read 'kinds.parquet'", condition);
        assert!(found == kept(read, condition), "{condition}");
        assert!(found.lines().count() > 1, "{condition}");
    }
}

#[test]
fn the_number_of_rows_is_in_the_footer() {
    let folder = tempfile::tempdir().unwrap();
    many(&folder);
    assert_eq!(
        run(&folder, &["read 'many.parquet'", "total: n = count()"]).to_string().lines().last(),
        Some("300000")
    );
}

#[test]
fn a_sorted_file_says_so() {
    use parquet::file::reader::FileReader;
    let folder = tempfile::tempdir().unwrap();
    write(&folder, &[DELIVERIES, "sort litres desc, farm", "write 't.parquet'"]);
    let file = fs::File::open(folder.path().join("t.parquet")).unwrap();
    let reader = parquet::file::reader::SerializedFileReader::new(file).unwrap();
    let sorted = reader.metadata().row_group(0).sorting_columns().cloned().unwrap();
    let told: Vec<_> = sorted.iter().map(|c| (c.column_idx, c.descending, c.nulls_first)).collect();
    assert_eq!(told, [(2, true, false), (0, false, false)]);
}

#[test]
fn nested_records_are_columns_named_by_path() {
    let folder = tempfile::tempdir().unwrap();
    let text = "{\"farm\": \"F1\", \"t\": {\"x\": 1, \"l\": [1, 2]}}\n{\"farm\": \"F2\", \"t\": null}\n";
    fs::write(folder.path().join("t.ndjson"), text).unwrap();
    let table = run(&folder, &["read 't.ndjson'"]);
    let names: Vec<_> = table.columns().map(|(n, k)| format!("{n} {k}")).collect();
    assert_eq!(names, ["farm text", "t.x int", "t.l list(int)"]);
    assert_eq!(table.values("t.x").unwrap(), [churn::Scalar::Int(1), churn::Scalar::Null]);
}

#[test]
fn lists_of_records_are_a_list_for_each_field() {
    let folder = tempfile::tempdir().unwrap();
    let text = concat!(
        r#"{"farm": "F1", "b": [{"n": 1, "t": {"x": 0.5}, "p": [{"q": 7}, {}]}, null, {"n": 2}]}"#,
        "\n",
        r#"{"farm": "F2", "b": []}"#,
        "\n",
        r#"{"farm": "F3"}"#,
        "\n",
        r#"{"farm": "F4", "b": [{"p": []}]}"#,
        "\n",
    );
    fs::write(folder.path().join("t.ndjson"), text).unwrap();
    let table = run(&folder, &["read 't.ndjson'"]);
    let names: Vec<_> = table.columns().map(|(n, k)| format!("{n} {k}")).collect();
    assert_eq!(names, ["farm text", "b.n list(int)", "b.t.x list(float)", "b.p.q list(list(int))"]);
    let column = |name: &str| table.values(name).unwrap().iter().map(ToString::to_string).collect::<Vec<_>>();
    assert_eq!(column("b.n"), ["[1, null, 2]", "[]", "null", "[null]"]);
    assert_eq!(column("b.t.x"), ["[0.5, null, null]", "[]", "null", "[null]"]);
    assert_eq!(column("b.p.q"), ["[[7, null], null, null]", "[]", "null", "[null]"]);
    let rows = run(&folder, &["read 't.ndjson'", "unnest \"b.n\", \"b.t.x\"", "select farm, \"b.n\""]);
    assert_eq!(rows.len(), 6);
}

#[rstest]
#[case::of_values_elsewhere(r#"{"b": [7, {"n": 2}]}"#, &["b.n list(int)", "b list(text)"])]
#[case::a_record_elsewhere(r#"{"b": {"n": 2}}"#, &["b.n text"])]
fn what_is_a_list_of_records_in_some(#[case] other: &str, #[case] columns: &[&str]) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.ndjson"), format!("{{\"b\": [{{\"n\": 1}}]}}\n{other}\n")).unwrap();
    let table = run(&folder, &["read 't.ndjson'"]);
    let names: Vec<_> = table.columns().map(|(n, k)| format!("{n} {k}")).collect();
    assert_eq!(names, *columns.to_vec());
    assert_eq!(table.len(), 2);
}

#[rstest]
#[case::bad_value("{\"a\": 1}\n{\"a\": \"x\"}\n", "'x' is not an int.", Some(2))]
#[case::late_field(
    "{\"a\": 1}\n{\"b\": 2}\n",
    "The field b was in no record looked at before the run.",
    Some(2)
)]
#[case::cut_short("{\"a\": 1}\n{\"a\": ", "This is not a JSON record.", Some(2))]
#[case::no_record("1\n2\n", "This is not a JSON record.", Some(1))]
fn records_that_do_not_fit_are_told(#[case] text: &str, #[case] what: &str, #[case] line: Option<u64>) {
    let folder = tempfile::tempdir().unwrap();
    // Enough rows that the fault is behind those that are looked at, and between the places further on.
    let many: String =
        if what.contains("not a JSON") { String::new() } else { "{\"a\": 1}\n".repeat(1_880_000) };
    let behind: String = many.split_inclusive('\n').take(940_000).collect();
    fs::write(folder.path().join("t.ndjson"), format!("{many}{text}{behind}")).unwrap();
    let error = flow(&folder, &["read 't.ndjson'"]).run().unwrap_err();
    assert_eq!(error.what(), what);
    let lines = many.lines().count() as u64;
    assert!(error.to_string().contains(&format!("line {}", lines + line.unwrap())), "{error}");
}

#[test]
fn files_unite_by_name_and_type() {
    let folder = tempfile::tempdir().unwrap();
    write(&folder, &["values a, b: (1, 'x')", "write 'p1.parquet'"]);
    write(&folder, &["values b, a, c: ('y', 2.5, true)", "write 'p2.parquet'"]);
    let table = run(&folder, &["read 'p*.parquet' with (file_column = 'file')"]);
    let names: Vec<_> = table.columns().map(|(n, k)| format!("{n} {k}")).collect();
    assert_eq!(names, ["a float", "b text", "c bool", "file text"]);
    write(&folder, &["values a: ('no number')", "write 'p3.parquet'"]);
    let error = flow(&folder, &["read 'p*.parquet'"]).run().unwrap_err();
    assert_eq!(error.what(), "a is float in one file and text in another.");
}

#[rstest]
#[case("parquet")]
#[case("arrow")]
#[case("csv")]
#[case("ndjson")]
fn a_split_table_reads_back(#[case] format: &str) {
    let folder = tempfile::tempdir().unwrap();
    let target = format!("write 'out' with (split_by = (farm, day), format = {format})");
    write(&folder, &[DELIVERIES, &target]);
    // Written again, it takes the place of the first.
    write(&folder, &[DELIVERIES, &target]);
    assert!(folder.path().join("out/farm=null/day=null").is_dir());
    let back = run(&folder, &["read 'out'", "select farm, day, litres", "sort litres"]);
    let expected = run(&folder, &[DELIVERIES, "select farm, day, litres", "sort litres"]);
    assert_eq!(back.to_string(), expected.to_string());
    let one = run(&folder, &["read 'out'", "filter farm = 'F1' and day > date '2026-01-15'"]);
    assert_eq!(one.len(), 1);
    let appended = format!("write 'out' with (split_by = (farm, day), format = {format}, mode = append)");
    write(&folder, &[DELIVERIES, &appended]);
    assert_eq!(run(&folder, &["read 'out'"]).len(), 8);
    write(&folder, &[DELIVERIES, "sort litres desc", &target]);
    assert_eq!(run(&folder, &["read 'out'"]).len(), 4, "sorted rows are split like any others");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left beside the folder");
}

#[test]
fn a_folder_of_something_else_is_not_replaced() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("out")).unwrap();
    fs::write(folder.path().join("out/precious.txt"), "x").unwrap();
    let flow = flow(&folder, &[DELIVERIES, "write 'out' with (split_by = (farm), format = csv)"]);
    assert_eq!(flow.plan().unwrap_err().kind(), ErrorKind::Check);
    assert!(folder.path().join("out/precious.txt").is_file());
}

/// A file with something changed, and the error that reading it gives.
fn damaged(ending: &str, change: impl Fn(&mut Vec<u8>)) -> churn::Error {
    let folder = tempfile::tempdir().unwrap();
    many(&folder);
    write(&folder, &["read 'many.parquet'", &format!("write 'm.{ending}'")]);
    let path = folder.path().join(format!("m.{ending}"));
    let mut bytes = fs::read(&path).unwrap();
    change(&mut bytes);
    fs::write(&path, bytes).unwrap();
    let read = format!("read 'm.{ending}'");
    flow(&folder, &[&read, "total: x = sum(lot), f = max(farm), i = sum(id)"]).run().unwrap_err()
}

#[rstest]
#[case("parquet")]
#[case("arrow")]
fn a_file_that_is_cut_short_is_told(#[case] ending: &str) {
    let error = damaged(ending, |bytes| bytes.truncate(bytes.len() / 2));
    assert_eq!(error.kind(), ErrorKind::Data);
    assert!(error.to_string().contains(&format!("m.{ending}")), "{error}");
}

#[test]
fn a_damaged_page_is_told() {
    let error = damaged("parquet", |bytes| bytes[100..4000].fill(0xff));
    assert_eq!(error.kind(), ErrorKind::Data);
    assert!(error.to_string().contains("m.parquet"), "{error}");
}

/// Of a file whose bytes are changed in one place or another no answer is ever wrong.
#[rstest]
fn a_damaged_bit_is_told(#[values("zstd", "snappy", "none")] compression: &str) {
    let folder = tempfile::tempdir().unwrap();
    of_every_kind(&folder);
    let read = "read 'kinds.csv' with (types = (odd float))";
    let steps = ["filter id mod 97 < 20", "add notes = parts(name, ' ')"];
    let target = format!("write 'k.parquet' with (compression = {compression})");
    write(&folder, &[read, steps[0], steps[1], &target]);
    let path = folder.path().join("k.parquet");
    let whole = fs::read(&path).unwrap();
    let totals = "total: n = count(), i = sum(id), f = sum(few), l = sum(late), d = count_distinct(day), \
                  k = count_distinct(farm), o = count(odd), w = sum(length(name)), p = count_distinct(element(notes, 2)), q = sum(length(notes))";
    let asked = |bytes: &[u8]| {
        fs::write(&path, bytes).unwrap();
        flow(&folder, &["read 'k.parquet'", totals]).run().map(|table| table.to_string())
    };
    let expected = asked(&whole).unwrap();
    let mut told = 0;
    for place in (0..whole.len()).step_by(whole.len() / 120 + 1) {
        let mut bytes = whole.clone();
        bytes[place] ^= 1 << (place % 8);
        match asked(&bytes) {
            Ok(answer) => assert_eq!(answer, expected, "byte {place}"),
            Err(error) => {
                assert!(error.to_string().contains("k.parquet"), "{error}");
                told += 1;
            }
        }
    }
    assert!(told > 100, "{told}");
}

/// Rows are counted by the footer: it must agree with itself, and with the pages once they are read.
#[test]
fn a_footer_that_does_not_go_together_is_told() {
    use parquet::file::metadata::{
        FileMetaData, ParquetMetaDataBuilder, ParquetMetaDataReader, ParquetMetaDataWriter,
    };
    let folder = tempfile::tempdir().unwrap();
    write(&folder, &["values farm\n  'F1'\n  'F2'\n  'F3'\n  'F4'\n  'F5'", "write 't.parquet'"]);
    let path = folder.path().join("t.parquet");
    let whole = fs::read(&path).unwrap();
    let told = |bytes: &[u8]| {
        fs::write(&path, bytes).unwrap();
        flow(&folder, &["read 't.parquet'", "total: n = count()"]).run().unwrap_err().to_string()
    };
    // Of the file: field 3, five rows (zigzag), and then field 4, the row groups.
    let mut bytes = whole.clone();
    let at = bytes.windows(3).position(|three| three == [0x16, 5 << 1, 0x19]).unwrap();
    bytes[at + 1] = 4 << 1;
    let error = told(&bytes);
    assert!(error.contains("it has 4 rows, and its row groups 5"), "{error}");
    // Of the row group.
    let metadata = ParquetMetaDataReader::new().parse_and_finish(&bytes::Bytes::from(whole.clone())).unwrap();
    let group = metadata.row_group(0).clone().into_builder().set_num_rows(4).build().unwrap();
    let file = metadata.file_metadata();
    let file = FileMetaData::new(file.version(), 4, None, None, file.schema_descr_ptr(), None);
    let changed = ParquetMetaDataBuilder::new(file).add_row_group(group).build();
    let mut bytes = whole;
    ParquetMetaDataWriter::new(&mut bytes, &changed).finish().unwrap();
    let error = told(&bytes);
    assert!(error.contains("its row group 0 has 4 rows, and the column farm has 5 values there"), "{error}");
}

#[rstest]
#[case("many.csv")]
#[case("many.parquet")]
fn a_file_that_becomes_shorter_is_told(#[case] file: &str) {
    let folder = tempfile::tempdir().unwrap();
    many(&folder);
    let flow = flow(&folder, &[&format!("read '{file}'"), "total: i = sum(lot)"]);
    let plan = flow.plan().unwrap();
    let whole = fs::OpenOptions::new().write(true).open(folder.path().join(file)).unwrap();
    whole.set_len(whole.metadata().unwrap().len() / 4).unwrap();
    let error = plan.run_with(&RunOptions::new()).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Data, "{error}");
    assert!(error.to_string().contains(file), "{error}");
}

/// Rows of hundreds of columns go to disk in small pieces, and into files in small row groups.
#[rstest]
#[case("sort c7 desc, id")]
#[case("distinct")]
#[case("add m = mean(c1) per k")]
#[case("last 2 per k")]
fn wide_rows_need_no_more_memory_than_others(#[case] step: &str, #[values("parquet", "arrow")] format: &str) {
    let folder = tempfile::tempdir().unwrap();
    let names: String = (0..250).map(|c| format!(",c{c}")).collect();
    let cell = |row: usize, c: usize| format!(",{}", (row * 31 + c * 17) % (c + 3));
    let row =
        |row: usize| format!("{row},{}{}\n", row % 9, (0..250).map(|c| cell(row, c)).collect::<String>());
    let rows: String = (0..2_000).map(row).collect();
    fs::write(folder.path().join("wide.csv"), format!("id,k{names}\n{rows}")).unwrap();
    let written = |name: &str, options: &RunOptions| {
        let target = format!("write '{name}.{format}'");
        flow(&folder, &["read 'wide.csv'", step, &target]).plan().unwrap().run_for_effect(options).unwrap();
        write(&folder, &[&format!("read '{name}.{format}'"), &format!("write '{name}.csv'")]);
        fs::read_to_string(folder.path().join(format!("{name}.csv"))).unwrap()
    };
    assert!(written("a", &RunOptions::new()) == written("b", &RunOptions::new().memory(1)));
}

/// A folder of many files holds few rows of each: those of the largest are written when they are too many.
#[test]
fn a_split_table_is_written_within_a_little_memory() {
    let folder = tempfile::tempdir().unwrap();
    many(&folder);
    let target = "write 'out' with (split_by = (farm), format = parquet)";
    let plan = flow(&folder, &["read 'many.csv'", "sort lot", target]).plan().unwrap();
    plan.run_for_effect(&RunOptions::new().memory(1)).unwrap();
    let sums = "group by farm: n = count(), l = sum(lot), i = sum(id)";
    let back = run(&folder, &["read 'out'", sums, "sort farm"]);
    assert_eq!(back.to_string(), run(&folder, &["read 'many.csv'", sums, "sort farm"]).to_string());
    let lots = run(&folder, &["read 'out/farm=F7/part-1.parquet'"]).values("lot").unwrap();
    let lots: Vec<i64> = lots.iter().map(|lot| lot.plain().parse().unwrap()).collect();
    assert!(lots.is_sorted(), "rows keep their order");
}
