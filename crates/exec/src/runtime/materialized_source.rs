//! The rows of a plan that has run, as a source of the plan that goes on from them.

use std::fmt;
use std::sync::Arc;

use churn_core::{Batch, Field, Result};
use churn_io::source::{
    About, Capability, Decoded, Guess, Morsel, Request, RowTest, Scan, Source, SourceColumn,
};

use crate::runtime::materialized::MaterializedTable;

/// Rows that are in memory, or in a file if they are many.
pub(crate) struct MaterializedSource {
    columns: Vec<SourceColumn>,
    about: About,
    kept: MaterializedTable,
}

impl MaterializedSource {
    pub(crate) fn new(fields: &[Field], kept: MaterializedTable) -> MaterializedSource {
        let column = |f: &Field| SourceColumn { name: f.name.clone(), data: f.kind.arrow(), open: false };
        let about = About { rows: Some(kept.rows()), ..About::default() };
        MaterializedSource { columns: fields.iter().map(column).collect(), about, kept }
    }
}

impl fmt::Debug for MaterializedSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("MaterializedSource").field("columns", &self.columns).finish_non_exhaustive()
    }
}

impl Source for MaterializedSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        Ok(Box::new(Picked { scan: self.kept.materialized()?.scan(), columns: request.columns.into() }))
    }
}

/// Some columns of what another source gives.
struct Picked {
    scan: Box<dyn Scan>,
    columns: Arc<[usize]>,
}

impl Scan for Picked {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let morsel = self.scan.next()?;
        let columns = self.columns.clone();
        Ok(morsel.map(|morsel| Box::new(PickedMorsel { morsel, columns }) as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        self.scan.progress()
    }
}

struct PickedMorsel {
    morsel: Box<dyn Morsel>,
    columns: Arc<[usize]>,
}

impl Morsel for PickedMorsel {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let Some(Decoded { batch, .. }) = self.morsel.next(None)? else { return Ok(None) };
        let columns = batch.columns_at(&self.columns);
        Decoded::tested(Batch { columns, rows: batch.rows }, test).map(Some)
    }
}
