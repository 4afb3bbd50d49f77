//! Runs over a scan that is made up: the order of parts, errors, stopping, panics and cancellation.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use arrow_array::cast::AsArray;
use arrow_array::types::Int64Type;
use arrow_array::{ArrayRef, Int64Array};
use churn_core::current_step::WorkedStep;
use churn_core::{Error, ErrorKind};
use churn_io::source::{Capability, Decoded, Guess, RowTest};
use churn_plan::{Node, Plan, Relation};
use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::runtime::settings::RunSettings;
use crate::runtime::sink::Local;
use crate::runtime::stream::Take;

/// What a morsel does instead of giving rows.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Fault {
    Error,
    Panic,
    Cancel,
}

/// Morsels of whole numbers that rise over all of them; each has so many batches of so many rows.
struct Numbers {
    morsels: Vec<Vec<usize>>,
    faults: Vec<(usize, Fault)>,
    /// A morsel that takes long.
    slow: Option<usize>,
    taken: Mutex<(usize, i64)>,
    /// What the test looks at.
    seen: Arc<Seen>,
}

#[derive(Default)]
struct Seen {
    taken: AtomicUsize,
    committed: AtomicUsize,
    furthest_ahead: AtomicUsize,
    gathers: AtomicBool,
    finished: AtomicBool,
    cancel: Arc<AtomicBool>,
}

impl Numbers {
    fn new(morsels: Vec<Vec<usize>>) -> Numbers {
        let taken = Mutex::new((0, 0));
        Numbers { morsels, faults: Vec::new(), slow: None, taken, seen: Arc::default() }
    }

    /// As many morsels, of one batch each.
    fn of(morsels: usize) -> Numbers {
        Numbers::new(vec![vec![3]; morsels])
    }

    fn with(mut self, morsel: usize, fault: Fault) -> Numbers {
        self.faults.push((morsel, fault));
        self
    }
}

struct NumbersMorsel {
    number: usize,
    batches: Vec<Batch>,
    fault: Option<Fault>,
    is_slow: bool,
    seen: Arc<Seen>,
}

impl Scan for Numbers {
    fn enable(&mut self, capability: Capability<'_>) -> bool {
        let gathers = matches!(capability, Capability::LargeMorsels);
        self.seen.gathers.fetch_or(gathers, Ordering::Relaxed);
        gathers
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut taken = self.taken.lock().unwrap();
        let (number, first) = *taken;
        let Some(sizes) = self.morsels.get(number) else { return Ok(None) };
        let mut next = first;
        let batch = |rows: &usize| {
            let numbers: Int64Array = (next..next + *rows as i64).collect::<Vec<_>>().into();
            next += *rows as i64;
            Batch { columns: vec![Arc::new(numbers) as ArrayRef], rows: *rows }
        };
        let mut batches: Vec<Batch> = sizes.iter().map(batch).collect();
        batches.reverse();
        *taken = (number + 1, next);
        let count = self.seen.taken.fetch_add(1, Ordering::Relaxed) + 1;
        let ahead = count - self.seen.committed.load(Ordering::Relaxed).min(count);
        self.seen.furthest_ahead.fetch_max(ahead, Ordering::Relaxed);
        let fault = self.faults.iter().find(|(of, _)| *of == number).map(|(_, fault)| *fault);
        let is_slow = self.slow == Some(number);
        Ok(Some(Box::new(NumbersMorsel { number, batches, fault, is_slow, seen: self.seen.clone() })))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}

impl Morsel for NumbersMorsel {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        if std::mem::take(&mut self.is_slow) {
            std::thread::sleep(Duration::from_millis(40));
        }
        match self.fault.take() {
            Some(Fault::Error) => {
                return Err(Error::new(ErrorKind::Data, format!("Morsel {} is bad.", self.number)));
            }
            Some(Fault::Panic) => panic!("morsel {} panics", self.number),
            Some(Fault::Cancel) => self.seen.cancel.store(true, Ordering::Relaxed),
            None => {}
        }
        self.batches.pop().map(|batch| Decoded::tested(batch, test)).transpose()
    }
}

/// A sink that gives its rows one by one, and may want no more, fail or panic.
struct Rows {
    gathers: bool,
    rows: Vec<i64>,
    most: usize,
    seen: Arc<Seen>,
    fails: Option<Fault>,
}

/// Its worker side; `GATHERS` says whether a morsel becomes one part.
struct RowsWorker<const GATHERS: bool>;

#[derive(Default)]
struct RowsLocal<const GATHERS: bool>(Vec<i64>);

impl<const GATHERS: bool> Worker for RowsWorker<GATHERS> {
    type Part = Vec<i64>;
    type Local<'a> = RowsLocal<GATHERS>;

    const GATHERS: bool = GATHERS;

    fn local(&self) -> Result<RowsLocal<GATHERS>> {
        Ok(RowsLocal::default())
    }
}

impl<const GATHERS: bool> Local for RowsLocal<GATHERS> {
    type Part = Vec<i64>;

    fn consume(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<Option<Vec<i64>>> {
        self.0.extend(batch.columns[0].as_primitive::<Int64Type>().values());
        Ok((!GATHERS).then(|| std::mem::take(&mut self.0)))
    }

    fn seal(self) -> Result<Option<Vec<i64>>> {
        Ok(GATHERS.then_some(self.0))
    }
}

impl Commit for Rows {
    type Part = Vec<i64>;
    type Output = Vec<i64>;

    fn commit(&mut self, part: Vec<i64>, _: &mut MorselOutput) -> Result<bool> {
        self.seen.committed.fetch_add(1, Ordering::Relaxed);
        match self.fails {
            Some(Fault::Error) => return Err(Error::new(ErrorKind::Output, "The sink is full.")),
            Some(Fault::Panic) => panic!("the sink panics"),
            _ => {}
        }
        self.rows.extend(part);
        Ok(self.rows.len() < self.most)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<Vec<i64>> {
        self.seen.finished.store(true, Ordering::Relaxed);
        if self.gathers && self.fails == Some(Fault::Cancel) {
            panic!("the end panics");
        }
        Ok(self.rows)
    }
}

/// A step between source and sink.
enum Step {
    /// Repeats each batch.
    Repeated(usize),
    /// Panics at a number.
    Panics(i64),
}

impl StreamOp for Step {
    fn multiplies(&self) -> bool {
        matches!(self, Step::Repeated(_))
    }

    fn each(&self, batch: Batch, work: &mut MorselOutput, take: &mut Take<'_>) -> Result<()> {
        match self {
            Step::Repeated(times) => (0..*times).try_for_each(|_| take(batch.clone(), work)),
            Step::Panics(_) => self.apply(batch, work).and_then(|batch| take(batch, work)),
        }
    }

    fn apply(&self, batch: Batch, _: &mut MorselOutput) -> Result<Batch> {
        if let Step::Panics(at) = self {
            assert!(!batch.columns[0].as_primitive::<Int64Type>().values().contains(at), "a step panics");
        }
        Ok(batch)
    }
}

fn context(threads: usize, seen: &Seen, batch_rows: Option<usize>) -> Context {
    let (threads, cancel) = (Some(threads), Some(seen.cancel.clone()));
    let settings = RunSettings { threads, cancel, batch_rows, ..RunSettings::default() };
    Context::new(settings, &Plan::of(Relation { node: Node::nothing(), fields: Vec::new() }, Vec::new()))
}

/// Runs the scan through steps into a sink.
fn run_into<const GATHERS: bool>(
    scan: Numbers,
    steps: Vec<Step>,
    sink: impl FnOnce(&mut Rows),
    (threads, batch_rows): (usize, Option<usize>),
) -> (Result<Vec<i64>>, Arc<Seen>) {
    let seen = scan.seen.clone();
    let mut rows =
        Rows { gathers: GATHERS, rows: Vec::new(), most: usize::MAX, seen: seen.clone(), fails: None };
    sink(&mut rows);
    let context = context(threads, &seen, batch_rows);
    let at = |text: &str| Some(WorkedStep::new(text));
    let leg = current_step::within(&at("read"), || Leg::of(Box::new(scan)));
    let mut pipeline = Pipeline::of(leg, vec![0]);
    for (number, step) in steps.into_iter().enumerate() {
        current_step::within(&at(&format!("step {number}")), || pipeline.push(Box::new(step)));
    }
    let sink = Sink { worker: Arc::new(RowsWorker::<GATHERS>), commit: rows };
    let run = || current_step::within(&at("sink"), || run(pipeline, sink, &context));
    let made = guarded(|| context.options.cancelled().within(run));
    (made, seen)
}

fn run_simply(scan: Numbers, threads: usize) -> (Result<Vec<i64>>, Arc<Seen>) {
    run_into::<false>(scan, Vec::new(), |_| {}, (threads, None))
}

fn numbers(to: i64) -> Vec<i64> {
    (0..to).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(64) })]

    /// Rows come out in the order of the source, whatever morsels and batches there are, and however many workers.
    #[test]
    fn rows_stay_in_order(
        morsels in prop::collection::vec(prop::collection::vec(0usize..5, 0..4), 0..30),
        threads in prop::sample::select(vec![1usize, 2, 7]),
        batch_rows in prop::option::of(1usize..4),
        slow in prop::option::of(0usize..30),
        times in 1usize..4,
        gathers: bool,
    ) {
        let expected: Vec<i64> = {
            let mut next = 0i64;
            let mut rows = Vec::new();
            for size in morsels.iter().flatten() {
                // Batches are cut to the wanted size before a step repeats them.
                let all: Vec<i64> = (next..next + *size as i64).collect();
                next += *size as i64;
                let parts = all.chunks(batch_rows.unwrap_or(usize::MAX).min(all.len().max(1)));
                parts.for_each(|part| (0..times).for_each(|_| rows.extend(part)));
            }
            rows
        };
        let scan = Numbers { slow: slow.filter(|_| morsels.len() < 6), ..Numbers::new(morsels) };
        let steps = vec![Step::Repeated(times)];
        let found = if gathers {
            run_into::<true>(scan, steps, |_| {}, (threads, batch_rows)).0
        } else {
            run_into::<false>(scan, steps, |_| {}, (threads, batch_rows)).0
        };
        prop_assert_eq!(found.unwrap(), expected);
    }
}

#[rstest]
fn the_first_error_in_order_is_told(#[values(1, 2, 7)] threads: usize) {
    // The later one is met first, by another worker.
    let mut scan = Numbers::of(20).with(3, Fault::Error).with(5, Fault::Error);
    scan.slow = Some(3);
    let (made, seen) = run_simply(scan, threads);
    let error = made.unwrap_err();
    assert_eq!(error.what(), "Morsel 3 is bad.");
    assert_eq!(seen.committed.load(Ordering::Relaxed), 3);
    assert!(!seen.finished.load(Ordering::Relaxed));
}

#[rstest]
fn a_panic_becomes_an_error_that_names_the_step(#[values(1, 2, 7)] threads: usize) {
    let told = |made: Result<Vec<i64>>, what: &str, step: &str| {
        let error = made.unwrap_err();
        assert_eq!((error.kind(), error.step()), (ErrorKind::Internal, Some(step)));
        assert!(error.to_string().contains(what), "{error}");
    };
    let (in_morsel, _) = run_simply(Numbers::of(9).with(4, Fault::Panic), threads);
    told(in_morsel, "morsel 4 panics", "read");
    let panics = || vec![Step::Repeated(2), Step::Panics(13), Step::Repeated(1)];
    let (in_step, _) = run_into::<true>(Numbers::of(9), panics(), |_| {}, (threads, None));
    told(in_step, "a step panics", "step 1");
    let fails = |rows: &mut Rows| rows.fails = Some(Fault::Panic);
    let (in_sink, seen) = run_into::<false>(Numbers::of(9), Vec::new(), fails, (threads, None));
    told(in_sink, "the sink panics", "sink");
    assert!(!seen.finished.load(Ordering::Relaxed));
    let fails = |rows: &mut Rows| rows.fails = Some(Fault::Cancel);
    let (at_the_end, _) = run_into::<true>(Numbers::of(9), Vec::new(), fails, (threads, None));
    told(at_the_end, "the end panics", "sink");
}

#[rstest]
fn a_sink_that_fails_stops_the_run(#[values(1, 2, 7)] threads: usize) {
    let fails = |rows: &mut Rows| rows.fails = Some(Fault::Error);
    let (made, seen) = run_into::<false>(Numbers::of(5_000), Vec::new(), fails, (threads, None));
    assert_eq!(made.unwrap_err().what(), "The sink is full.");
    assert_eq!(seen.committed.load(Ordering::Relaxed), 1);
    assert!(seen.taken.load(Ordering::Relaxed) < 1_000);
}

#[rstest]
fn a_sink_that_has_enough_is_given_no_more(
    #[values(1, 2, 7)] threads: usize,
    #[values(false, true)] gathers: bool,
) {
    let most = |rows: &mut Rows| rows.most = 10;
    let (made, seen) = if gathers {
        run_into::<true>(Numbers::of(5_000), Vec::new(), most, (threads, None))
    } else {
        run_into::<false>(Numbers::of(5_000), Vec::new(), most, (threads, None))
    };
    // The fourth morsel of three rows has the tenth.
    assert_eq!(made.unwrap(), numbers(12));
    assert_eq!(seen.committed.load(Ordering::Relaxed), 4);
    assert!(seen.taken.load(Ordering::Relaxed) < 1_000);
    assert!(seen.finished.load(Ordering::Relaxed));
}

/// A sink that has enough of the part of a morsel that was handed over early is given no more of it either.
#[rstest]
fn a_morsel_is_handed_over_while_it_is_made(#[values(1, 2, 7)] threads: usize) {
    let most = |rows: &mut Rows| rows.most = 10;
    let steps = vec![Step::Repeated(1_000_000)];
    let (made, _) = run_into::<false>(Numbers::of(50), steps, most, (threads, Some(1)));
    assert_eq!(made.unwrap(), vec![0; 10]);
}

#[rstest]
fn a_run_that_is_cancelled_stops(#[values(1, 2, 7)] threads: usize) {
    let (made, seen) = run_simply(Numbers::of(100_000).with(50, Fault::Cancel), threads);
    assert_eq!(made.unwrap_err().kind(), ErrorKind::Interrupted);
    assert!(seen.taken.load(Ordering::Relaxed) < 1_000);
    assert!(!seen.finished.load(Ordering::Relaxed));
}

/// Workers run ahead of a morsel that takes long by a bounded number of morsels.
#[rstest]
fn the_look_ahead_is_bounded(#[values(2, 7)] threads: usize) {
    let mut scan = Numbers::of(2_000);
    scan.slow = Some(0);
    let (made, seen) = run_simply(scan, threads);
    assert_eq!(made.unwrap(), numbers(6_000));
    let ahead = seen.furthest_ahead.load(Ordering::Relaxed);
    assert!(ahead <= threads * 9 + 2, "{ahead} morsels ahead");
}

#[rstest]
fn only_a_sink_that_gathers_gets_large_morsels(#[values(1, 2)] threads: usize) {
    assert!(!run_simply(Numbers::of(3), threads).1.gathers.load(Ordering::Relaxed));
    let (_, seen) = run_into::<true>(Numbers::of(3), Vec::new(), |_| {}, (threads, None));
    assert!(seen.gathers.load(Ordering::Relaxed));
}

/// A leg that waits starts when all rows before it were committed.
#[rstest]
fn a_leg_that_waits_comes_last(#[values(1, 2, 7)] threads: usize) {
    let first = Numbers { slow: Some(3), ..Numbers::of(4) };
    let seen = first.seen.clone();
    let context = context(threads, &seen, None);
    let second = Leg { waits: true, ..Leg::of(Box::new(Numbers::of(2))) };
    let mut pipeline = Pipeline::of(Leg::of(Box::new(first)), vec![0]);
    pipeline.legs.push(second);
    let rows = Rows { gathers: false, rows: Vec::new(), most: usize::MAX, seen, fails: None };
    let sink = Sink { worker: Arc::new(RowsWorker::<false>), commit: rows };
    let made = run(pipeline, sink, &context).unwrap();
    assert_eq!(made, [numbers(12), numbers(6)].concat());
}
