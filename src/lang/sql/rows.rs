//! The rows that flow while a query is translated: steps so far, and the columns that they give.

use churn_core::error::OrFault;
use churn_core::{Field, Result, Span};
use churn_plan::Relation;

use super::translator::Translator;
use crate::lang::recipe::{Chain, PlacedStep};
use crate::steps::{Other, ReadTable, Step, declare_table};

/// Steps, and the rows that they give.
pub(super) struct Rows {
    pub(super) steps: Vec<PlacedStep>,
    relation: Option<Relation>,
    /// The table or file, where there is one step that reads it and no other.
    source: Option<Other>,
    /// Whether there is exactly one row, whatever the data.
    pub(super) is_single: bool,
}

impl Rows {
    /// The columns.
    pub(super) fn fields(&self) -> &[Field] {
        self.relation.as_ref().map(|relation| relation.fields.as_slice()).unwrap_or_default()
    }

    /// Whether there is a column of this name.
    pub(super) fn has(&self, column: &str) -> bool {
        self.fields().iter().any(|field| field.name == column)
    }

    /// The column of this name.
    pub(super) fn field(&self, column: &str) -> Option<&Field> {
        self.fields().iter().find(|field| field.name == column)
    }

    /// The names of all columns.
    pub(super) fn names(&self) -> Vec<String> {
        self.fields().iter().map(|field| field.name.clone()).collect()
    }
}

impl Translator<'_, '_> {
    /// Starts a chain.
    pub(super) fn start(&mut self, step: impl Into<Step>, source: Option<Other>, span: Span) -> Result<Rows> {
        let mut rows = Rows { steps: Vec::new(), relation: None, source: None, is_single: false };
        self.push(&mut rows, step, span)?;
        rows.source = source;
        Ok(rows)
    }

    /// Starts a chain with the rows of a table of the recipe, or of the query.
    pub(super) fn start_from(&mut self, table: &str, span: Span) -> Result<Rows> {
        let read = ReadTable::at(table, span);
        self.start(read.clone(), Some(read.into()), span)
    }

    /// Adds a step.
    pub(super) fn push(&mut self, rows: &mut Rows, step: impl Into<Step>, span: Span) -> Result<()> {
        let step = step.into();
        self.checker.source = self.places.source.clone();
        let relation = step.check().check(rows.relation.take(), self.checker);
        if let Some(error) = churn_core::Error::all(std::mem::take(&mut self.checker.errors)) {
            return Err(error);
        }
        let relation = relation.or_fault("row after a step without a mistake")?;
        self.columns.extend(relation.fields.iter().map(|field| field.name.clone()));
        rows.relation = Some(relation);
        (rows.source, rows.is_single) = (None, false);
        rows.steps.push(PlacedStep { step, span, source: self.places.source.clone() });
        Ok(())
    }

    /// Makes the rows a table of the recipe, called so or nearly so; gives its name.
    pub(super) fn table(&mut self, rows: Rows, wanted: &str) -> String {
        let name = self.table_name(wanted);
        let Rows { steps, relation, .. } = rows;
        declare_table(&name, relation, Vec::new(), false, self.checker);
        self.tables.push(Chain { name: name.clone(), steps });
        name
    }

    /// The rows as the second table of a step: the file or table that they are read from, or a table of their own.
    pub(super) fn other(&mut self, rows: Rows, wanted: &str, span: Span) -> Other {
        match rows.source {
            Some(source) => source,
            None => ReadTable::at(&self.table(rows, wanted), span).into(),
        }
    }

    /// The rows as a table, which may be read several times; gives its name.
    pub(super) fn named(&mut self, rows: Rows, wanted: &str) -> String {
        match rows.source.as_ref().and_then(Other::as_table) {
            Some(table) => table.to_owned(),
            None => self.table(rows, wanted),
        }
    }
}
