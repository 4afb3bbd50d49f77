//! Functions and sources of a user's own: used as ours are, held to what they promise, offered where a name is mistyped.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{ArrayRef, Float64Array, Int64Array, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema, SchemaRef};
use churn::extend::{Batches, Catalogue, ScalarFunction, Source};
use churn::{ErrorKind, Flow, RunOptions, Scalar, Type};
use rstest::rstest;

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

fn catalogue() -> Catalogue {
    Catalogue::new().with(quality()).unwrap().with(kilograms()).unwrap()
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
