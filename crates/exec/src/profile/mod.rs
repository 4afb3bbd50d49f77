//! What the columns of a chain hold: one pass over its rows, in memory that does not grow with them.
//!
//! Each worker fills a summary of each column from the rows of a morsel; the ordered side puts them together in
//! the order of rows, so that the account is the same on any number of threads. Of many columns there is one summary
//! each, not one for each worker: workers hand over rows, and on the ordered side all threads take them, each some
//! columns. Time: a look at a table of values for each cell. Memory: `values` and `buckets` say what a column takes at
//! most.

mod buckets;
mod column;
pub mod measure;
mod pairs;
mod values;

use std::sync::Arc;

use arrow_array::Float64Array;
use churn_core::parallel::Threads;
use churn_core::{Batch, Result, Scalar, Type};
use churn_kernels::known::known_part;
use churn_kernels::moments::Moments;

pub use column::{Fact, Summary};
pub use pairs::ColumnPairs;

use self::column::Growing;
use self::values::Limits;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, Local, Sink, Worker};

/// What is asked of the columns: their types, aggregates over them, and pairs of them.
pub struct Asked {
    /// The types of the columns.
    pub kinds: Vec<Type>,
    /// Single values to be found beside the columns' summaries.
    pub facts: Vec<Fact>,
    /// Pairs of columns whose correlation is wanted.
    pub pairs: ColumnPairs,
}

/// What was found: a summary of each column, the value of each aggregate, and the correlation of each pair.
pub struct Found {
    /// The summary of each column.
    pub columns: Vec<Summary>,
    /// The single values, in the order in which they were asked for.
    pub facts: Vec<Scalar>,
    /// The correlation of each pair; `None` where it has none.
    pub correlations: Vec<Option<f64>>,
}

/// A sink that finds what is asked, on these threads.
pub fn sink(asked: Asked, threads: Threads) -> Result<Sink<ProfileWorkers, ProfileSink>> {
    let asked = Arc::new(asked);
    let (all, pairs) = (Summaries::new(&asked)?, asked.pairs.states());
    let whole = ProfileSink { asked: asked.clone(), all, pairs, threads };
    Ok(Sink { worker: Arc::new(ProfileWorkers(asked)), commit: whole })
}

/// Bytes of rows that a worker gathers before it hands them over.
const ROW_BYTES: usize = 1 << 20;

/// Columns from which on each has one summary.
const MANY_COLUMNS: usize = 64;

/// The summaries of some rows.
pub struct Summaries {
    columns: Vec<Summary>,
    facts: Vec<Growing>,
}

impl Summaries {
    fn new(asked: &Asked) -> Result<Summaries> {
        let limits = Limits::of_columns(asked.kinds.len());
        let columns = asked.kinds.iter().map(|kind| Summary::new(kind, limits)).collect::<Result<_>>()?;
        Ok(Summaries { columns, facts: asked.facts.iter().map(Growing::new).collect() })
    }

    fn update(&mut self, asked: &Asked, batch: &Batch) -> Result<()> {
        for (summary, array) in self.columns.iter_mut().zip(&batch.columns) {
            summary.update(array)?;
        }
        let zeros = vec![0; batch.rows];
        let mut facts = self.facts.iter_mut().zip(&asked.facts);
        facts.try_for_each(|(growing, fact)| growing.update(fact, batch, &zeros))
    }

    /// Adds rows on these threads: each column sees them in order.
    fn update_side_by_side(&mut self, asked: &Asked, rows: &[Batch], threads: &Threads) -> Result<()> {
        if rows.is_empty() {
            return Ok(());
        }
        threads.each(self.columns.iter_mut().enumerate(), |(place, summary)| {
            rows.iter()
                .filter_map(|batch| batch.columns.get(place))
                .try_for_each(|array| summary.update(array))
        })?;
        let zeros = vec![0; rows.iter().map(|batch| batch.rows).max().unwrap_or(0)];
        threads
            .each(self.facts.iter_mut().zip(&asked.facts), |(growing, fact)| {
                let update = |batch: &Batch| growing.update(fact, batch, known_part(&zeros, ..batch.rows));
                rows.iter().try_for_each(update)
            })
            .map(drop)
    }

    fn merge(&mut self, later: Summaries) -> Result<()> {
        for (ours, theirs) in self.columns.iter_mut().zip(later.columns) {
            ours.merge(theirs)?;
        }
        self.facts.iter_mut().zip(later.facts).try_for_each(|(ours, theirs)| ours.merge(theirs))
    }
}

/// Makes the workers that summarise columns.
pub struct ProfileWorkers(Arc<Asked>);

impl Worker for ProfileWorkers {
    type Part = Told;
    type Local<'a> = LocalSummaries<'a>;

    const GATHERS: bool = true;

    fn local(&self) -> Result<LocalSummaries<'_>> {
        LocalSummaries::new(&self.0)
    }
}

/// What is found of a morsel.
pub struct LocalSummaries<'a> {
    asked: &'a Asked,
    /// `None` where columns are many: then rows are handed over.
    summaries: Option<Summaries>,
    rows: ProfileRows,
}

/// Rows that are handed over.
#[derive(Default)]
pub struct ProfileRows {
    /// All columns, where they are many.
    batches: Vec<Batch>,
    /// Columns of pairs, in batches.
    pairs: Vec<Vec<Float64Array>>,
    bytes: usize,
}

/// What a worker hands over.
pub enum Told {
    /// Some rows.
    Rows(ProfileRows),
    /// The last rows of a morsel, and the summaries of all its rows.
    Morsel(ProfileRows, Option<Summaries>),
}

impl<'a> LocalSummaries<'a> {
    fn new(asked: &'a Asked) -> Result<LocalSummaries<'a>> {
        let has_few = asked.kinds.len() < MANY_COLUMNS;
        let summaries = has_few.then(|| Summaries::new(asked)).transpose()?;
        Ok(LocalSummaries { asked, summaries, rows: ProfileRows::default() })
    }

    fn update(&mut self, batch: Batch) -> Result<()> {
        if !self.asked.pairs.is_empty() {
            let columns = self.asked.pairs.columns_of(&batch)?;
            self.rows.bytes += columns.len() * batch.rows * 8;
            self.rows.pairs.push(columns);
        }
        match &mut self.summaries {
            Some(summaries) => summaries.update(self.asked, &batch),
            None => {
                self.rows.bytes += batch.memory();
                self.rows.batches.push(batch);
                Ok(())
            }
        }
    }
}

impl Local for LocalSummaries<'_> {
    type Part = Told;

    fn consume(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<Option<Told>> {
        self.update(batch)?;
        let are_enough = self.rows.bytes >= ROW_BYTES;
        Ok(are_enough.then(|| Told::Rows(std::mem::take(&mut self.rows))))
    }

    fn seal(self) -> Result<Option<Told>> {
        Ok(Some(Told::Morsel(self.rows, self.summaries)))
    }
}

/// What is found of all rows so far.
pub struct ProfileSink {
    asked: Arc<Asked>,
    all: Summaries,
    pairs: Vec<Moments>,
    threads: Threads,
}

impl Commit for ProfileSink {
    type Part = Told;
    type Output = Found;

    fn commit(&mut self, told: Told, _: &mut MorselOutput) -> Result<bool> {
        let (rows, summaries) = match told {
            Told::Rows(rows) => (rows, None),
            Told::Morsel(rows, summaries) => (rows, summaries),
        };
        self.all.update_side_by_side(&self.asked, &rows.batches, &self.threads)?;
        self.asked.pairs.update(&mut self.pairs, &rows.pairs, &self.threads)?;
        summaries.map_or(Ok(()), |later| self.all.merge(later))?;
        Ok(true)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<Found> {
        let facts = self.all.facts.into_iter().map(Growing::finish).collect::<Result<_>>()?;
        let correlations = self.pairs.iter().map(Moments::correlation).collect();
        Ok(Found { columns: self.all.columns, facts, correlations })
    }
}
