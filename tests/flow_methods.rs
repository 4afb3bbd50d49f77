//! Every method of `Flow` adds the step that its text in the language is.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use churn::steps::{self, DenseKey, PivotKey};
use churn::{Flow, Join, TextEncoding, Type, Window, WriteMode, WriteOptions, column, sum};
use rstest::rstest;

fn milk() -> Flow {
    Flow::steps(
        "values farm, day, litres, grade: ('F001', 1, 10, 'A'), ('F002', 1, 5, null), ('F001', 2, 30, 'A')",
    )
}

#[rstest]
#[case::filter(milk().filter("litres > 5"), "filter litres > 5")]
#[case::filter_of_an_expression(milk().filter(column("litres").gt(5)), "filter litres > 5")]
#[case::select(milk().select("farm, l = litres * 2"), "select farm, l = litres * 2")]
#[case::drop(milk().drop("day, grade"), "drop day, grade")]
#[case::rename(milk().rename("amount = litres"), "rename amount = litres")]
#[case::add(milk().add("half = litres / 2"), "add half = litres / 2")]
#[case::sort(milk().sort("litres desc, farm"), "sort litres desc, farm")]
#[case::first(milk().first(2), "first 2")]
#[case::last(milk().last(1), "last 1")]
#[case::sample(milk().sample(2, 7), "sample 2 seed 7")]
#[case::distinct(milk().distinct(""), "distinct")]
#[case::distinct_by(milk().distinct("farm"), "distinct by farm")]
#[case::group(milk().group("farm", "n = count(), s = sum(litres)"), "group by farm\n  n = count()\n  s = sum(litres)")]
#[case::total(milk().total("n = count()"), "total\n  n = count()")]
#[case::fill(milk().fill("grade", "'B'"), "fill grade with 'B'")]
#[case::fill_down(milk().fill_down("grade", ""), "fill grade down")]
#[case::fill_up(milk().fill_up("grade", "farm"), "fill grade up by farm")]
#[case::require(milk().require("litres > 0"), "require litres > 0")]
#[case::require_unique(milk().require_unique("farm, day"), "require unique by farm, day")]
#[case::rename_of_pairs(milk().rename([("amount", "litres"), ("d", "day")]), "rename amount = litres, d = day")]
#[case::rename_with_odd_names(milk().rename([("a = b", "litres")]), "rename \"a = b\" = litres")]
#[case::pivot_of_keys(
    milk().pivot([PivotKey::new("grade").values(["A", "B"])], [sum(column("litres")).named("s")]),
    "pivot grade in ('A', 'B')\n  s = sum(litres)"
)]
#[case::pivot_of_a_key(milk().pivot(PivotKey::new("day"), sum(column("litres"))), "pivot day\n  sum(litres)")]
#[case::pivot_with_options(
    milk().pivot("day by farm", "s = sum(litres)\nfill 0\ntotals"),
    "pivot day by farm\n  s = sum(litres)\n  fill 0\n  totals"
)]
#[case::pivot_of_deeper_lines(
    milk().pivot(String::from("day by farm"), String::from("s = sum(litres)\n  fill 0\n    totals")),
    "pivot day by farm\n  s = sum(litres)\n  fill 0\n  totals"
)]
#[case::pivot_built(
    milk().pivot(steps::Pivot::new([PivotKey::new("day")]).by([column("farm")]).fill(0), "s = sum(litres)"),
    "pivot day by farm\n  s = sum(litres)\n  fill 0"
)]
#[case::unpivot_built(
    milk().drop("grade").unpivot(steps::Unpivot::new("value", "what", ["day", "litres"]).skip_nulls()),
    "drop grade\nunpivot value for what in day, litres skip nulls"
)]
#[case::split_built(milk().split(steps::Split::after("farm", [1]).part("a").typed("b", Type::Int).keep()), "split farm after 1 as a, b int keep")]
#[case::densify_built(milk().densify([DenseKey::values("farm"), DenseKey::values("litres")]), "densify farm, litres")]
#[case::pivot(milk().pivot("day by farm", "sum(litres)"), "pivot day by farm\n  sum(litres)")]
#[case::unpivot(milk().drop("grade").unpivot("value for what in day, litres"), "drop grade\nunpivot value for what in day, litres")]
#[case::split(milk().split("farm at '0' as letter, a, b"), "split farm at '0' as letter, a, b")]
#[case::densify(milk().densify("farm, litres"), "densify farm, litres")]
#[case::unnest(milk().add("w = parts(farm, '0')").unnest("w"), "add w = parts(farm, '0')\nunnest w")]
#[case::window(
    milk().window(Window::by("farm").order("day"), "before = lag(litres)"),
    "window by farm order by day\n  before = lag(litres)"
)]
#[case::window_over_all(milk().window(Window::whole(), "s = sum(litres)"), "window\n  s = sum(litres)")]
fn a_method_is_its_text(#[case] flow: Flow, #[case] text: &str) {
    let written = milk().then(text);
    assert_eq!(flow.to_string(), written.to_string());
    assert_eq!(flow.to_string(), Flow::recipe(&flow.to_string()).to_string());
    let (ours, theirs) = (flow.run().expect("a run"), written.run().expect("a run"));
    assert_eq!(format!("{ours:?}"), format!("{theirs:?}"));
}

/// What a method is given as text is one step of its kind, whatever stands in it.
#[rstest]
#[case(milk().rename("a = litres\nsort day"))]
#[case(milk().rename("a = litres\n  sort day"))]
#[case(milk().rename("a = litres\n  b = day\n    c = grade"))]
#[case(milk().rename("a = litres; sort day"))]
#[case(milk().rename(""))]
#[case(milk().rename([]))]
#[case(milk().densify([]))]
#[case(milk().split("farm at '0' as a, b, c\nfirst 1"))]
#[case(milk().unpivot("value for what in day, litres first 1"))]
#[case(milk().densify("farm\ndrop day"))]
#[case(milk().pivot("day", "s = sum(litres)\nsort day"))]
#[case(milk().pivot("day\nsort s", "s = sum(litres)"))]
#[case(milk().pivot("day", ""))]
#[case(milk().pivot("", "s = sum(litres)"))]
#[case(milk().pivot("day in (1), grade", "s = sum(litres)"))]
#[case(milk().pivot([], "s = sum(litres)"))]
fn a_text_adds_no_other_step(#[case] flow: Flow) {
    let error = flow.check().unwrap_err();
    assert!(error.kind().is_request(), "{error}");
    assert_eq!(flow.chain().count(), 1, "{flow}");
}

/// A path may be any that the system has: it is read and written as it is, and shown as far as it is text.
#[cfg(target_os = "linux")]
#[test]
fn a_path_need_not_be_text() {
    use std::os::unix::ffi::OsStrExt;
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &[u8]| folder.path().join(std::ffi::OsStr::from_bytes(name));
    let odd = path(b"mil\xff[k].csv");
    milk().write(&odd).unwrap();
    assert!(odd.exists());
    let read = Flow::read(&odd);
    assert_eq!(read.run().unwrap().len(), 3);
    assert!(read.to_string().contains("mil\u{fffd}[k].csv"), "{read}");
    assert_eq!(read.join(&*odd, Join::semi().on("farm")).run().unwrap().len(), 3);
    let error = Flow::read(path(b"mil\xfe[k].csv")).run().unwrap_err();
    assert!(error.to_string().contains("There is no file"), "{error}");
    // A folder of them.
    std::fs::create_dir(path(b"\xff")).unwrap();
    std::fs::copy(&odd, path(b"\xff/a.csv")).unwrap();
    assert_eq!(Flow::read(path(b"\xff")).run().unwrap().len(), 3);
    // What is read is not written.
    let error = Flow::read(&odd).write(&odd).unwrap_err();
    assert_eq!(error.kind(), churn::ErrorKind::Check, "{error}");
}

#[rstest]
#[case::inner(Join::inner().on("farm"), "join inner herds on farm")]
#[case::left(Join::left().on("farm"), "join left herds on farm")]
#[case::right(Join::right().on("farm"), "join right herds on farm")]
#[case::full(Join::full().on("farm"), "join full herds on farm")]
#[case::semi(Join::semi().on("farm"), "join semi herds on farm")]
#[case::anti(Join::anti().on("farm"), "join anti herds on farm")]
#[case::cross(Join::cross().prefix("h_"), "join cross herds prefix 'h_'")]
#[case::asof(Join::left().asof().on("farm").on("day >= since"), "join asof left herds on farm, day >= since")]
#[case::one(Join::left().on("farm").expect_one(), "join left herds on farm expect one")]
#[case::all(Join::inner().on("farm").expect_all(), "join inner herds on farm expect all")]
fn a_join_is_its_text(#[case] how: Join, #[case] text: &str) {
    let herds = "values farm, since, herd: ('F001', 1, 40), ('F002', 0, 55)";
    let ours = milk().join(&Flow::steps(herds), how).run().expect("a run");
    let written = format!("table herds\n  {herds}\n{}\n{text}", milk());
    let theirs = Flow::recipe(&written).run().unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(ours.to_string(), theirs.to_string());
}

#[rstest]
#[case::append(|a: Flow, b: &Flow| a.append(b), "append more")]
#[case::append_strict(|a: Flow, b: &Flow| a.append_strict(b), "append more strict")]
#[case::paste(|a: Flow, b: &Flow| a.drop("farm").paste(b), "drop farm\npaste more")]
fn a_second_table_is_its_text(#[case] add: fn(Flow, &Flow) -> Flow, #[case] text: &str) {
    let more = if text.contains("paste") { "values herd: (1), (2), (3)" } else { &milk().to_string() };
    let ours = add(milk(), &Flow::steps(more)).run().expect("a run");
    let indented = more.replace('\n', "\n  ");
    let theirs = Flow::recipe(&format!("table more\n  {indented}\n{}\n{text}", milk()));
    let theirs = theirs.run().unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(ours.to_string(), theirs.to_string());
}

#[rstest]
#[case::none(WriteOptions::new(), "")]
#[case::format(WriteOptions::new().format("csv"), "format = 'csv'")]
#[case::replace(WriteOptions::new().mode(WriteMode::Replace), "mode = replace")]
#[case::new(WriteOptions::new().mode(WriteMode::New), "mode = new")]
#[case::append(WriteOptions::new().mode(WriteMode::Append), "mode = append")]
#[case::the_last_counts(WriteOptions::new().mode(WriteMode::New).mode(WriteMode::Append), "mode = append")]
#[case::separator(WriteOptions::new().separator('|'), "separator = '|'")]
#[case::header(WriteOptions::new().header(false), "header = false")]
#[case::missing(WriteOptions::new().missing("it's none"), "missing = 'it''s none'")]
#[case::always(WriteOptions::new().quote_always(true), "quote = always")]
#[case::needed(WriteOptions::new().quote_always(false), "quote = needed")]
#[case::decimal(WriteOptions::new().separator(';').decimal(','), "separator = ';', decimal = ','")]
#[case::utf8(WriteOptions::new().encoding(TextEncoding::Utf8), "encoding = 'utf-8'")]
#[case::marked(WriteOptions::new().encoding(TextEncoding::Utf8Marked), "encoding = 'utf-8-bom'")]
#[case::utf16(WriteOptions::new().encoding(TextEncoding::Utf16), "encoding = 'utf-16'")]
#[case::latin1(WriteOptions::new().encoding(TextEncoding::Latin1), "encoding = 'latin1'")]
#[case::crlf(WriteOptions::new().crlf(true), "line_end = crlf")]
#[case::lf(WriteOptions::new().crlf(false), "line_end = lf")]
#[case::compression(WriteOptions::new().compression("gzip").level(9), "compression = 'gzip', level = 9")]
#[case::split(WriteOptions::new().split_by(["farm", "grade"]), "split_by = (farm, grade)")]
#[case::by_name(WriteOptions::new().option("header", false), "header = false")]
fn options_of_writing_are_their_text(#[case] options: WriteOptions, #[case] text: &str) {
    let step = steps::Write::new("out.csv").with(options).to_string();
    let with = if text.is_empty() { String::new() } else { format!(" with ({text})") };
    assert_eq!(step, format!("write 'out.csv'{with}"));
    // The language reads it as the same step.
    assert_eq!(milk().then(&step).to_string(), format!("{}{step}\n", milk()));
}

#[test]
fn options_of_a_workbook_are_their_text() {
    let options = WriteOptions::new().sheet("Milk").number_format("litres", "0.0").number_format("day", "0");
    let step = steps::Write::new("out.xlsx").with(options).to_string();
    assert_eq!(step, "write 'out.xlsx' with (sheet = 'Milk', number_formats = (litres '0.0', day '0'))");
    assert_eq!(milk().then(&step).to_string(), format!("{}{step}\n", milk()));
}

/// A chain over what the caller has is equal to itself alone, not to one over the same rows.
#[test]
fn given_rows_are_equal_to_themselves_alone() {
    let batches = milk().run().unwrap().batches().unwrap();
    let flow = || Flow::batches_of(batches.clone()).unwrap();
    let (ours, theirs) = (flow(), flow());
    assert_eq!(ours, ours.clone());
    assert_ne!(ours, theirs);
    assert_eq!(ours.to_string(), theirs.to_string());
}
