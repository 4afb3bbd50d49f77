//! Pipelines: sources, the streaming operators that their rows go through, the serial operators behind them, and the run
//! of a pipeline into a sink.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `run` | the state of a run, and the threads over it |
//! | `worker` | what a worker does with a morsel |
//! | `handover` | parts into the sink, in the order of morsels |

mod handover;
mod run;
#[cfg(test)]
mod tests;
mod worker;

use std::sync::Arc;

use churn_core::current_step::{self, Current};
use churn_core::parallel::guarded;
use churn_core::{Batch, ColumnId, Error, ErrorKind, Result, StepId, cancel};
use churn_io::source::{Capability, Morsel, Scan};

use super::context::Context;
use super::materialized::materialize_to_error;
use super::morsel_output::{MorselOutput, SideOutput};
use super::scan_test::{ScanFilter, ScanTest};
use super::serial::SerialOp;
use super::sink::{Commit, Sink, Worker};
use super::stream::{StreamOp, Take};

/// A source and the operators that its rows go through first.
pub(crate) struct Leg {
    pub(crate) scan: Box<dyn Scan>,
    pub(crate) test: Option<ScanTest>,
    /// The step that reads, and the most rows that it may hand on.
    pub(crate) scan_step: Option<StepId>,
    pub(crate) limit: Option<usize>,
    /// Where rows that do not fit are written, among the side outputs.
    pub(crate) rejects: Option<usize>,
    pub(crate) stream: Vec<Arc<dyn StreamOp>>,
    /// Whether it starts only when all rows before it were handed over.
    pub(crate) waits: bool,
    /// The step that its source is read for.
    pub(crate) step: Current,
}

impl Leg {
    /// A source whose rows nothing is done to yet.
    pub(crate) fn of(scan: Box<dyn Scan>) -> Leg {
        Leg {
            scan,
            test: None,
            scan_step: None,
            limit: None,
            rejects: None,
            stream: Vec::new(),
            waits: false,
            step: current_step::get(),
        }
    }

    /// The next morsel of its source.
    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        current_step::within(&self.step, || self.scan.next())
    }

    /// The next rows of a morsel.
    fn read(&self, morsel: &mut dyn Morsel, work: &mut MorselOutput) -> Result<Option<Batch>> {
        cancel::check()?;
        let decoded = current_step::within(&self.step, || match &self.test {
            None => morsel.next(None),
            Some(test) => test.with(work, |test| morsel.next(Some(test))),
        });
        let Some(decoded) = decoded? else { return Ok(None) };
        work.source_rows += decoded.rows + decoded.skipped;
        if let Some(test) = self.test.as_ref().and_then(|t| t.tests.first()) {
            test.skipped(decoded.skipped, work);
        }
        if let Some(step) = self.scan_step {
            work.counters.rows(step, decoded.rows + decoded.skipped);
            for (event, count) in &decoded.events {
                work.counters.event(step, *event, *count);
            }
            decoded.examples.into_iter().for_each(|example| work.counters.example(step, example));
        }
        if let Some(output) = self.rejects
            && !decoded.rejects.is_empty()
        {
            work.side.push((output, SideOutput::Bytes(decoded.rejects)));
        }
        Ok(Some(decoded.batch))
    }
}

/// Sources, one after the other, and the operators over them, up to the next sink.
pub(crate) struct Pipeline {
    pub(crate) legs: Vec<Leg>,
    pub(crate) serial: Vec<Box<dyn SerialOp>>,
    /// What is to be told when all rows went through.
    pub(crate) ends: Vec<End>,
    /// Whether an operator must see every row, so that nothing after it may stop the run.
    pub(crate) acts: bool,
    /// The columns that come out.
    pub(crate) layout: Vec<ColumnId>,
}

/// Counts something once all rows went through a pipeline.
pub(crate) type End = Box<dyn FnOnce(&mut MorselOutput) + Send>;

impl Pipeline {
    /// A pipeline over one source.
    pub(crate) fn of(leg: Leg, layout: Vec<ColumnId>) -> Pipeline {
        Pipeline { legs: vec![leg], serial: Vec::new(), ends: Vec::new(), acts: false, layout }
    }

    /// Adds an operator of the current step: to the workers' part, or behind the first serial one.
    pub(crate) fn push(&mut self, op: Box<dyn StreamOp>) {
        if self.serial.is_empty() {
            let op: Arc<dyn StreamOp> = Arc::new(InStep::of(op));
            self.legs.iter_mut().for_each(|leg| leg.stream.push(op.clone()));
        } else {
            self.push_serial(Box::new(super::serial::Streamed(op)));
        }
    }

    /// Adds an operator of the current step that sees all rows in order.
    pub(crate) fn push_serial(&mut self, op: Box<dyn SerialOp>) {
        self.serial.push(Box::new(InStep::of(op)));
    }

    /// Has the source test rows by some columns before it decodes the others, if its rows come straight from there and there are others;
    /// gives whether it does. `make` gets the columns that the test sees.
    pub(crate) fn test_source(
        &mut self,
        used: &[ColumnId],
        make: impl FnOnce(&[ColumnId]) -> Result<Box<dyn ScanFilter>>,
    ) -> Result<bool> {
        let [leg] = self.legs.as_mut_slice() else { return Ok(false) };
        let is_source = leg.scan_step.is_some() && leg.stream.is_empty() && leg.limit.is_none();
        if !is_source || !self.serial.is_empty() {
            return Ok(false);
        }
        let mut columns = leg.test.as_ref().map_or_else(Vec::new, |test| test.columns.clone());
        for place in used.iter().filter_map(|id| self.layout.iter().position(|own| own == id)) {
            if !columns.contains(&place) {
                columns.push(place);
            }
        }
        if columns.len() == self.layout.len() {
            // There is no other column whose decoding it would save.
            return Ok(false);
        }
        let ids: Vec<ColumnId> =
            columns.iter().filter_map(|place| self.layout.get(*place).copied()).collect();
        let test = make(&ids)?;
        let mut tests = leg.test.take().map_or_else(Vec::new, |test| test.tests);
        tests.push(test);
        leg.test = Some(ScanTest { columns, tests });
        Ok(true)
    }

    /// The same rows from a pipeline without serial operators: if it has some, it runs, and its rows are held.
    pub(crate) fn without_serial(self, context: &Context) -> Result<Pipeline> {
        if self.serial.is_empty() {
            return Ok(self);
        }
        let (layout, acts) = (self.layout.clone(), self.acts);
        let (kept, error) = materialize_to_error(self, context)?;
        let mut pipeline = Pipeline::of(Leg::of(kept.materialized()?.scan()), layout);
        pipeline.legs.extend(error.map(failing));
        Ok(Pipeline { acts, ..pipeline })
    }
}

/// An operator whose work is that of a step: what is told of it if it panics.
struct InStep<O> {
    step: Current,
    op: O,
}

impl<O> InStep<O> {
    /// An operator of the step that is being built.
    fn of(op: O) -> InStep<O> {
        InStep { step: current_step::get(), op }
    }
}

impl StreamOp for InStep<Box<dyn StreamOp>> {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        current_step::within(&self.step, || self.op.apply(batch, work))
    }

    fn multiplies(&self) -> bool {
        self.op.multiplies()
    }

    fn each(&self, batch: Batch, work: &mut MorselOutput, take: &mut Take<'_>) -> Result<()> {
        current_step::within(&self.step, || self.op.each(batch, work, take))
    }
}

impl SerialOp for InStep<Box<dyn SerialOp>> {
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        current_step::within(&self.step, || self.op.apply(batch, work))
    }

    fn is_full(&self) -> bool {
        self.op.is_full()
    }

    fn finish(&mut self, work: &mut MorselOutput) -> Result<Option<Box<dyn Scan>>> {
        current_step::within(&self.step, || self.op.finish(work))
    }
}

/// Runs a pipeline into a sink; gives the sink's output. The sink's work is that of the current step.
///
/// # Errors
/// The first error in the order of rows, whichever worker met it.
pub fn run<W, C>(pipeline: Pipeline, sink: Sink<W, C>, context: &Context) -> Result<C::Output>
where
    W: Worker,
    C: Commit<Part = W::Part>,
{
    match run_to(pipeline, sink, context, |_| false)? {
        (output, None) => Ok(output),
        (_, Some(error)) => Err(error),
    }
}

/// Runs a pipeline into a sink as far as its rows can be read; gives the sink's output, of the rows before the first
/// row that is wrong, and the error of that row.
///
/// An operator that reads all rows before it gives the first of its own hands the error on behind them ([`failing`]), so
/// that a `first` below it stops the run before the error, as it does where rows stream.
///
/// # Errors
/// Any that is not about a row.
pub(crate) fn run_to_error<W, C>(
    pipeline: Pipeline,
    sink: Sink<W, C>,
    context: &Context,
) -> Result<(C::Output, Option<Error>)>
where
    W: Worker,
    C: Commit<Part = W::Part>,
{
    run_to(pipeline, sink, context, |error| error.kind() == ErrorKind::Data)
}

/// Runs a pipeline into a sink, whose output is that of the rows before an error if it may be kept; any other error is
/// that of the run, and its sink is not finished.
fn run_to<W, C>(
    pipeline: Pipeline,
    sink: Sink<W, C>,
    context: &Context,
    may_keep: impl Fn(&Error) -> bool,
) -> Result<(C::Output, Option<Error>)>
where
    W: Worker,
    C: Commit<Part = W::Part>,
{
    let Sink { worker, mut commit } = sink;
    let (mut work, error) = run::run_rows(pipeline, &*worker, &mut commit, context)?;
    if let Some(error) = error.as_ref().filter(|error| !may_keep(error)) {
        return Err(error.clone());
    }
    let output = guarded(|| commit.finish(&mut work))?;
    context.absorb(&mut work)?;
    Ok((output, error))
}

/// A leg of no rows that fails with an error once all rows before it were taken.
pub(crate) fn failing(error: Error) -> Leg {
    Leg { waits: true, ..Leg::of(Box::new(Failing(error))) }
}

struct Failing(Error);

impl Scan for Failing {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        Err(self.0.clone())
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}
