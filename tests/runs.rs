//! Runs as a whole: rewrites, top rows, cancellation, progress, memory, batches in and out.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use arrow_array::types::Int8Type;
use arrow_array::{
    ArrayRef, BooleanArray, Date64Array, DictionaryArray, Float32Array, Int16Array, LargeStringArray,
    RecordBatch, StringArray, TimestampMillisecondArray, UInt64Array,
};
use arrow_schema::DataType;
use churn::{ErrorKind, Flow, RunOptions, Scalar};
use rstest::rstest;
use tempfile::TempDir;

/// A file of so many rows, with ties and nulls in `b`.
fn numbers(rows: usize) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let cell = |i: usize| if i.is_multiple_of(97) { String::new() } else { (i * 7919 % 1009).to_string() };
    let text: String =
        (0..rows).map(|i| format!("{i},{},F{:03},note {i} of a long kind\n", cell(i), i % 50)).collect();
    fs::write(folder.path().join("t.csv"), format!("a,b,farm,note\n{text}")).unwrap();
    folder
}

fn flow(folder: &TempDir, steps: &[&str]) -> Flow {
    steps.iter().fold(Flow::read("t.csv").in_folder(folder.path()), |flow, step| flow.then(step))
}

/// Each rule, in the language: the steps, and the rewrites that are made.
#[rstest]
#[case::first_to_the_reader(&["add c = a * 2", "first 10"], "first pushed down")]
#[case::not_over_a_filter(&["filter b > 1", "first 10"], "filter tested while reading")]
#[case::filter_below_columns(&["add c = a / 2", "filter b > 1"], "filter moved down, filter tested while reading")]
#[case::not_below_what_may_fail(&["add c = a * 2", "filter b > 1"], "")]
#[case::not_below_its_own_column(&["add c = a / 2", "filter c > 1"], "")]
#[case::filter_below_sort(&["sort b", "filter a > 1"], "filter moved down, filter tested while reading")]
#[case::top_rows(&["sort b", "first 10"], "sort keeps the first rows only")]
#[case::unused_columns(&["select a"], "unused columns left out")]
#[case::unused_aggregates(&["group by farm: n = count(), s = sum(a)", "drop s"], "unused columns left out")]
#[case::constants(&["filter farm = upper('f') || '001'"], "constants worked out, filter tested while reading")]
#[case::nothing(&["sort b"], "")]
fn rewrites(#[case] steps: &[&str], #[case] expected: &str) {
    let folder = numbers(300);
    let plan = flow(&folder, steps).plan().unwrap();
    assert_eq!(plan.rewrites().join(", "), expected);
}

#[rstest]
fn the_first_of_a_sort_are_its_first(
    #[values("b", "b desc nulls first", "b desc, a desc", "farm desc, b")] keys: &str,
    #[values(0, 1, 10, 3000)] keep: usize,
) {
    let folder = numbers(30_000);
    let all = flow(&folder, &[&format!("sort {keys}")]).run().unwrap();
    let few = flow(&folder, &[&format!("sort {keys}"), &format!("first {keep}")]);
    let few = few.run_with(&RunOptions::new().threads(3).block_bytes(3000)).unwrap();
    assert_eq!(few.len(), keep);
    let first = |column: &str| all.values(column).unwrap()[..keep].to_vec();
    for column in ["a", "b", "farm", "note"] {
        assert_eq!(few.values(column).unwrap(), first(column));
    }
}

#[test]
fn a_table_used_twice_runs_once() {
    let folder = numbers(1000);
    let recipe = "table big\n  read 't.csv'\n  filter b > 500\n\ntable check\n  read big\n  require b > 500\n\nread big\ntotal: n = count()";
    let flow = Flow::recipe(recipe).in_folder(folder.path());
    let plan = flow.plan().unwrap();
    assert!(plan.rewrites().contains(&"common table run once"));
    let table = flow.run().unwrap();
    let steps = table.ledger().steps();
    let filtered = steps[1].rows_out.unwrap();
    assert_eq!(table.value(0, "n").unwrap(), Scalar::Int(filtered as i64));
    assert_eq!(
        steps.iter().filter_map(|s| s.rows_out).collect::<Vec<_>>(),
        [1000, filtered, filtered, filtered, filtered, 1]
    );
    let recipe = "table big\n  read 't.csv'\n  filter b > 500\n\ntable sums\n  read big\n  total: s = sum(a), all_n = count()\n\nread big\ngroup by farm: n = count()\njoin cross sums\ntotal: n = sum(n), m = max(all_n), s = max(s)";
    let some = Flow::recipe(recipe).in_folder(folder.path());
    let plan = some.plan().unwrap().to_string();
    // What one use needs and what the other one needs.
    assert!(plan.contains("holds 2 columns"), "{plan}");
    let table = some.run().unwrap();
    assert_eq!(table.value(0, "n").unwrap(), table.value(0, "m").unwrap());
    let once = Flow::recipe("table big\n  read 't.csv'\n\nread big\nfilter b > 500\ntotal: n = count()")
        .in_folder(folder.path());
    assert!(once.plan().unwrap().rewrites().contains(&"filter tested while reading"));
    assert_eq!(once.run().unwrap().value(0, "n").unwrap(), Scalar::Int(filtered as i64));
}

#[test]
fn a_run_can_be_watched_and_stopped() {
    let folder = numbers(200_000);
    let stop = Arc::new(AtomicBool::new(true));
    let error = flow(&folder, &["sort b"]).run_with(&RunOptions::new().cancel(stop)).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Interrupted);
    let rows = Arc::new(AtomicU64::new(0));
    let seen = rows.clone();
    let flow = flow(&folder, &["filter a >= 0", "write 'out.csv'"]);
    let stop = Arc::new(AtomicBool::new(false));
    let stopping = stop.clone();
    // Stopped on the way, a run leaves no file.
    let options = RunOptions::new().block_bytes(2000).cancel(stop).on_progress(move |p| {
        seen.store(p.rows, Ordering::Relaxed);
        stopping.store(true, Ordering::Relaxed);
        std::thread::sleep(std::time::Duration::from_millis(1));
    });
    if let Err(error) = flow.plan().unwrap().run_for_effect(&options) {
        assert_eq!(error.kind(), ErrorKind::Interrupted);
        assert!(rows.load(Ordering::Relaxed) > 0);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}

#[rstest]
#[case("sort b, note")]
#[case("distinct")]
#[case("distinct by note")]
#[case("first 2 per farm")]
#[case("last 2 per note")]
#[case("add m = max(b) per note")]
#[case("group by note: n = count(), b = sum(b), l = array_agg(a), d = count_distinct(note)")]
#[case("require unique by a")]
#[case("fill note with mode(note) per farm")]
fn little_memory_changes_no_answer(#[case] step: &str) {
    let folder = numbers(10_000);
    let temporary = tempfile::tempdir().unwrap();
    let with = |memory: u64, threads: usize| {
        let options = RunOptions::new().memory(memory).threads(threads).temporary(temporary.path());
        let table = flow(&folder, &[step]).run_with(&options).unwrap();
        (format!("{table:?}"), table.ledger().clone(), table.to_string())
    };
    let (_, ledger, shown) = with(1 << 30, 2);
    for threads in [1, 3] {
        let (_, small_ledger, small) = with(20_000, threads);
        assert_eq!((small_ledger, small), (ledger.clone(), shown.clone()), "{step}");
    }
    assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0);
}

#[test]
fn rows_in_little_memory_are_the_same_rows() {
    let folder = numbers(10_000);
    for step in [
        "sort b, note",
        "distinct by note",
        "add m = sum(b) per note",
        "group by note: n = count(), b = sum(b)",
    ] {
        let rows = |memory: u64| {
            let chain = flow(
                &folder,
                &[step, "add line = cast(b as text) || note", "total: all = listagg(line, ';')"],
            );
            chain.run_with(&RunOptions::new().memory(memory)).unwrap().values("all").unwrap()
        };
        assert_eq!(rows(1 << 30), rows(1), "{step}");
    }
}

#[test]
fn one_group_that_does_not_fit_is_an_error_that_says_so() {
    let folder = numbers(400_000);
    let chain = flow(&folder, &["total: m = array_agg(note)"]);
    let error = chain.run_with(&RunOptions::new().memory(1_000_000)).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Memory);
    // What streams needs none.
    let chain = flow(&folder, &["filter b > 1", "total: n = count()"]);
    assert!(chain.run_with(&RunOptions::new().memory(1)).is_ok());
}

#[test]
fn a_temporary_folder_that_is_not_there_is_told() {
    let folder = numbers(1000);
    let options = RunOptions::new().memory(1).temporary(folder.path().join("nowhere"));
    let error = flow(&folder, &["sort b"]).run_with(&options).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Output);
    assert!(error.to_string().contains("nowhere"), "{error}");
}

#[test]
fn a_reader_of_batches_may_stop() {
    let folder = numbers(50_000);
    let options = RunOptions::new().block_bytes(1000);
    let mut batches = flow(&folder, &["filter a >= 0"]).batches_with(&options).unwrap();
    assert_eq!(batches.schema().fields().len(), 4);
    assert!(batches.next().unwrap().unwrap().num_rows() > 0);
    drop(batches);
    let mut wrong = flow(&folder, &["add c = cast(note as int)"]).batches_with(&options).unwrap();
    assert_eq!(wrong.next().unwrap().unwrap_err().kind(), ErrorKind::Data);
    assert!(wrong.next().is_none());
}

#[test]
fn narrow_types_are_carried_and_widened() {
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("small", Arc::new(Int16Array::from(vec![Some(1), None, Some(3)]))),
        ("large", Arc::new(UInt64Array::from(vec![1, 2, 3]))),
        ("single", Arc::new(Float32Array::from(vec![0.5, 1.5, 2.5]))),
        ("text", Arc::new(StringArray::from(vec!["a", "b", "a"]))),
        ("long", Arc::new(LargeStringArray::from(vec!["a", "b", "a"]))),
        ("code", Arc::new(DictionaryArray::<Int8Type>::from_iter([Some("A"), None, Some("A")]))),
        ("day", Arc::new(Date64Array::from(vec![0, 86_400_000, 0]))),
        ("at", Arc::new(TimestampMillisecondArray::from(vec![0, 1500, 0]).with_timezone("UTC"))),
        ("flag", Arc::new(BooleanArray::from(vec![true, false, true]))),
    ];
    let batch = RecordBatch::try_from_iter(columns).unwrap();
    let flow = Flow::batches_of(vec![batch.clone(), batch]).unwrap();
    let carried = flow.clone().filter("flag").select("small, code, at").run().unwrap();
    assert_eq!(carried.schema().field(0).data_type(), &DataType::Int16);
    assert_eq!(carried.batches().unwrap().iter().map(RecordBatch::num_rows).sum::<usize>(), 4);
    let table = flow
        .group(
            "code, day, text = text || long",
            "s = sum(small), l = sum(large), f = sum(single), at = max(at), every(flag)",
        )
        .run()
        .unwrap();
    assert_eq!(table.len(), 2);
    let row = |i: usize| {
        table.columns().map(|(n, _)| table.value(i, n).unwrap().plain()).collect::<Vec<_>>().join("|")
    };
    assert_eq!(row(0), "A|1970-01-01|aa|8|8|6.0|1970-01-01 00:00:00|true");
    assert_eq!(row(1), "|1970-01-02|bb||4|3.0|1970-01-01 00:00:01.500|false");
}

#[test]
fn events_are_counted_where_they_happen() {
    let flow = Flow::steps("values a, b: (1, 0), (4, 2), (-1, 1), (null, 0)")
        .add("q = a / b\nroot = sqrt(a)\nn = try_cast('x' as int)")
        .filter("q > 0");
    let ledger = flow.run().unwrap().ledger().clone();
    let steps: Vec<String> = ledger.steps().iter().map(|s| s.what_happened().join("; ")).collect();
    assert_eq!(
        steps,
        [
            "",
            "4 failed casts made null; 1 division by zero made null; 1 value out of a function's domain made null",
            "1 not true; 2 unknown: q is null"
        ]
    );
    let json = serde_json::to_value(&ledger).unwrap();
    assert_eq!(json["steps"][2]["rows_in"], 4);
    assert_eq!(json["steps"][1]["zero_divisions"], 1);
}

#[test]
fn samples_are_reproducible_and_in_order() {
    let folder = numbers(5000);
    let sample = |step: &str, block: usize| {
        let table =
            flow(&folder, &[step]).run_with(&RunOptions::new().threads(2).block_bytes(block)).unwrap();
        table.values("a").unwrap()
    };
    for step in ["sample 100", "sample 100 seed 3", "sample 10 percent"] {
        let rows = sample(step, 1 << 20);
        assert_eq!(rows, sample(step, 500));
        assert!(
            rows.windows(2).all(|w| w[0].plain().parse::<u32>().unwrap() < w[1].plain().parse().unwrap())
        );
    }
    assert_eq!(sample("sample 100", 900).len(), 100);
    assert_ne!(sample("sample 100", 900), sample("sample 100 seed 3", 900));
    assert!((400..600).contains(&sample("sample 10 percent", 900).len()));
    assert_eq!(sample("sample 100 percent", 900).len(), 5000);
}

/// How many rows are read beyond those that a `first` needs depends on batches and on memory: steps below it are not
/// counted, and the account is the same at every setting.
#[rstest]
#[case::a_filter("filter a > 3\nfirst 5", &[None, None, Some(5)])]
#[case::fewer_than_wanted("filter a < 3\nfirst 500", &[Some(1000), Some(3), Some(3)])]
#[case::the_reader_alone("first 5", &[Some(5), Some(5)])]
#[case::a_join("join left 't.csv' on a prefix 'o_'\nfirst 5", &[None, None, Some(5)])]
#[case::a_join_that_must_see_all("join left 't.csv' on a prefix 'o_' expect one\nfirst 5", &[Some(1000), Some(1000), Some(5)])]
#[case::behind_a_sort("filter a > 3\nsort b\nfilter b > 0\nfirst 5", &[Some(1000), Some(996), Some(996), Some(986), Some(5)])]
#[case::behind_a_window("window order by a: r = row_number()\nfilter r > 3\nfirst 5", &[Some(1000), Some(1000), None, Some(5)])]
#[case::a_requirement("filter a > 3\nrequire a > 0\nfirst 5", &[Some(1000), Some(996), Some(996), Some(5)])]
fn what_a_first_cuts_off_is_not_counted(#[case] steps: &str, #[case] expected: &[Option<u64>]) {
    let folder = numbers(1000);
    let flow = Flow::steps(&format!("read 't.csv'\n{steps}")).in_folder(folder.path());
    for (threads, memory, batch) in [(1, u64::MAX, 8192), (2, u64::MAX, 3), (1, 1, 100), (7, 1, 8192)] {
        let options = RunOptions::new().threads(threads).memory(memory).batch_rows(batch).block_bytes(700);
        let table = flow.run_with(&options).unwrap();
        let ledger = table.ledger();
        let main = ledger.steps().iter().filter(|step| step.table.is_none());
        let found: Vec<Option<u64>> = main.map(|step| step.rows_out).collect();
        assert_eq!(found, expected, "{threads} threads, {memory} bytes, {batch} rows\n{ledger}");
        let is_cut = expected.contains(&None);
        assert_eq!(
            ledger.to_string().contains("as far as needed"),
            is_cut && expected[0].is_none(),
            "{ledger}"
        );
    }
}

/// A row that is wrong stops a run only where it is read before what was asked for is there, whatever is held on the way.
#[rstest]
#[case::a_join("join left 'o.csv' on a prefix 'o_'")]
#[case::a_join_that_keeps_the_other_rows("join full 'o.csv' on a prefix 'o_'")]
#[case::behind_a_step_in_order("first 1 per a\njoin full 'o.csv' on a prefix 'o_'")]
fn a_wrong_row_behind_a_first_stops_no_run(#[case] steps: &str) {
    let folder = numbers(3_000);
    let text = fs::read_to_string(folder.path().join("t.csv")).unwrap();
    fs::write(folder.path().join("o.csv"), &text).unwrap();
    fs::write(folder.path().join("t.csv"), format!("{text}wrong,1,F1,x\n")).unwrap();
    let flow = |last: &str| {
        Flow::steps(&format!("read 't.csv' with (types = (a int))\n{steps}\n{last}")).in_folder(folder.path())
    };
    for (threads, memory, batch) in [(1, u64::MAX, 8192), (2, u64::MAX, 3), (1, 1, 100), (7, 1, 8192)] {
        let options = RunOptions::new().threads(threads).memory(memory).batch_rows(batch).block_bytes(700);
        let told = format!("{threads} threads, {memory} bytes, {batch} rows");
        let table = flow("first 5").run_with(&options).unwrap_or_else(|e| panic!("{told}\n{e}"));
        assert_eq!(table.len(), 5, "{told}");
        let error = flow("filter a > 0").run_with(&options).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::Data, "{told}");
        assert!(error.to_string().contains("t.csv, line 3002"), "{told}\n{error}");
    }
}

#[test]
fn markdown_is_written_row_by_row_and_not_read() {
    let folder = numbers(3);
    let flow = Flow::steps("read 't.csv'\nselect a, b = if(a = 1, null, a / 4), note = 'x|y'")
        .in_folder(folder.path());
    flow.write(folder.path().join("t.md")).unwrap();
    let written = fs::read_to_string(folder.path().join("t.md")).unwrap();
    assert_eq!(written, flow.run().unwrap().markdown().unwrap());
    assert_eq!(written.lines().next_back(), Some("| 2 | 0.5 | x\\|y |"));
    assert!(written.contains("| 1 | · | x\\|y |"));
    let error = Flow::read("t.md").in_folder(folder.path()).check().unwrap_err();
    assert!(error.what().contains("written, not read"), "{error}");
}

/// A run whose reader went away stops, whatever it is at: nothing holds its options any more.
#[rstest]
#[case::a_sort("sort a desc, o_b")]
#[case::groups("group by a: n = count(), m = median(o_b)")]
#[case::a_window("window by farm order by a: s = sum(o_b) over rows so far")]
fn dropping_a_reader_stops_the_run(#[case] step: &str) {
    let folder = numbers(20_000);
    let flow = Flow::steps(&format!("read 't.csv'\njoin cross 't.csv' prefix 'o_'\n{step}"))
        .in_folder(folder.path());
    let began = Arc::new(AtomicBool::new(false));
    let held = Arc::downgrade(&began);
    let seen = began.clone();
    let options = RunOptions::new().threads(2).memory(64 << 20);
    let options = options.on_progress(move |_| began.store(true, Ordering::Relaxed));
    let reader = flow.batches_with(&options).unwrap();
    drop(options);
    while !seen.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(5));
    }
    drop((reader, seen));
    // All 400 million rows would take minutes.
    for _ in 0..600 {
        if held.upgrade().is_none() {
            return;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    panic!("the run goes on");
}

/// Where a morsel has as many groups as rows, rows are passed on in place of groups: short keys and long ones, in memory and
/// on disk, the first appearance of each group counts.
#[rstest]
#[case::packed("i * 7919 mod 30011", "F")]
#[case::as_bytes("i * 7919 mod 30011", "The farm with the number ")]
#[case::few_of_many("case when i mod 3 = 0 then i else i mod 7 end", "F")]
fn many_groups_are_those_of_their_rows(#[case] key: &str, #[case] prefix: &str) {
    let folder = tempfile::tempdir().unwrap();
    let mut text = String::from("i,litres\n");
    for i in 0..60_000i64 {
        text += &format!("{i},{}\n", i % 1000);
    }
    fs::write(folder.path().join("t.csv"), text).unwrap();
    let flow = Flow::steps("read 't.csv'")
        .add(format!("k = '{prefix}' || cast({key} as text)"))
        .group("k, odd = i mod 2", "n = count(), s = sum(litres), f = first(i), m = max(i)")
        .in_folder(folder.path());
    // The same by a sort: groups of rows that stand together.
    let rows = Flow::steps("read 't.csv'").add(format!("k = {key}, odd = i mod 2")).in_folder(folder.path());
    let rows = rows.run().unwrap();
    let ints = |name: &str| -> Vec<i64> {
        rows.values(name).unwrap().iter().map(|v| if let Scalar::Int(v) = v { *v } else { -1 }).collect()
    };
    let (keys, odd, litres) = (ints("k"), ints("odd"), ints("litres"));
    let mut expected: Vec<[i64; 6]> = Vec::new();
    let mut places = std::collections::HashMap::new();
    for (i, ((key, odd), litres)) in keys.iter().zip(&odd).zip(&litres).enumerate() {
        let i = i as i64;
        let place = *places.entry((*key, *odd)).or_insert(expected.len());
        if place == expected.len() {
            expected.push([*key, *odd, 0, 0, i, i]);
        }
        let group = &mut expected[place];
        group[2] += 1;
        group[3] += litres;
        group[5] = i;
    }
    for (threads, memory) in [(1, None), (2, None), (2, Some(1)), (1, Some(1 << 20))] {
        let mut options = RunOptions::new().threads(threads);
        if let Some(memory) = memory {
            options = options.memory(memory);
        }
        let table = flow.run_with(&options).unwrap();
        assert_eq!(table.len(), expected.len(), "{threads} {memory:?}");
        let column = |name: &str| table.values(name).unwrap();
        let (k, others) = (column("k"), ["odd", "n", "s", "f", "m"].map(column));
        for (row, group) in expected.iter().enumerate() {
            assert_eq!(k[row].plain(), format!("{prefix}{}", group[0]), "{threads} {memory:?}");
            let found = others.each_ref().map(|column| column[row].clone());
            assert_eq!(found, [1, 2, 3, 4, 5].map(|i| Scalar::Int(group[i])), "{threads} {memory:?}");
        }
    }
}
