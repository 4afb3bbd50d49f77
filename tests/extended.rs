//! Functions and sources of a user's own: used as ours are, held to what they promise, offered where a name is mistyped.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{ArrayRef, Float64Array, Int64Array, RecordBatch, StringArray, StringViewArray};
use arrow_schema::{DataType, Field, Schema, SchemaRef};
use churn::extend::{
    AggregateFunction, AggregateState, Batches, Catalogue, OwnFunction, ScalarFunction, Source,
    WindowFunction,
};
use churn::{ErrorKind, Flow, RunOptions, Scalar, Table, Type};
use rstest::rstest;
use serde::{Deserialize, Serialize};

/// A score of milk: by values, where null gives null.
fn quality() -> ScalarFunction {
    ScalarFunction::of_values("quality", |fat: Option<f64>, cells: Option<i64>| {
        Some(fat? * 10.0 - cells? as f64 / 100.0)
    })
}

/// Litres as kilograms, over whole columns.
fn kilograms() -> ScalarFunction {
    ScalarFunction::of_columns("kilograms", [Type::Float], Type::Float, |columns, _| {
        let litres = columns[0].as_primitive::<Float64Type>();
        let kilograms: Float64Array =
            litres.iter().map(|litres| litres.map(|litres| litres * 1.03)).collect();
        Ok(Arc::new(kilograms) as ArrayRef)
    })
}

/// Logarithms of the values of a group: their sum, and how many.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Logs {
    sum: f64,
    count: u32,
}

impl AggregateState for Logs {
    fn merge(&mut self, later: &mut Logs) {
        self.sum += later.sum;
        self.count += later.count;
    }
}

fn geometric_mean() -> AggregateFunction {
    let add = |logs: &mut Logs, x: Option<f64>| {
        if let Some(x) = x {
            logs.sum += x.ln();
            logs.count += 1;
        }
    };
    let finish =
        |logs: &Logs| (logs.count > 0).then(|| (logs.sum / f64::from(logs.count)).exp().round() as i64);
    AggregateFunction::of_values("geometric_mean", add, finish).summary("The n-th root of the product.")
}

/// The texts of a group, in order: a state that grows with its rows.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Chain(String);

impl AggregateState for Chain {
    fn merge(&mut self, later: &mut Chain) {
        self.0.push_str(&later.0);
    }

    fn heap(&self) -> usize {
        self.0.capacity()
    }
}

/// Over columns: the last letter of each text, one behind the other.
fn last_letters() -> AggregateFunction {
    let add = |states: &mut [Chain], groups: &[u32], columns: &[ArrayRef]| {
        for (group, text) in groups.iter().zip(columns[0].as_string_view()) {
            states[*group as usize].0.extend(text.and_then(|text| text.chars().last()));
        }
        Ok(())
    };
    let finish = |states: &mut [Chain]| {
        Ok(Arc::new(StringViewArray::from_iter_values(states.iter().map(|state| &state.0))) as ArrayRef)
    };
    AggregateFunction::of_columns("last_letters", [Type::Text], Type::Text, add, finish)
}

/// The last value that was no null, and how many rows ago it was, as one number.
fn since() -> WindowFunction {
    let start = || {
        let mut last: Option<(i64, i64)> = None;
        move |x: Option<i64>| {
            last = x.map(|x| (x, 0)).or(last.map(|(x, ago)| (x, ago + 1)));
            last.map(|(x, ago)| x * 1000 + ago)
        }
    };
    WindowFunction::of_values("since", start).needs_order().example("window order by day: s = since(litres)")
}

fn catalogue() -> Catalogue {
    let functions: [OwnFunction; 5] = [
        quality().into(),
        kilograms().into(),
        geometric_mean().into(),
        last_letters().into(),
        since().into(),
    ];
    functions.into_iter().try_fold(Catalogue::new(), Catalogue::with).unwrap()
}

fn milk() -> Flow {
    let milk = "values farm, litres, fat, cells: ('F001', 100, 4.1, 200), ('F002', 50, null, 300), ('F001', 10, 3.9, null)";
    Flow::steps(milk).extended(&catalogue())
}

#[test]
fn they_are_called_as_ours_are() {
    // Whole numbers become floats, as before any function.
    let flow = milk().add("q = quality(fat, cells), kg = KILOGRAMS(litres)").filter("kg > 5");
    for threads in [1, 3] {
        let table = flow.run_with(&RunOptions::new().threads(threads).batch_rows(1)).unwrap();
        assert_eq!(table.column::<Option<f64>>("q").unwrap(), [Some(39.0), None, None]);
        assert_eq!(table.column::<f64>("kg").unwrap(), [103.0, 51.5, 10.3]);
    }
    let grouped = milk().group("farm", "kg = sum(kilograms(litres)), best = max(quality(fat, cells))");
    assert_eq!(grouped.run().unwrap().value(0, "kg").unwrap(), Scalar::Float(113.3));
    // In a condition, an order, beside aggregates, in a function of a recipe and in the table of another flow.
    let per =
        milk().sort("kilograms(litres)").add("share = kilograms(litres) / sum(kilograms(litres)) per table");
    assert_eq!(per.run().unwrap().len(), 3);
    let recipe = "define twice(x) = 2 * kilograms(x)\nvalues litres: (1)\nadd t = twice(litres)";
    let table = Flow::recipe(recipe).extended(&catalogue()).run().unwrap();
    assert_eq!(table.value(0, "t").unwrap(), Scalar::Float(2.06));
    let plain = Flow::steps("values farm: ('F001')").append(&milk().add("kg = kilograms(litres)"));
    assert_eq!(plain.run().unwrap().len(), 4);
}

/// A table as lines of values between commas.
fn text(table: &Table) -> String {
    let names: Vec<&str> = table.columns().map(|(name, _)| name).collect();
    let columns: Vec<Vec<Scalar>> = names.iter().map(|name| table.values(name).unwrap()).collect();
    let row = |row: usize| columns.iter().map(|column| column[row].plain()).collect::<Vec<_>>().join(",");
    let lines = (0..table.len()).map(row);
    std::iter::once(names.join(",")).chain(lines).map(|line| line + "\n").collect()
}

/// Some settings of a run, among them ones in which everything is spilled.
const SETTINGS: [(usize, usize, u64); 4] = [(1, 8192, 1 << 30), (3, 7, 1 << 30), (1, 100, 1), (2, 1000, 1)];

/// Farms and days without order: text, number, null in every fifth row.
fn deliveries(rows: i64) -> Flow {
    let (source, _) = Generated::new(rows, "");
    Flow::of_source(source).unwrap().extended(&catalogue()).add(
        "farm = 'F' || cast(n * 7 mod 13 as text), day = n * 37 mod 1000, litres = if(n mod 5 = 0, null, n mod 90 + 1)",
    )
}

#[rstest]
#[case::many_groups("day")]
#[case::some_groups("farm")]
#[case::every_row("n")]
fn an_aggregate_is_one_of_ours_at_any_setting(#[case] key: &str) {
    let items = "g = geometric_mean(litres) where (day > 100), letters = last_letters(note), \
                 expected = cast(round(exp(mean(ln(litres)) where (day > 100))) as int)";
    let mut texts = Vec::new();
    for (threads, batch_rows, memory) in SETTINGS {
        let options = RunOptions::new().threads(threads).batch_rows(batch_rows).memory(memory);
        let table = deliveries(5000).group(key, items).run_with(&options).unwrap();
        let columns = ["g", "expected"].map(|column| table.column::<Option<i64>>(column).unwrap());
        assert_eq!(columns[0], columns[1]);
        texts.push(text(&table));
    }
    assert!(texts.windows(2).all(|pair| pair[0] == pair[1]));
    // Beside rows, of the whole table, and as columns.
    let per = deliveries(500).add("g = geometric_mean(litres) per farm").filter("n = 14").run().unwrap();
    let total = deliveries(500).filter("farm = 'F7'").total("g = geometric_mean(litres)").run().unwrap();
    assert_eq!(per.value(0, "g").unwrap(), total.value(0, "g").unwrap());
    let wide =
        deliveries(500).select("farm, litres").pivot("farm", "g = geometric_mean(litres)").run().unwrap();
    assert_eq!(wide.value(0, "F7").unwrap(), total.value(0, "g").unwrap());
}

/// In a window, over frames that slide and over whole partitions, in memory and past it.
#[test]
fn an_aggregate_slides() {
    let items = "g = geometric_mean(litres) over last 4 rows, letters = last_letters(note) over last 3 rows, whole = last_letters(note)";
    let mut texts = Vec::new();
    for (threads, batch_rows, memory) in SETTINGS {
        let options = RunOptions::new().threads(threads).batch_rows(batch_rows).memory(memory);
        let flow = deliveries(3000)
            .filter("farm in ('F1', 'F2')")
            .step(format!("window by farm order by n: {items}").parse::<churn::steps::Step>().unwrap());
        let table = flow.run_with(&options).unwrap();
        // The notes end with the digits of their numbers, and n goes up by 13 within a farm.
        let (n, letters) = (table.column::<i64>("n").unwrap(), table.column::<String>("letters").unwrap());
        for (n, letters) in n.iter().zip(&letters) {
            let seen = (0..3).rev().map(|back| n - 13 * back).filter(|n| *n >= 0);
            let expected: String = seen.map(|n| char::from(b'0' + (n % 10) as u8)).collect();
            assert_eq!(*letters, expected, "of {n}");
        }
        texts.push(text(&table));
    }
    assert!(texts.windows(2).all(|pair| pair[0] == pair[1]));
}

/// The state goes through the pieces of a partition, however it is cut, and starts anew with each.
#[test]
fn a_window_function_is_one_of_ours_at_any_setting() {
    for (threads, batch_rows, memory) in SETTINGS {
        let options = RunOptions::new().threads(threads).batch_rows(batch_rows).memory(memory);
        let flow = deliveries(20_000)
            .step("window by farm order by n: s = since(litres)".parse::<churn::steps::Step>().unwrap());
        let table = flow.run_with(&options).unwrap();
        let (farms, litres) =
            (table.column::<String>("farm").unwrap(), table.column::<Option<i64>>("litres").unwrap());
        let mut last: std::collections::HashMap<&str, (i64, i64)> = std::collections::HashMap::new();
        for (row, found) in table.column::<Option<i64>>("s").unwrap().into_iter().enumerate() {
            let state = last.get(farms[row].as_str()).copied();
            let state = litres[row].map(|x| (x, 0)).or(state.map(|(x, ago)| (x, ago + 1)));
            assert_eq!(found, state.map(|(x, ago)| x * 1000 + ago), "row {row}");
            if let Some(state) = state {
                last.insert(&farms[row], state);
            }
        }
    }
}

#[rstest]
#[case::an_aggregate_among_rows(
    "add g = geometric_mean(litres)",
    "geometric_mean(litres) is an aggregate of many rows"
)]
#[case::a_window_function_among_rows("add s = since(litres)", "since stands only in a window step.")]
#[case::without_an_order("window by farm: s = since(litres)", "since needs an order.")]
#[case::with_a_frame(
    "window by farm order by farm: s = since(litres) over last 2 rows",
    "since takes no frame"
)]
#[case::another_type(
    "group by farm: g = geometric_mean(farm)",
    "geometric_mean needs float here, and this is text."
)]
#[case::mistyped("group by farm: g = geometric_men(litres)", "Did you mean geometric_mean?")]
#[case::a_window_function_mistyped("window order by farm: s = sinse(litres)", "Did you mean since?")]
#[case::nested("group by farm: g = geometric_mean(sum(litres))", "Aggregates do not nest.")]
#[case::a_table_mistyped("append stals", "Did you mean stalls?")]
fn mistakes_with_them_are_told_at_the_check(#[case] step: &str, #[case] told: &str) {
    let catalogue = catalogue().with_table("stalls", Generated::new(3, "").0).unwrap();
    let error = milk().extended(&catalogue).then(step).check().unwrap_err();
    assert!(error.kind().is_request(), "{error}");
    assert!(error.to_string().contains(told), "{error}");
}

#[test]
fn the_help_tells_of_them() {
    let topics = catalogue().topics();
    let of = |name: &str| topics.iter().find(|topic| topic.name == name).unwrap();
    assert_eq!(of("geometric_mean").usage, "geometric_mean(float)");
    assert_eq!(of("geometric_mean").summary, "The n-th root of the product.");
    assert_eq!(of("geometric_mean").kind, churn::TopicKind::Aggregate);
    assert_eq!(of("since").kind, churn::TopicKind::WindowFunction);
    assert_eq!(of("since").example, "window order by day: s = since(litres)");
    assert_eq!(of("quality").kind, churn::TopicKind::Function);
    assert!(topics.len() > churn::topics().count());
}

/// A recipe cannot define what was given from Rust; what it defines may call it, aggregates among them.
#[test]
fn recipes_define_beside_them() {
    let twice = "define quality(x) = x\nvalues x: (1)\nadd y = quality(x)";
    let error = Flow::recipe(twice).extended(&catalogue()).check().unwrap_err();
    assert!(error.to_string().contains("There is a function quality already"), "{error}");
    // What the language has as a window function may be defined, as before.
    let ours = "define lag(x) = x + 1\nvalues x: (1)\nadd y = lag(x)";
    let table = Flow::recipe(ours).extended(&catalogue()).run().unwrap();
    assert_eq!(text(&table), "x,y\n1,2\n");
    let recipe = "define typical(x) = geometric_mean(x) + 0\nvalues k, x: ('a', 2), ('b', 8), ('a', 8)\n";
    for (step, expected) in [("total t = typical(x)", "t\n5\n"), ("pivot k\n  t = typical(x)", "a,b\n4,8\n")]
    {
        let table = Flow::recipe(&format!("{recipe}{step}")).extended(&catalogue()).run().unwrap();
        assert_eq!(text(&table), expected);
    }
}

#[rstest]
#[case::panics_while_it_adds(
    AggregateFunction::of_values("odd", |_: &mut Logs, x: Option<i64>| panic!("no {x:?}"), |_| Some(1.0)).into(),
    "group by farm: o = odd(litres)", "It panicked: no Some(100)."
)]
#[case::panics_at_the_end(
    AggregateFunction::of_values("odd", |_: &mut Logs, _: Option<i64>| {}, |_| -> Option<f64> { panic!("none") }).into(),
    "add o = odd(litres) per table", "It panicked: none."
)]
#[case::another_type(
    AggregateFunction::of_columns("odd", [Type::Int], Type::Text, |_: &mut [Logs], _, _| Ok(()), |states| {
        Ok(Arc::new(Int64Array::from(vec![1; states.len()])))
    }).into(),
    "group by farm: o = odd(litres)", "It gave Int64 where text, carried as Utf8View, was promised."
)]
#[case::a_panic_in_a_window(
    WindowFunction::of_values("odd", || |x: Option<i64>| -> Option<i64> { panic!("no {x:?}") }).into(),
    "window by farm: o = odd(litres)", "It panicked: no Some("
)]
#[case::a_panic_at_the_start(
    WindowFunction::of_columns("odd", [Type::Int], Type::Int, || {
        if true { panic!("no start") }
        |_: &[ArrayRef], _| Ok(Arc::new(Int64Array::from(vec![1])) as ArrayRef)
    }).into(),
    "window by farm: o = odd(litres)", "It panicked: no start."
)]
#[case::too_few_in_a_window(
    WindowFunction::of_columns("odd", [Type::Int], Type::Int, || |_: &[ArrayRef], _| {
        Ok(Arc::new(Int64Array::from(vec![1, 2, 3])) as ArrayRef)
    }).into(),
    "window: o = odd(litres + 0)\nwindow by farm: p = odd(litres)", "It gave 3 values for "
)]
fn whatever_breaks_its_promise_is_told(#[case] odd: OwnFunction, #[case] step: &str, #[case] why: &str) {
    for (threads, batch_rows, memory) in SETTINGS {
        let flow = milk().extended(&Catalogue::new().with(odd.clone()).unwrap()).then(step);
        flow.check().unwrap();
        let options = RunOptions::new().threads(threads).batch_rows(batch_rows).memory(memory);
        let error = flow.run_with(&options).unwrap_err();
        assert_eq!(error.what(), "The function odd of your own failed.", "{error}");
        assert!(error.to_string().contains(why), "{error}");
        assert!(error.to_string().contains("odd(litres"), "{error}");
    }
}

#[rstest]
#[case::mistyped("q = qualty(fat, cells)", "Did you mean quality?")]
#[case::too_few("q = quality(fat)", "quality takes 2 arguments, not 1.")]
#[case::another_type("q = quality(farm, cells)", "quality needs float here, and this is text.")]
#[case::a_column_that_is_none("q = quality(fatt, cells)", "Did you mean fat?")]
fn mistakes_are_told_at_the_check(#[case] item: &str, #[case] told: &str) {
    let error = milk().add(item).check().unwrap_err();
    assert!(error.kind().is_request(), "{error}");
    assert!(error.to_string().contains(told), "{error}");
}

#[rstest]
#[case::a_panic(ScalarFunction::of_values("odd", |x: Option<i64>| -> Option<i64> { panic!("no {x:?}") }), "It panicked: no Some(100).")]
#[case::too_few_values(
    ScalarFunction::of_columns("odd", [Type::Int], Type::Int, |_, _| Ok(Arc::new(Int64Array::from(vec![1])) as ArrayRef)),
    "It gave 1 values for 3 rows."
)]
#[case::another_type(
    ScalarFunction::of_columns("odd", [Type::Int], Type::Float, |columns, _| Ok(columns[0].clone())),
    "It gave Int64 where float, carried as Float64, was promised."
)]
fn what_breaks_its_promise_is_an_error_that_names_it(#[case] odd: ScalarFunction, #[case] why: &str) {
    let flow = milk().extended(&Catalogue::new().with(odd).unwrap()).add("o = odd(litres)");
    flow.check().unwrap();
    let error = flow.run().unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Data, "{error}");
    assert_eq!(error.what(), "The function odd of your own failed.");
    assert!(error.to_string().contains(why), "{error}");
    assert!(error.to_string().contains("add o = odd(litres)"), "{error}");
}

#[rstest]
#[case::ours("round", "There is a function round already.")]
#[case::an_aggregate("sum", "There is a function sum already.")]
#[case::its_own("Quality", "There is a function quality already.")]
#[case::no_word("two words", "cannot be called")]
#[case::a_word_of_the_language("case", "cannot be called")]
#[case::a_cast("cast", "cannot be called")]
fn names_that_cannot_be_are_refused(#[case] name: &str, #[case] told: &str) {
    let function = ScalarFunction::of_values(name, |x: Option<bool>| x);
    let error = catalogue().with(function).unwrap_err();
    assert!(error.to_string().contains(told), "{error}");
}

/// Without the catalogue the function is not there; two that are not alike do not go together.
#[test]
fn a_flow_has_the_functions_that_it_was_given() {
    let error = Flow::steps("values x: (1)").add("y = kilograms(x)").check().unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Name);
    let other = Catalogue::new().with(ScalarFunction::of_values("quality", |x: Option<f64>| x)).unwrap();
    let other = Flow::steps("values farm: ('F001')").extended(&other);
    let error = milk().append(&other).check().unwrap_err();
    assert!(error.to_string().contains("There are two functions quality, and not alike."), "{error}");
}

/// Numbers and notes that are made as they are read, so many to a batch; what was asked for is counted.
#[derive(Debug)]
struct Generated {
    rows: i64,
    batch: i64,
    made: Arc<AtomicUsize>,
    fault: &'static str,
}

impl Generated {
    fn new(rows: i64, fault: &'static str) -> (Generated, Arc<AtomicUsize>) {
        let made = Arc::new(AtomicUsize::new(0));
        (Generated { rows, batch: 100, made: made.clone(), fault }, made)
    }
}

impl Source for Generated {
    fn name(&self) -> String {
        "generated milk".into()
    }

    fn schema(&self) -> SchemaRef {
        let fields = [("n", DataType::Int64), ("note", DataType::Utf8), ("twice", DataType::Int64)];
        Arc::new(Schema::new(fields.map(|(name, kind)| Field::new(name, kind, true)).to_vec()))
    }

    fn rows(&self) -> Option<u64> {
        Some(self.rows as u64)
    }

    fn read(&self, columns: &[usize]) -> churn::Result<Batches> {
        let schema = Arc::new(self.schema().project(columns).unwrap());
        let (columns, made, fault, batch, rows) =
            (columns.to_vec(), self.made.clone(), self.fault, self.batch, self.rows);
        Ok(Box::new((0..rows).step_by(batch as usize).map(move |start| {
            made.fetch_add(1, Ordering::Relaxed);
            let numbers = start..rows.min(start + batch);
            match (fault, start) {
                ("a panic", 300..) => panic!("the line went dead"),
                ("an error", 300..) => {
                    return Err(churn::Error::new(ErrorKind::Input, "The tank is empty."));
                }
                _ => {}
            }
            let column = |place: &usize| -> ArrayRef {
                match place {
                    0 => Arc::new(Int64Array::from_iter_values(numbers.clone())),
                    1 => {
                        Arc::new(StringArray::from_iter_values(numbers.clone().map(|n| format!("note {n}"))))
                    }
                    _ if fault == "another type" => {
                        Arc::new(StringArray::from_iter_values(numbers.clone().map(|n| n.to_string())))
                    }
                    _ => Arc::new(Int64Array::from_iter_values(numbers.clone().map(|n| n * 2))),
                }
            };
            let arrays = columns.iter().map(column).collect();
            let schema = if fault == "another type" {
                let kinds = columns.iter().map(|_| Field::new("x", DataType::Utf8, true));
                Arc::new(Schema::new(kinds.collect::<Vec<_>>()))
            } else {
                schema.clone()
            };
            Ok(RecordBatch::try_new(schema, arrays).unwrap())
        })))
    }
}

#[test]
fn a_source_is_read_as_ours_are() {
    let (source, made) = Generated::new(10_000, "");
    let flow = Flow::of_source(source).unwrap().filter("n mod 3 = 0").add("sum = n + twice");
    for (threads, memory) in [(1, 1 << 30), (3, 1 << 30), (2, 1)] {
        let options = RunOptions::new().threads(threads).memory(memory);
        let table = flow.clone().sort("n desc").first(2).run_with(&options).unwrap();
        assert_eq!(table.column::<i64>("sum").unwrap(), [9999 * 3, 9996 * 3]);
        assert_eq!(table.column::<String>("note").unwrap(), ["note 9999", "note 9996"]);
        assert_eq!(table.ledger().steps()[0].rows_out, Some(10_000));
    }
    assert!(flow.plan().unwrap().to_string().contains("read generated milk"), "{}", flow.plan().unwrap());
    // A first that has enough stops it.
    made.store(0, Ordering::Relaxed);
    let options = RunOptions::new().threads(1);
    assert_eq!(flow.first(3).run_with(&options).unwrap().len(), 3);
    assert!(made.load(Ordering::Relaxed) < 60, "{} batches were made", made.load(Ordering::Relaxed));
}

/// Sources by name are the tables of every recipe of the flow; a recipe's own table of the name comes first.
#[test]
fn a_source_is_a_table_by_its_name() {
    let catalogue = Catalogue::new().with_table("numbers", Generated::new(3, "").0).unwrap();
    let csv = |recipe: &str| text(&Flow::recipe(recipe).extended(&catalogue).run().unwrap());
    assert_eq!(csv("read numbers\nselect n, twice"), "n,twice\n0,0\n1,2\n2,4\n");
    assert_eq!(csv("values n: (2), (5)\njoin left numbers on n\nselect n, note"), "n,note\n2,note 2\n5,\n");
    assert_eq!(csv("read numbers\njoin numbers on n = twice prefix 'o_'\nselect n"), "n\n0\n2\n");
    assert_eq!(csv("table numbers\n  values n: (7)\nread numbers"), "n\n7\n");
    let error = Catalogue::clone(&catalogue).with_table("numbers", Generated::new(3, "").0).unwrap_err();
    assert!(error.to_string().contains("There is a table numbers already."), "{error}");
}

#[rstest]
#[case::a_panic("a panic", "It panicked: the line went dead.")]
#[case::an_error("an error", "The tank is empty.")]
#[case::another_type("another type", "It gave columns of Utf8 where it was asked for twice Int64.")]
fn a_source_that_fails_is_told(
    #[case] fault: &'static str,
    #[case] told: &str,
    #[values(1, 3)] threads: usize,
) {
    let (source, _) = Generated::new(1000, fault);
    let flow = Flow::of_source(source).unwrap().total("s = sum(twice)");
    let error = flow.run_with(&RunOptions::new().threads(threads)).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Input, "{error}");
    assert!(error.to_string().contains(told), "{error}");
}

/// The numbers from 1 on.
#[derive(Debug)]
struct Numbers(i64);

impl Source for Numbers {
    fn schema(&self) -> SchemaRef {
        Arc::new(Schema::new(vec![Field::new("number", DataType::Int64, false)]))
    }

    fn read(&self, columns: &[usize]) -> churn::Result<Batches> {
        let schema = Arc::new(self.schema().project(columns).unwrap());
        let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(1..=self.0));
        let arrays = columns.iter().map(|_| numbers.clone()).collect();
        Ok(Box::new(std::iter::once(Ok(RecordBatch::try_new(schema, arrays).unwrap()))))
    }
}

/// Tables of a user's own in expressions: whether a value is in one, and the value of one that has one row.
#[rstest]
#[case::in_a_table("values n: (2), (9)\nfilter n in three", "2")]
#[case::not_in_a_table("values n: (2), (9)\nfilter n not in three", "9")]
#[case::a_value("values n: (2), (9)\nadd m = n + $one.number\nselect m", "3 / 10")]
#[case::after_a_table_of_the_recipe(
    "table own\n  values n: (2), (9)\n  filter n > $one.number\nread own\nadd k = n in three",
    "2 true / 9 false"
)]
#[case::used_as_rows_too("read three\nfilter number > $one.number\nappend one", "2 / 3 / 1")]
#[case::a_table_of_the_recipe_comes_first(
    "table three\n  values number: (9)\nvalues n: (2), (9)\nfilter n in three",
    "9"
)]
fn own_tables_stand_in_expressions(#[case] steps: &str, #[case] answer: &str) {
    let catalogue = Catalogue::new().with_table("three", Numbers(3)).unwrap();
    let catalogue = catalogue.with_table("one", Numbers(1)).unwrap();
    let flow = Flow::recipe(&format!("{steps}\n")).extended(&catalogue);
    flow.check().unwrap_or_else(|e| panic!("{steps}\n{e}"));
    let table = flow.run().unwrap_or_else(|e| panic!("{steps}\n{e}"));
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let row = |row: usize| {
        let cells: Vec<String> = names.iter().map(|name| table.value(row, name).unwrap().plain()).collect();
        cells.join(" ")
    };
    let rows: Vec<String> = (0..table.len()).map(row).collect();
    assert_eq!(rows.join(" / "), answer);
}
