//! What is known while a query is translated.

use std::collections::{BTreeSet, HashSet};

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Result, Span};
use sqlparser::ast::{Ident, Query, Spanned};
use sqlparser::tokenizer::TokenWithSpan;

use super::Translated;
use super::places::Places;
use super::scope::{Column, Scope};
use super::words::Words;
use crate::lang::recipe::Chain;
use crate::steps::Checker;

/// Translates one query.
pub(super) struct Translator<'a, 'f> {
    pub(super) places: &'a Places,
    pub(super) words: Words,
    pub(super) checker: &'a mut Checker<'f>,
    /// The tables made so far.
    pub(super) tables: Vec<Chain>,
    /// The tables of `with`, the innermost last.
    pub(super) with: Vec<WithTable>,
    /// The names of all columns that were met.
    pub(super) columns: BTreeSet<String>,
    /// The names of tables that are taken.
    taken: &'a mut HashSet<String>,
}

/// A table of `with`.
pub(super) struct WithTable {
    pub(super) name: String,
    /// The table of the recipe that it is.
    pub(super) table: String,
    pub(super) columns: Vec<Column>,
}

impl<'a, 'f> Translator<'a, 'f> {
    pub(super) fn new(
        places: &'a Places,
        tokens: &[TokenWithSpan],
        checker: &'a mut Checker<'f>,
        taken: &'a mut HashSet<String>,
    ) -> Translator<'a, 'f> {
        taken.extend(checker.tables.iter().map(|table| table.name.clone()));
        taken.extend(checker.catalogue.table_names().map(str::to_owned));
        let words = Words::of(tokens, places);
        let (tables, with, columns) = (Vec::new(), Vec::new(), BTreeSet::new());
        Translator { places, words, checker, tables, with, columns, taken }
    }

    /// Translates the whole query.
    pub(super) fn whole(mut self, query: &Query) -> Result<Translated> {
        let rows = self.query(query, None)?;
        Ok(Translated { tables: self.tables, steps: rows.steps })
    }

    /// The place of a part of the query.
    pub(super) fn span(&self, part: &impl Spanned) -> Span {
        self.places.span(part.span())
    }

    /// An error at a place.
    pub(super) fn wrong(&self, kind: ErrorKind, what: impl Into<String>, span: Span) -> Error {
        self.places.error(kind, what, span)
    }

    /// The error of what has no counterpart among the steps.
    pub(super) fn unsupported(&self, what: &str, instead: &str, span: Span) -> Error {
        let error = self.wrong(ErrorKind::Check, format!("{what} has no counterpart here."), span);
        if instead.is_empty() { error } else { error.next(instead) }
    }

    /// Notes what should be known before the run.
    pub(super) fn note(&mut self, note: String) {
        if !self.checker.query_notes.contains(&note) {
            self.checker.query_notes.push(note);
        }
    }

    /// A name that no column has and no word of the query is.
    pub(super) fn fresh(&mut self, wanted: &str) -> String {
        let is_free = |name: &String| !self.columns.contains(name) && !self.words.contain(name);
        let numbered = (1..).map(|n| format!("{wanted}_{n}"));
        let name = numbered.into_iter().find(is_free).unwrap_or_default();
        self.columns.insert(name.clone());
        name
    }

    /// A name for a table that none has.
    pub(super) fn table_name(&mut self, wanted: &str) -> String {
        let numbered = std::iter::once(wanted.to_owned()).chain((2..).map(|n| format!("{wanted}_{n}")));
        let name = numbered.into_iter().find(|name| !self.taken.contains(name)).unwrap_or_default();
        self.taken.insert(name.clone());
        name
    }

    /// The error of a name that means nothing, or several things.
    pub(super) fn unknown_name(
        &self,
        table: Option<&Ident>,
        column: &Ident,
        scope: &Scope<'_>,
        span: Span,
    ) -> Error {
        let written = name(&column.value);
        if let Some(table) = table {
            let Some(known) = scope.table(table) else {
                let what = format!("There is no table {} in from.", name(&table.value));
                let tables = || scope.tables.iter().map(|t| t.name.as_str());
                let error = self.wrong(ErrorKind::Name, what, span);
                return match nearest(&table.value, tables()) {
                    Some(near) => error.next(format!("Did you mean {}?", name(near))),
                    None => error.why(format!("Its tables are {}.", comma(tables().map(name)))),
                };
            };
            let what = format!("The table {} has no column {written}.", name(&known.name));
            let columns = || known.columns.iter().map(|c| c.name.as_str());
            return self.nearest_of(
                self.wrong(ErrorKind::Name, what, span),
                &column.value,
                columns().collect(),
            );
        }
        let error = self.wrong(ErrorKind::Name, format!("There is no column {written}."), span);
        let error = match column.quote_style {
            Some('"') => error.why("In double quotes stands a name, and a text in single quotes."),
            _ => error,
        };
        self.nearest_of(error, &column.value, scope.names())
    }

    fn nearest_of(&self, error: Error, wanted: &str, names: Vec<&str>) -> Error {
        match nearest(wanted, names.iter().copied()) {
            Some(near) => error.next(format!("Did you mean {}?", name(near))),
            None => error.why(format!("The columns are {}.", comma(names.into_iter().take(20).map(name)))),
        }
    }

    /// The error of a name that columns of several tables have.
    pub(super) fn ambiguous(&self, column: &Ident, tables: &[String], span: Span) -> Error {
        let written = name(&column.value);
        let error = self.wrong(ErrorKind::Name, format!("The name {written} means several columns."), span);
        match tables {
            [table, _, ..] => error
                .why(format!("The tables {} have it.", comma(tables.iter().map(|t| name(t)))))
                .next(format!(
                    "Write {}.{written}; a key of the same name on both sides is one column with using ({written}).",
                    name(table)
                )),
            _ => error.next("They differ in case only: write the one that is meant in double quotes."),
        }
    }
}
