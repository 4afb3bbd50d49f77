//! Rows that an operator sorts on its way, in memory or on disk.

use crate::runtime::sink::{Commit, Local, Worker};
use churn_core::{Batch, Result};
use churn_io::source::Scan;

use super::order::{Order, OrderKey};
use super::{Carried, SortSink, SortWorkers};
use crate::runtime::materialized::{Materialized, concat};
use crate::runtime::morsel_output::MorselOutput;
use crate::spill::Disk;

/// Rows that are put in order together before all are.
const ROWS: usize = 1 << 16;

/// Rows on their way to be sorted; equal ones stay in the order in which they came.
pub(crate) struct Sorter {
    workers: SortWorkers,
    sort: SortSink,
    waiting: Vec<Batch>,
    rows: usize,
}

impl Sorter {
    pub(crate) fn new(keys: Vec<OrderKey>, disk: &Disk) -> Result<Sorter> {
        let order = Order { keys, step: 0, text: String::new() };
        let sort = SortSink::new(None, disk.budget.reservation(), disk.spill, disk.threads.clone());
        Ok(Sorter {
            workers: SortWorkers::new(order, Carried::All, disk.budget)?,
            sort,
            waiting: Vec::new(),
            rows: 0,
        })
    }

    /// Adds rows.
    pub(crate) fn push(&mut self, batch: Batch) -> Result<()> {
        self.rows += batch.rows;
        self.waiting.push(batch);
        if self.rows >= ROWS { self.settle() } else { Ok(()) }
    }

    fn settle(&mut self) -> Result<()> {
        self.rows = 0;
        for batch in concat(std::mem::take(&mut self.waiting))? {
            let mut work = MorselOutput::new(0);
            let mut local = self.workers.local()?;
            let part = local.consume(batch, &mut work)?;
            for part in part.into_iter().chain(local.seal()?) {
                self.sort.commit(part, &mut work)?;
            }
        }
        Ok(())
    }

    /// The rows in order.
    pub(crate) fn finish(mut self) -> Result<Box<dyn Scan>> {
        self.settle()?;
        self.sort.finish(&mut MorselOutput::new(0)).map(Materialized::scan)
    }
}

/// The batches of a source, one after the other.
pub(crate) fn batches(scan: Box<dyn Scan>) -> impl Iterator<Item = Result<Batch>> {
    let mut morsel = None;
    std::iter::from_fn(move || {
        loop {
            if morsel.is_none() {
                morsel = match scan.next() {
                    Ok(next) => Some(next?),
                    Err(error) => return Some(Err(error)),
                };
            }
            match morsel.as_mut()?.next(None) {
                Ok(None) => morsel = None,
                Ok(Some(decoded)) => return Some(Ok(decoded.batch)),
                Err(error) => return Some(Err(error)),
            }
        }
    })
}
