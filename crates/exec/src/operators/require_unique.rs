//! Keys that must be unique: keys that were seen are kept, rows pass in order.

use std::sync::{Mutex, PoisonError};

use churn_core::{Batch, Error, Result};
use churn_io::source::Scan;
use churn_plan::operators as plan;

use super::require::offending;
use super::rows_per_key::first_rows;
use super::seen_keys::SeenKeys;
use super::{Build, OperatorPlace, ids, named_places, places};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::serial::SerialOp;
use crate::spill::partitioned::{position_column, positions};

impl Build for plan::RequireUnique {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let keys = places(&pipeline.layout, &ids(&self.by))?;
        let kinds = self.by.iter().map(|f| f.kind.clone()).collect();
        pipeline.acts = true;
        pipeline.push_serial(Box::new(RequireUnique {
            seen: SeenKeys::new(keys, kinds, place.context)?,
            names: self.by.iter().map(|f| f.name.clone()).collect(),
            shown: named_places(&pipeline.layout, &self.shown)?,
            text: place.text(),
        }));
        Ok(pipeline)
    }
}

/// `require unique by COLS`.
pub(crate) struct RequireUnique {
    pub(crate) seen: SeenKeys,
    pub(crate) names: Vec<String>,
    pub(crate) shown: Vec<(String, usize)>,
    pub(crate) text: String,
}

/// A row that is equal to one before it, by its place among all rows.
type Repeated = Option<(u64, Batch)>;

impl RequireUnique {
    /// The first of some rows, given their places in the batch; `place` tells the place of each among all rows.
    fn first(batch: &Batch, rows: &[usize], place: impl Fn(usize) -> u64) -> Repeated {
        rows.first().map(|row| (place(*row), batch.slice(*row, 1)))
    }

    /// The error of the first row that is equal to one before it.
    fn refuse(&self, (_, row): (u64, Batch)) -> Error {
        let names = churn_core::names::comma(self.names.iter().map(|n| churn_core::names::name(n)));
        let what = format!("A row is equal in {names} to a row before it.");
        offending(what, &row, &self.shown, 0).in_step(&self.text)
    }

    /// The first repeated row among those that went to files.
    fn first_on_disk(&mut self) -> Result<Repeated> {
        let Some(full) = self.seen.full.take() else { return Ok(None) };
        self.seen.forget()?;
        let found: Mutex<Repeated> = Mutex::new(None);
        let rows = first_rows(self.seen.keys.clone(), self.seen.kinds.clone(), 1);
        let process = |batches: Vec<Batch>| {
            let kept = rows.rows(batches.clone())?;
            for (batch, (_, keep)) in batches.iter().zip(&kept) {
                let keep: Vec<bool> = keep.iter().flat_map(|k| k.values().iter()).collect();
                let mut own = batch.clone();
                // The last column has the places of the rows.
                let places = own.columns.pop();
                let places = places.as_ref().map(positions).transpose()?.unwrap_or_default();
                let place = |row: usize| places.get(row).map_or(u64::MAX, |place| place.cast_unsigned());
                if let Some(repeated) = Self::first(&own, &places_where(&keep, false), place) {
                    let mut found = found.lock().unwrap_or_else(PoisonError::into_inner);
                    if found.as_ref().is_none_or(|(place, _)| repeated.0 < *place) {
                        *found = Some(repeated);
                    }
                }
            }
            // Nothing comes of them: they have passed.
            Ok(batches
                .iter()
                .map(|batch| (batch.slice(0, 0), Some(vec![false; batch.rows].into())))
                .collect())
        };
        self.seen.processed(full.writer.finish()?, &process)?;
        Ok(found.into_inner().unwrap_or_else(PoisonError::into_inner))
    }
}

impl SerialOp for RequireUnique {
    fn apply(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<Batch> {
        let first = self.seen.row;
        self.seen.row += batch.rows as u64;
        if self.seen.full.is_none() {
            let new = self.seen.first_rows(&batch)?;
            if let Some(repeated) = Self::first(&batch, &places_where(&new, false), |row| first + row as u64)
            {
                return Err(self.refuse(repeated));
            }
            self.seen.weigh()?;
            return Ok(batch);
        }
        let (known, mut unknown) = self.seen.split(&batch, first)?;
        if let Some(full) = &mut self.seen.full {
            unknown.batch.columns.push(position_column(unknown.places.iter().copied()));
            full.writer.push(&unknown.batch, &unknown.keys, &unknown.places)?;
        }
        let place = |row: usize| known.places.get(row).copied().unwrap_or(u64::MAX);
        if let Some(here) = Self::first(&known.batch, &(0..known.batch.rows).collect::<Vec<_>>(), place) {
            // One of the rows on disk may be repeated before it.
            let before = self.first_on_disk()?.filter(|(place, _)| *place < here.0);
            return Err(self.refuse(before.unwrap_or(here)));
        }
        Ok(batch)
    }

    fn finish(&mut self, _: &mut MorselOutput) -> Result<Option<Box<dyn Scan>>> {
        match self.first_on_disk()? {
            Some(repeated) => Err(self.refuse(repeated)),
            None => Ok(None),
        }
    }
}

fn places_where(values: &[bool], is: bool) -> Vec<usize> {
    values.iter().enumerate().filter(|(_, v)| **v == is).map(|(place, _)| place).collect()
}
