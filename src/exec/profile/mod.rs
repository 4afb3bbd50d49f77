//! What the columns of a chain hold: one pass over its rows, in memory that does not grow with them.
//!
//! Each worker fills a summary of each column from the rows of a morsel; the ordered side puts them together in
//! the order of rows, so that the account is the same on any number of threads. Time: a look at a table of
//! values for each cell. Memory: [`values`] and [`buckets`] say what a column takes at most.

mod buckets;
mod column;
pub(crate) mod measure;
mod values;

use std::sync::{Arc, Mutex, PoisonError};

pub(crate) use column::{Fact, Summary};

use self::column::Growing;
use self::values::Limits;
use super::held::Held;
use super::pipeline::{Commit, Gather, Part, Prepare, Sink};
use super::tally::Work;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, Scalar, Type};

/// What is asked of the columns: their types, and aggregates over them.
pub(crate) struct Asked {
    pub(crate) kinds: Vec<Type>,
    pub(crate) facts: Vec<Fact>,
}

/// What was found: a summary of each column, and the value of each aggregate.
pub(crate) struct Found {
    pub(crate) columns: Vec<Summary>,
    pub(crate) facts: Vec<Scalar>,
}

/// Where the sink leaves what it found when its pipeline has run.
pub(crate) type Slot = Arc<Mutex<Option<Found>>>;

/// A sink that finds what is asked.
pub(crate) fn sink(asked: Asked, slot: Slot) -> Result<Sink> {
    let asked = Arc::new(asked);
    let all = Summaries::new(&asked)?;
    Ok(Sink { prepare: Arc::new(Workers(asked)), commit: Box::new(Whole { all, slot }) })
}

/// The summaries of some rows.
struct Summaries {
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

    fn merge(&mut self, later: Summaries) -> Result<()> {
        for (ours, theirs) in self.columns.iter_mut().zip(later.columns) {
            ours.merge(theirs)?;
        }
        self.facts.iter_mut().zip(later.facts).try_for_each(|(ours, theirs)| ours.merge(theirs))
    }
}

struct Workers(Arc<Asked>);

impl Prepare for Workers {
    fn prepare(&self, batch: Batch, _: &mut Work) -> Result<Part> {
        let mut summaries = Summaries::new(&self.0)?;
        summaries.update(&self.0, &batch)?;
        Ok(Box::new(summaries))
    }

    fn gather(&self) -> Option<Result<Box<dyn Gather + '_>>> {
        let summaries = Summaries::new(&self.0);
        Some(summaries.map(|summaries| Box::new(Local { asked: &self.0, summaries }) as Box<dyn Gather + '_>))
    }
}

/// The summaries of a morsel.
struct Local<'a> {
    asked: &'a Asked,
    summaries: Summaries,
}

impl Gather for Local<'_> {
    fn add(&mut self, batch: Batch, _: &mut Work) -> Result<Option<Part>> {
        self.summaries.update(self.asked, &batch)?;
        Ok(None)
    }

    fn finish(self: Box<Self>) -> Result<Part> {
        Ok(Box::new(self.summaries))
    }
}

/// The summaries of all rows so far.
struct Whole {
    all: Summaries,
    slot: Slot,
}

impl Commit for Whole {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let Ok(later) = part.downcast::<Summaries>() else {
            return Err(Error::new(
                ErrorKind::Internal,
                "A profile was handed something else than summaries.",
            ));
        };
        self.all.merge(*later)?;
        Ok(true)
    }

    fn finish(self: Box<Self>, _: &mut Work) -> Result<Held> {
        let facts = self.all.facts.into_iter().map(Growing::finish).collect::<Result<_>>()?;
        let found = Found { columns: self.all.columns, facts };
        *self.slot.lock().unwrap_or_else(PoisonError::into_inner) = Some(found);
        Ok(Held::Batches(Vec::new()))
    }
}
