//! Two tables, windows, wide and long, by examples: what each step gives, one case each.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use churn::{Event, Flow, RunOptions, Scalar, Table};
use rstest::rstest;
use tempfile::TempDir;

/// A table as text: names, then rows; null is `·`.
fn shown(table: &Table) -> String {
    let names: Vec<&str> = table.columns().map(|(n, _)| n).collect();
    let columns: Vec<Vec<Scalar>> = names.iter().map(|n| table.values(n).unwrap()).collect();
    let cell = |v: &Scalar| if v.is_null() { "·".to_owned() } else { v.plain() };
    let row = |i: usize| columns.iter().map(|c| cell(&c[i])).collect::<Vec<_>>().join(" ");
    let rows: Vec<String> = (0..table.len()).map(row).collect();
    format!("{} / {}", names.join(" "), rows.join(" / "))
}

const TABLES: &str = "\
table farms
  values farm, district, herd
    'F1', 'Lakes', 40
    'F2', 'Vale', 55
    'F4', 'Vale', null
table prices
  values grade, since, price
    'A', 1, 0.4
    'A', 5, 0.5
    'B', 3, 0.3
table doubled
  values farm, x: ('F1', 1), ('F1', 2), ('F2', 3)
values farm, grade, day, litres
  'F2', 'A', 4, 10
  'F1', 'B', 2, 20
  'F3', 'A', 6, 30
  null, 'A', 5, 40
";

fn run(steps: &str) -> churn::Result<Table> {
    Flow::recipe(&format!("{TABLES}{steps}")).run_with(&RunOptions::new().threads(2))
}

#[rstest]
#[case::inner("join farms on farm\nselect farm, district", "farm district / F2 Vale / F1 Lakes")]
#[case::left("join left farms on farm\nselect farm, herd", "farm herd / F2 55 / F1 40 / F3 · / · ·")]
#[case::right(
    "join right farms on farm\nselect farm, litres, herd",
    "farm litres herd / F2 10 55 / F1 20 40 / F4 · ·"
)]
#[case::full(
    "join full farms on farm\nselect farm, litres, herd",
    "farm litres herd / F2 10 55 / F1 20 40 / F3 30 · / · 40 · / F4 · ·"
)]
#[case::options_with_commas(
    "join farms on farm, prefix 'f_', expect one\nselect farm, f_herd",
    "farm f_herd / F2 55 / F1 40"
)]
#[case::pivot_options_with_commas(
    "pivot grade by farm: n = count(), fill 0, totals, named 'g_' || grade\nfirst 2",
    "farm g_A g_B g_total / F2 1 0 1 / F1 0 1 1"
)]
#[case::pivot_options_before_items(
    "pivot grade by farm: fill 0, n = count(), s = sum(litres) totals\nfirst 1",
    "farm A_n A_s B_n B_s total_n total_s / F2 1 10 0 0 1 10"
)]
#[case::semi("join semi farms on farm\nselect farm", "farm / F2 / F1")]
#[case::anti("join anti farms on farm\nselect farm", "farm / F3 / ·")]
#[case::cross("join cross doubled prefix 'd_'\ntotal: n = count(), x = sum(d_x)", "n x / 12 24")]
#[case::doubled("join doubled on farm\nselect farm, x", "farm x / F2 3 / F1 1 / F1 2")]
#[case::asof(
    "join asof left prices on grade, day >= since\nselect day, price",
    "day price / 4 0.4 / 2 · / 6 0.5 / 5 0.5"
)]
#[case::band(
    "table bands\n  values size, low, high: ('small', 0, 15), ('middle', 15, 30), ('large', 25, 99)\n",
    ""
)]
#[case::append("append doubled\nselect farm, litres, x\nlast 2", "farm litres x / F1 · 2 / F2 · 3")]
#[case::append_widens("append prices\nselect day, price\nlast 1", "day price / · 0.3")]
#[case::lag(
    "window order by day: before = lag(litres), after = lead(litres, 2, 0)\nselect day, before, after",
    "day before after / 4 20 30 / 2 · 40 / 6 40 0 / 5 10 0"
)]
#[case::frames(
    "window order by day\n  a = sum(litres) over last 2 rows\n  b = sum(litres) over rows from here\n  c = count() over range between 1 preceding and current row\nselect a, b, c",
    "a b c / 30 80 1 / 20 100 1 / 70 30 2 / 50 70 2"
)]
#[case::ranks(
    "window by grade order by litres desc: r = rank(), n = ntile(2), c = cume_dist()\nselect litres, r, n, c",
    "litres r n c / 10 3 2 1.0 / 20 1 1 1.0 / 30 2 1 0.6666666666666666 / 40 1 1 0.3333333333333333"
)]
#[case::per("add share = litres / sum(litres) per grade\nselect share", "share / 0.125 / 1.0 / 0.375 / 0.5")]
#[case::pivot(
    "pivot grade by farm: litres = sum(litres)\nsort farm",
    "farm A B / F1 · 20 / F2 10 · / F3 30 · / · 40 ·"
)]
#[case::pivot_in(
    "pivot grade in ('B', 'C') by farm: n = count(), litres = max(litres) fill 0",
    "farm B_n B_litres C_n C_litres / F1 1 20 0 0"
)]
#[case::pivot_totals(
    "filter farm is not null\npivot grade by farm: m = mean(litres) totals",
    "farm A B total / F2 10.0 · 10.0 / F1 · 20.0 20.0 / F3 30.0 · 30.0 / total 20.0 20.0 20.0"
)]
#[case::pivot_named(
    "pivot grade in ('A') by day\n  n = count()\n  named grade || ': ' || item\nfirst 1",
    "day A: n / 4 1"
)]
#[case::unpivot(
    "unpivot value for what in day, litres\nfirst 3",
    "farm grade what value / F2 A day 4 / F2 A litres 10 / F1 B day 2"
)]
#[case::unpivot_part(
    "select farm, a_x = day, a_y = litres, b_x = litres\nunpivot for (side, *) in each '*_*' split '_'\nfirst 2",
    "farm side x y / F2 a 4 10 / F2 b 10 ·"
)]
#[case::split(
    "split farm after 1 as letter, number int\nselect letter, number",
    "letter number / F 2 / F 1 / F 3 / · ·"
)]
#[case::unnest(
    "group by grade: day = array_agg(day), litres = array_agg(litres)\nunnest day, litres\nfirst 2",
    "grade day litres / A 4 10 / A 6 30"
)]
#[case::fill_down("fill farm down\nselect farm", "farm / F2 / F1 / F3 / F3")]
#[case::fill_up("add x = nullif(litres, 10)\nfill x up by grade\nselect x", "x / 30 / 20 / 30 / 40")]
fn chains(#[case] steps: &str, #[case] expected: &str) {
    if expected.is_empty() {
        // The case has a table of its own, which stands before the main chain.
        let recipe =
            format!("{steps}{TABLES}join left bands on litres between low and high\nselect litres, size");
        let table = Flow::recipe(&recipe).run().unwrap();
        assert_eq!(shown(&table), "litres size / 10 small / 20 middle / 30 middle / 30 large / 40 large");
        return;
    }
    let table = run(steps).unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(shown(&table), expected);
}

#[rstest]
#[case("join doubled on farm expect one", "A row matches 2 rows of doubled, and one is expected.")]
#[case("join farms on farm expect all", "A row matches no row of farms, and all are expected to.")]
#[case("paste farms", "Columns of these names are on both sides: farm.")]
#[case("drop farm\npaste farms", "The tables differ in length")]
#[case("append farms strict", "farms has other columns.")]
#[case("pivot grade by farm: day\npivot farm: n = litres", "There is no column litres.")]
#[case("select grade, litres\npivot grade: litres", "litres has several values for one cell.")]
#[case("split grade at '' as a", "A text cannot be cut at nothing.")]
#[case("unnest grade", "grade is text, not a list.")]
#[case("window: r = rank()", "rank needs an order.")]
#[case("join prices on day = price, farm >= since", "farm is text on the left")]
fn faults(#[case] steps: &str, #[case] expected: &str) {
    let error = run(steps).err().unwrap_or_else(|| panic!("{steps} runs")).to_string();
    assert!(error.contains(expected), "{error}");
}

#[test]
fn the_ledger_tells_of_both_sides() {
    let table = run("join left doubled on farm").unwrap();
    let ledger = table.ledger();
    assert_eq!(ledger.total(Event::MatchedNone), 2);
    assert_eq!(ledger.total(Event::MatchedSeveral), 1);
    assert_eq!(ledger.total(Event::OtherMatchedNone), 0);
    let told = ledger.warnings();
    assert_eq!(
        told,
        ["join left doubled on farm: 1 matched several rows, so that 4 rows became 5; \
          2 of 4 rows matched none and were kept with nulls."]
    );
}

#[test]
fn a_table_joins_itself() {
    let table = run("add next = day + 1\nselect farm, day, next").unwrap();
    assert_eq!(table.len(), 4);
    let recipe = "table days\n  values day, litres: (1, 10), (2, 20), (3, 40)\n\
        read days\njoin left days on day = litres prefix 'a_'\njoin days on day prefix 'b_'\nselect day, b_litres";
    assert_eq!(shown(&Flow::recipe(recipe).run().unwrap()), "day b_litres / 1 10 / 2 20 / 3 40");
}

#[test]
fn conditions_move_below_windows_and_groups_and_the_ledger_stays_true() {
    let steps = "window by grade order by day: n = row_number()\nfilter grade = 'A'\ngroup by grade: n = max(n)\nfilter grade = 'A'";
    let flow = Flow::recipe(&format!("{TABLES}{steps}"));
    assert!(flow.plan().unwrap().rewrites().contains(&"filter moved down"));
    let table = flow.run().unwrap();
    assert_eq!(shown(&table), "grade n / A 3");
    assert_eq!(table.ledger().total(Event::NotTrue), 1);
    let early = run("group by grade: n = count()\nfilter grade = 'B'").unwrap();
    assert_eq!(early.ledger().total(Event::Prefiltered), 3);
}

#[rstest]
#[case("join inner farms on farm", "herd > 45")]
#[case("join left farms on farm", "herd > 45 and litres > 10")]
#[case("join left farms on farm", "district is null and grade = 'A'")]
#[case("join full farms on farm", "herd < 50 and litres < 30")]
#[case("join right doubled on farm", "x <> 2 and (litres > 10 or grade is null)")]
#[case("join semi farms on farm", "litres > 10")]
#[case("join cross prices prefix 'p_'", "litres > 10 and p_price < 0.5 and litres > p_since")]
#[case("join asof left prices on grade, day >= since", "price > 0.4 and litres < 40")]
fn a_filter_above_a_join_is_tested_early_and_the_ledger_stays_true(#[case] join: &str, #[case] test: &str) {
    let early = run(&format!("{join}\nfilter {test}")).unwrap();
    // The same, in a form whose parts are not seen to be of one side.
    let late =
        run(&format!("{join}\nfilter ({test} and day is null) or ({test} and day is not null)")).unwrap();
    assert_eq!(shown(&early), shown(&late));
    let events = |table: &Table| {
        let steps = table.ledger().steps().iter().rev().take(2);
        steps.map(|step| (step.rows_in, step.rows_out, step.events.clone())).collect::<Vec<_>>()
    };
    assert_eq!(events(&early), events(&late));
    let plan = Flow::recipe(&format!("{TABLES}{join}\nfilter {test}")).plan().unwrap().to_string();
    assert!(plan.contains("filter tested while joining"), "{plan}");
}

#[test]
fn windows_share_a_sort() {
    let steps = "window by grade order by day: a = lag(litres)\nadd b = litres + 1\nwindow by grade order by day: c = lead(b)";
    let flow = Flow::recipe(&format!("{TABLES}{steps}\nselect a, c"));
    assert!(flow.plan().unwrap().rewrites().contains(&"windows share a sort"));
    assert_eq!(shown(&flow.run().unwrap()), "a c / · 41 / · · / 40 · / 10 31");
}

#[test]
fn a_pivot_of_an_unpivot_gives_the_table_back() {
    let steps = "select farm = coalesce(farm, '?'), day, litres";
    let whole = shown(&run(steps).unwrap());
    let there_and_back =
        run(&format!("{steps}\nunpivot value for what in day, litres\npivot what by farm: value")).unwrap();
    assert_eq!(shown(&there_and_back), whole);
}

#[test]
fn a_workbook_is_written_and_read() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("milk.xlsx");
    Flow::recipe(&format!(
        "{TABLES}add at = date '2026-03-01', ok = litres > 10, code = '00' || cast(day as text)"
    ))
    .write(&path)
    .unwrap();
    let table = Flow::read(&path).run().unwrap();
    let kinds: Vec<String> = table.columns().map(|(_, kind)| kind.to_string()).collect();
    assert_eq!(kinds, ["text", "text", "int", "int", "date", "bool", "text"]);
    assert_eq!(table.value(0, "at").unwrap().plain(), "2026-03-01");
    assert_eq!(table.value(3, "farm").unwrap(), Scalar::Null);
    let error = Flow::steps(&format!("read '{}' with (sheet = 'Milk')", path.display())).check().unwrap_err();
    assert!(error.to_string().contains("Its sheets are Sheet1."), "{error}");
}

#[test]
fn a_layered_heading_is_read_from_a_sheet() {
    use rust_xlsxwriter::{Format, Workbook};
    let folder = TempDir::new().unwrap();
    let mut book = Workbook::new();
    let sheet = book.add_worksheet();
    sheet.merge_range(1, 2, 1, 3, "2026-01", &Format::new()).unwrap();
    for (column, name) in [(1, "district"), (2, "A"), (3, "B")] {
        sheet.write_string(2, column, name).unwrap();
    }
    sheet.write_string(3, 1, "Lakes").unwrap();
    sheet.write_number(3, 2, 0.41).unwrap();
    sheet.write_string(3, 3, "0.38").unwrap();
    book.save(folder.path().join("prices.xlsx")).unwrap();
    let flow = Flow::steps("read 'prices.xlsx' with (header = 2, area = 'B2')")
        .in_folder(folder.path())
        .unpivot("price for (month, grade) in each '* | *' split ' | '");
    assert_eq!(
        shown(&flow.run().unwrap()),
        "district month grade price / Lakes 2026-01 A 0.41 / Lakes 2026-01 B 0.38"
    );
}

#[test]
fn what_is_larger_than_memory_gives_the_same() {
    let folder = TempDir::new().unwrap();
    let rows = |n: u32, step: u32| (0..n).map(|i| format!("{},{}\n", i * step % 997, i)).collect::<String>();
    fs::write(folder.path().join("a.csv"), format!("k,x\n{}", rows(20_000, 7))).unwrap();
    fs::write(folder.path().join("b.csv"), format!("k,y\n{}", rows(3_000, 11))).unwrap();
    let chains = [
        "join full 'b.csv' on k",
        "join left 'b.csv' on k, x >= y",
        "window by k order by x desc: m = median(x) over last 5 rows",
        "add s = sum(x) per k, t = sum(x) per table",
        "pivot k in (1, 2, 3) by x: n = count()",
        "add big = k > 5\nwindow by big order by x: s = sum(k) over last 7 rows, m = median(x)",
        "add m = median(x) per k, d = count_distinct(x) per table, o = mode(k) per table",
        "group by big = k > 5: m = quantile(x, 0.3), d = count_distinct(x), o = mode(k), x = max(x)",
        "add big = k > 5\nlast 4 per big",
    ];
    for chain in chains {
        let flow = Flow::steps("read 'a.csv'")
            .in_folder(folder.path())
            .then(chain)
            .then("total: n = count(), x = sum(x)");
        let large = shown(&flow.run().unwrap());
        let small = flow.run_with(&RunOptions::new().memory(1).temporary(folder.path())).unwrap();
        assert_eq!(shown(&small), large, "{chain}");
    }
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2);
}

/// Frames much wider than what is held of them, against sums from front to back.
#[rstest]
#[case::asof("join asof 'prices.csv' on grade, day >= since")]
#[case::asof_left("join asof left 'prices.csv' on grade, day < since")]
#[case::asof_full("join asof full 'prices.csv' on day > since prefix 'p_'")]
#[case::asof_right("join asof right 'prices.csv' on grade, day <= since")]
#[case::asof_anti("join asof anti 'prices.csv' on grade, day > since")]
#[case::band("join left 'prices.csv' on day between since and until prefix 'p_'")]
#[case::no_key("filter id < 200\njoin semi 'prices.csv' on day > until")]
#[case::cross("filter id < 3\njoin cross 'prices.csv' prefix 'p_'")]
#[case::one_key("filter id < 9\njoin full 'prices.csv' on grade")]
fn another_table_is_larger_than_memory(#[case] join: &str) {
    let folder = tempfile::tempdir().unwrap();
    let write = |file: &str, heading: &str, row: &dyn Fn(u64) -> String, rows: u64| {
        let rows: String = (0..rows).map(|i| row(i * 7919 % rows)).collect();
        fs::write(folder.path().join(file), format!("{heading}\n{rows}")).unwrap();
    };
    let note = "a note of some length".repeat(3);
    let price = |i: u64| format!("{},{},{},{i} {note}\n", i / 9 * 5, i / 9 * 5 + 2, i % 3);
    write("prices.csv", "since,until,grade,note", &price, 50_000);
    write("loads.csv", "id,day,grade", &|i| format!("{i},{},{}\n", i * 13 + 7, i % 4), 2_500);
    let flow = join.lines().fold(Flow::steps("read 'loads.csv'").in_folder(folder.path()), Flow::then);
    let whole = flow.run().unwrap();
    assert!(whole.len() > 100);
    let small = flow.run_with(&RunOptions::new().memory(1).temporary(folder.path())).unwrap();
    assert!(shown(&small) == shown(&whole));
    let told = |table: &Table| table.ledger().steps().last().map(|step| step.what_happened());
    assert_eq!(told(&small), told(&whole));
}

#[rstest]
#[case::wide("rows between 9000 preceding and 3000 following", |row, _| (row - 9_000, row + 3_000))]
#[case::narrow("last 7 rows", |row, _| (row - 6, row))]
#[case::before("rows between 5000 preceding and 4990 preceding", |row, _| (row - 5_000, row - 4_990))]
#[case::so_far("rows so far", |row, _| (0, row))]
#[case::from_here("rows from here", |row, rows| (row, rows))]
#[case::by_key("range between 9000 preceding and 30 following", |row, _| (row - 4_500, row + 15))]
fn frames_of_any_width(#[case] frame: &str, #[case] ends: fn(i64, i64) -> (i64, i64)) {
    const ROWS: i64 = 20_000;
    let folder = TempDir::new().unwrap();
    let value = |row: i64| row * 7_919 % 1_013 - 500;
    let line = |row: i64| format!("{},{}\n", row * 2, value(row));
    fs::write(folder.path().join("a.csv"), format!("k,v\n{}", (0..ROWS).map(line).collect::<String>()))
        .unwrap();
    let mut sums = vec![0];
    (0..ROWS).for_each(|row| sums.push(sums.last().unwrap() + value(row)));
    let expected = |row: i64| {
        let (from, to) = ends(row, ROWS);
        let (from, to) = (from.max(0), (to + 1).clamp(0, ROWS));
        let any = from < to;
        let at = |row: i64| Scalar::Int(value(row));
        let sum = sums[to as usize] - sums[from.min(to) as usize];
        let ends = if any { [at(from), at(to - 1)] } else { [Scalar::Null, Scalar::Null] };
        [if any { Scalar::Int(sum) } else { Scalar::Null }, ends[0].clone(), ends[1].clone()]
    };
    for options in [RunOptions::new(), RunOptions::new().memory(1)] {
        let window = format!(
            "window order by k: s = sum(v) over {frame}, f = first(v) over {frame}, l = last_value(v) over {frame}"
        );
        let flow = Flow::steps("read 'a.csv'").in_folder(folder.path()).then(&window);
        let table = flow.run_with(&options).unwrap();
        let found = ["s", "f", "l"].map(|name| table.values(name).unwrap());
        for row in 0..ROWS {
            let found = [0, 1, 2].map(|i| found[i][row as usize].clone());
            assert_eq!(found, expected(row), "{row}");
        }
    }
}

/// A left file that is much smaller runs first, and what it is joined with is told of as it would be else.
#[rstest]
fn a_small_left_table_chooses_among_the_other(
    #[values("inner", "left", "semi", "anti", "asof inner")] kind: &str,
    #[values(None, Some(1))] memory: Option<u64>,
) {
    let folder = TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    fs::write(path("few.csv"), "k,v\n5,1\n9000,2\n,3\n77,4\n5,5\n123456,6\n").unwrap();
    let rows: Vec<String> = (0..20_000).map(|i| format!("{},{i}\n", i / 2)).collect();
    fs::write(path("many.csv"), format!("k,w\n{},-1\n", rows.concat())).unwrap();
    let on = if kind.starts_with("asof") { "k, v >= w" } else { "k" };
    let joined = |left: Flow| {
        let flow = left.then(&format!("join {kind} '{}' on {on}", path("many.csv").display()));
        let options = RunOptions::new();
        let table = flow.run_with(&memory.map_or(options.clone(), |m| options.memory(m))).unwrap();
        let step = table.ledger().steps().iter().find(|s| s.step.starts_with("join")).unwrap().clone();
        (shown(&table), step.rows_out, step.events)
    };
    // Behind a sort nothing tells how large the left table is.
    let few = || Flow::read(path("few.csv"));
    assert_eq!(joined(few()), joined(few().sort("v")));
}

/// What is counted where keys are tested while rows are read is what the join itself would count, also where most
/// rows match and the test gives up, and where row groups are skipped.
#[rstest]
#[case::few("csv", 3)]
#[case::most("csv", 9_999)]
#[case::few_of_row_groups("parquet", 3)]
#[case::most_of_row_groups("parquet", 9_999)]
fn keys_are_tested_while_rows_are_read(#[case] format: &str, #[case] keys: usize) {
    let folder = TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    let rows: Vec<String> = (0..100_000).map(|i| format!("{},{i},{}\n", i / 10, i % 7)).collect();
    fs::write(path("left.csv"), format!("k,v,w\n{}", rows.concat())).unwrap();
    let all: Vec<String> =
        (0..keys).map(|i| format!("{}\n", i + 5_000 * usize::from(keys < 5_000))).collect();
    fs::write(path("keys.csv"), format!("k\n{}", all.concat())).unwrap();
    let left = Flow::read(path("left.csv"));
    if format == "parquet" {
        left.write(path("left.parquet")).unwrap();
    }
    for kind in ["inner", "semi", "anti"] {
        let joined = |left: Flow| {
            let join = format!("join {kind} '{}' on k", path("keys.csv").display());
            left.then(&join).total("n = count(), s = sum(v + w)").run().unwrap()
        };
        let table = joined(Flow::read(path(&format!("left.{format}"))));
        // A sort holds the rows, so that nothing reaches the source from above.
        let plain = joined(Flow::read(path("left.csv")).sort("v"));
        assert_eq!(shown(&table), shown(&plain), "{kind}");
        let joined = |table: &Table| {
            let step = table.ledger().steps().iter().find(|s| s.step.starts_with("join")).unwrap().clone();
            (step.rows_out, step.events)
        };
        assert_eq!(joined(&table), joined(&plain), "{kind}");
    }
}

/// Keys that many rows of both sides have: each left row is kept or not, once.
#[rstest]
fn keys_that_many_rows_have_are_met_once(
    #[values("semi", "anti")] kind: &str,
    #[values(None, Some(1))] memory: Option<u64>,
) {
    let folder = TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    let rows = |keys: u32| (0..30_000).map(|i| format!("{},{i}\n", i % keys)).collect::<String>();
    fs::write(path("left.csv"), format!("k,v\n{}", rows(3))).unwrap();
    fs::write(path("other.csv"), format!("k,w\n{}", rows(2))).unwrap();
    let join = format!("join {kind} '{}' on k", path("other.csv").display());
    let flow = Flow::read(path("left.csv")).then(&join).total("n = count(), k = max(k), s = sum(v)");
    let options = RunOptions::new();
    let table = flow.run_with(&memory.map_or(options.clone(), |m| options.memory(m))).unwrap();
    let kept = |v: &u64| (v % 3 == 2) == (kind == "anti");
    let kept: Vec<u64> = (0..30_000).filter(kept).collect();
    let most = if kind == "anti" { 2 } else { 1 };
    assert_eq!(shown(&table), format!("n k s / {} {most} {}", kept.len(), kept.iter().sum::<u64>()));
}

/// The first row that is equal to one before it is told whatever the budget, wherever the rows were held.
#[test]
fn the_first_repeated_row_is_told_at_every_budget() {
    use std::fmt::Write;
    let folder = tempfile::tempdir().unwrap();
    for (repeats, first) in
        [(vec![59_000, 31_000, 40_321], 31_000), (vec![59_999], 59_999), (vec![7, 3000], 7)]
    {
        let mut text = "id,x\n".to_owned();
        for i in 0..60_000usize {
            // Most ids are far from each other, so that a small table of keys is full soon.
            let id = if repeats.contains(&i) { i - 5 } else { i };
            let _ = writeln!(text, "k{:08},{i}", id.wrapping_mul(7919) % 100_000_007);
        }
        std::fs::write(folder.path().join("t.csv"), text).unwrap();
        let flow = Flow::read("t.csv").then("require unique by id").in_folder(folder.path());
        let told: Vec<String> = [1, 1 << 20, 1 << 30]
            .map(|memory| flow.run_with(&RunOptions::new().memory(memory)).unwrap_err().to_string())
            .into();
        let id = format!("k{:08}", (first - 5usize).wrapping_mul(7919) % 100_000_007);
        assert!(told[0].contains(&id), "{}", told[0]);
        assert_eq!((&told[0], &told[1]), (&told[1], &told[2]));
    }
}

#[test]
fn a_zero_median_has_no_sign_at_any_budget() {
    let rows: Vec<String> =
        (0..4000).map(|i| format!("({})", if i % 2 == 0 { "-0.0" } else { "0.0" })).collect();
    let flow =
        Flow::steps(&format!("values x: {}\ntotal: m = median(x), q = quantile(x, 0.3)", rows.join(", ")));
    for memory in [1, 1 << 30] {
        let table = flow.run_with(&RunOptions::new().memory(memory)).unwrap();
        assert_eq!(table.value(0, "m").unwrap().plain(), "0.0");
        assert_eq!(table.value(0, "q").unwrap().plain(), "0.0");
    }
}
