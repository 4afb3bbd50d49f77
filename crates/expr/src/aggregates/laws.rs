//! What every aggregate of the catalogue must hold, over every type that it takes: rows may be cut anywhere and their
//! states merged in any grouping, saved and loaded, split by groups and drained to an external sort, and the results are
//! those of one pass.

use arrow_array::{BooleanArray, Date32Array, Float64Array, Int64Array, StringViewArray};
use churn_core::widen::widen;
use churn_core::{Batch, Events, Scalar};
use proptest::prelude::*;

use super::*;
use crate::Node;

/// Groups of the rows.
const GROUPS: usize = 3;

/// A row: its group, and a value of each type.
type Row = (u32, Option<i64>, Option<f64>, Option<String>, Option<i32>, Option<bool>);

fn row() -> impl Strategy<Value = Row> {
    let float = prop_oneof![
        prop::sample::select(vec![f64::NAN, 0.0, -0.0, 1e9, -1e-9, f64::INFINITY]),
        (-40i32..40).prop_map(|n| f64::from(n) / 8.0),
    ];
    let text = prop::sample::select(vec!["", "a", "A", "b", "a text that is longer than twelve bytes"]);
    (
        0..GROUPS as u32,
        prop::option::of(prop_oneof![-4i64..5, Just(1_700_000_000_000_000), Just(1_700_000_000_000_007)]),
        prop::option::of(float),
        prop::option::of(text.prop_map(str::to_owned)),
        prop::option::of(-2i32..3),
        prop::option::of(any::<bool>()),
    )
}

const TYPES: [Type; 5] = [Type::Int, Type::Float, Type::Text, Type::Date, Type::Bool];

/// The rows as a batch of a column for each type, and their groups.
fn batch(rows: &[Row]) -> (Batch, Vec<u32>) {
    let columns: Vec<ArrayRef> = vec![
        Arc::new(rows.iter().map(|row| row.1).collect::<Int64Array>()),
        Arc::new(rows.iter().map(|row| row.2).collect::<Float64Array>()),
        Arc::new(rows.iter().map(|row| row.3.as_deref()).collect::<StringViewArray>()),
        Arc::new(rows.iter().map(|row| row.4).collect::<Date32Array>()),
        Arc::new(rows.iter().map(|row| row.5).collect::<BooleanArray>()),
    ];
    (Batch { columns, rows: rows.len() }, rows.iter().map(|row| row.0).collect())
}

/// An aggregate over columns and literals that it takes.
struct Call {
    what: String,
    made: Made,
}

/// Every call of every aggregate: over no column, one, or two, with a literal behind where it wants one.
fn calls() -> Vec<Call> {
    let column = |place: usize| Bound { node: Node::Column(place as u32), kind: TYPES[place].clone() };
    let literals = [Scalar::Float(0.25), Scalar::Text("; ".into())];
    let mut arguments: Vec<Vec<Bound>> = vec![Vec::new()];
    for place in 0..TYPES.len() {
        arguments.push(vec![column(place)]);
        arguments.extend(literals.iter().map(|literal| vec![column(place), Bound::literal(literal.clone())]));
        arguments.extend((0..TYPES.len()).map(|other| vec![column(place), column(other)]));
    }
    let mut calls = Vec::new();
    for aggregate in all() {
        for values in &arguments {
            let what = format!(
                "{}{:?}",
                aggregate.name,
                values.iter().map(|v| v.kind.to_string()).collect::<Vec<_>>()
            );
            let given = Arguments { name: aggregate.name, usage: aggregate.usage, values: values.clone() };
            if let Ok(made) = (aggregate.bind)(given) {
                calls.push(Call { what, made });
            }
        }
    }
    calls
}

impl Call {
    fn states(&self) -> Box<dyn Accumulator> {
        let mut states = (self.made.make)();
        states.grow(GROUPS);
        states
    }

    /// The states of some rows; `None` if the aggregate refuses them, as a sum that overflows.
    fn of(&self, rows: &[Row]) -> Option<Box<dyn Accumulator>> {
        let (batch, groups) = batch(rows);
        let evaluate = |arg: &Bound| arg.evaluate_array(&batch, &mut Events::default()).unwrap();
        let args: Vec<ArrayRef> = self.made.args.iter().map(evaluate).collect();
        let mut states = self.states();
        states.update(&groups, &args).ok()?;
        Some(states)
    }

    fn results(&self, mut states: Box<dyn Accumulator>) -> Option<Vec<Scalar>> {
        let results = widen(&states.finish().ok()?).unwrap();
        Some((0..GROUPS).map(|group| Scalar::from_array(&results, group)).collect())
    }
}

/// Whether two results are the same, sums up to the last bit of their rounding.
fn same(a: &Scalar, b: &Scalar) -> bool {
    match (a, b) {
        (Scalar::Float(a), Scalar::Float(b)) => {
            a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-12 * a.abs().max(b.abs())
        }
        _ => format!("{a:?}") == format!("{b:?}"),
    }
}

fn all_same(a: &[Scalar], b: &[Scalar]) -> bool {
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(a, b))
}

/// Pairs of the same groups.
fn pairs() -> Vec<(u32, u32)> {
    (0..GROUPS as u32).map(|group| (group, group)).collect()
}

fn merged(mut ours: Box<dyn Accumulator>, mut later: Box<dyn Accumulator>) -> Box<dyn Accumulator> {
    ours.merge(later.as_mut(), &pairs()).unwrap();
    ours
}

#[test]
fn the_catalogue_is_bound_over_many_types() {
    let calls = calls();
    for aggregate in all() {
        assert!(calls.iter().any(|call| call.what.starts_with(aggregate.name)), "{}", aggregate.name);
    }
    assert!(calls.len() > 60, "{}", calls.len());
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(48) })]

    #[test]
    fn laws(rows in prop::collection::vec(row(), 0..40), cuts in prop::collection::vec(0usize..40, 2..4)) {
        let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(rows.len())).chain([0, rows.len()]).collect();
        cuts.sort_unstable();
        let parts: Vec<&[Row]> = cuts.windows(2).map(|cut| &rows[cut[0]..cut[1]]).collect();
        for call in calls() {
            let Some(expected) = call.of(&rows).and_then(|states| call.results(states)) else { continue };
            let states = || parts.iter().filter_map(|part| call.of(part));
            if states().count() < parts.len() {
                continue;
            }
            let agrees = |states: Box<dyn Accumulator>, how: &str| {
                let found = call.results(states);
                let is_same = found.as_ref().is_some_and(|found| all_same(found, &expected));
                prop_assert!(is_same, "{} {how}: {found:?} for {expected:?}", call.what);
                Ok(())
            };
            // From the front, and from the back: merging is associative.
            agrees(states().reduce(merged).unwrap(), "from the front")?;
            let mut from_back: Vec<_> = states().collect();
            while from_back.len() > 1 {
                let (later, ours) = (from_back.pop().unwrap(), from_back.pop().unwrap());
                from_back.push(merged(ours, later));
            }
            agrees(from_back.pop().unwrap(), "from the back")?;
            // Empty states change nothing on either side.
            agrees(merged(merged(call.states(), call.of(&rows).unwrap()), call.states()), "between empty ones")?;
            // Through bytes, as they are spilled.
            let saved = |mut states: Box<dyn Accumulator>| {
                let bytes = states.save().unwrap();
                let mut loaded = (call.made.make)();
                loaded.load(&bytes).unwrap();
                loaded
            };
            agrees(states().map(saved).reduce(merged).unwrap(), "through bytes")?;
            // Split by groups, each group's states on their own, and put together in another order.
            let groups = [vec![2u32], vec![], vec![0, 1]];
            let mut split = call.of(&rows).unwrap().partition(&groups).into_iter();
            let mut together = call.states();
            together.merge(split.next().unwrap().as_mut(), &[(0, 2)]).unwrap();
            split.next();
            together.merge(split.next().unwrap().as_mut(), &[(0, 0), (1, 1)]).unwrap();
            agrees(together, "split by groups")?;
            // Values that are taken off large states go back.
            let mut large = call.of(&rows).unwrap();
            let (groups, mut part) = large.part(3);
            if !groups.is_empty() {
                let pairs: Vec<(u32, u32)> = (0u32..).zip(groups).collect();
                let mut earlier = call.states();
                earlier.merge(part.as_mut(), &pairs).unwrap();
                large = merged(earlier, large);
            }
            agrees(large, "in parts")?;
        }
    }

    /// One frame of all rows is the aggregate of one group; frames that only grow are those of the rows so far.
    #[test]
    fn frames(rows in prop::collection::vec(row(), 1..30), before in prop::sample::select(vec![0u32, 4, 7, 8, 20])) {
        let rows: Vec<Row> = rows.into_iter().map(|row| (0, row.1, row.2, row.3, row.4, row.5)).collect();
        let (batch, _) = batch(&rows);
        for call in calls() {
            let evaluate = |arg: &Bound| arg.evaluate_array(&batch, &mut Events::default()).unwrap();
            let args: Vec<ArrayRef> = call.made.args.iter().map(evaluate).collect();
            let frames: Vec<(u32, u32)> = (0..rows.len() as u32).map(|row| (row.saturating_sub(before), row + 1)).collect();
            let Ok(found) = call.states().slide(&args, None, &frames) else { continue };
            let found = widen(&found).unwrap();
            for (row, (from, to)) in frames.iter().enumerate() {
                let part = &rows[*from as usize..*to as usize];
                let Some(expected) = call.of(part).and_then(|states| call.results(states)) else { continue };
                let found = Scalar::from_array(&found, row);
                prop_assert!(same(&found, &expected[0]), "{} of {part:?}: {found:?} for {:?}", call.what, expected[0]);
            }
        }
    }
}
