//! `from`: the tables of a query, and which columns its names mean.

use churn_core::error::nearest;
use churn_core::names::name;
use churn_core::{ErrorKind, Result, Span};
use sqlparser::ast::{Expr as Sql, Ident, ObjectName, TableAlias, TableFactor, TableWithJoins};

use super::rows::Rows;
use super::scope::{Column, Named, Scope, Visible, means};
use super::translator::Translator;
use crate::steps;

/// Tables that are joined, and the columns that their names mean.
pub(super) struct Joined {
    pub(super) rows: Rows,
    pub(super) scope: Scope<'static>,
}

impl Joined {
    /// The name for the table of these rows.
    pub(super) fn wanted_name(&self) -> String {
        match self.scope.tables.as_slice() {
            [only] if !only.name.is_empty() => only.name.clone(),
            _ => "joined".to_owned(),
        }
    }
}

impl Translator<'_, '_> {
    /// Translates `from`. Conditions of `where` that equate columns of two of its tables join them, and are taken out.
    pub(super) fn from<'q>(
        &mut self,
        from: &'q [TableWithJoins],
        conjuncts: &mut Vec<&'q Sql>,
    ) -> Result<(Rows, Scope<'static>)> {
        let mut joined: Option<Joined> = None;
        for tables in from {
            let next = self.tables_joined(tables, conjuncts)?;
            joined = Some(match joined {
                None => next,
                Some(before) => {
                    let span = self.span(&tables.relation);
                    self.cross(before, next, conjuncts, span)?
                }
            });
        }
        let Joined { rows, scope } =
            joined.ok_or_else(|| self.wrong(ErrorKind::Internal, "from has no table.", Span::default()))?;
        Ok((rows, scope))
    }

    fn tables_joined<'q>(
        &mut self,
        tables: &'q TableWithJoins,
        conjuncts: &mut Vec<&'q Sql>,
    ) -> Result<Joined> {
        let mut joined = self.factor(&tables.relation)?;
        for join in &tables.joins {
            if join.global {
                return Err(self.unsupported("A global join", "Write join.", self.span(join)));
            }
            let right = self.factor(&join.relation)?;
            joined = self.join(joined, right, &join.join_operator, conjuncts, self.span(join))?;
        }
        Ok(joined)
    }

    fn factor(&mut self, factor: &TableFactor) -> Result<Joined> {
        let span = self.span(factor);
        match factor {
            TableFactor::Table {
                name,
                alias,
                args: None,
                with_hints,
                version: None,
                sample: None,
                partitions,
                ..
            } if with_hints.is_empty() && partitions.is_empty() => self.table_of(name, alias.as_ref(), span),
            TableFactor::Derived { lateral: false, subquery, alias, sample: None } => {
                let rows = self.query(subquery, None)?;
                let columns = self.called(&rows, alias.as_ref())?;
                let name = alias.as_ref().map(|alias| alias.name.value.clone()).unwrap_or_default();
                Ok(one_table(rows, name, columns))
            }
            TableFactor::NestedJoin { table_with_joins, alias: None } => {
                self.tables_joined(table_with_joins, &mut Vec::new())
            }
            TableFactor::Derived { lateral: true, .. } | TableFactor::Function { lateral: true, .. } => {
                Err(self.unsupported("lateral", "Join a sub-query by what it compares with.", span))
            }
            TableFactor::UNNEST { .. } => Err(self.unsupported(
                "unnest in from",
                "A step behind the query opens lists: unnest bottles.",
                span,
            )),
            TableFactor::Table { sample: Some(_), .. } => Err(self.unsupported(
                "tablesample",
                "A step behind the query takes random rows: sample 5 percent.",
                span,
            )),
            TableFactor::Table { args: Some(_), .. }
            | TableFactor::Function { .. }
            | TableFactor::TableFunction { .. } => {
                let next = "A file is named in single quotes; how it is read is told in a table of the recipe, or of --table.";
                Err(self.unsupported("A function in from", next, span))
            }
            _ => Err(self.unsupported(
                "This form of a table",
                "Name a file in single quotes, a table, or a query in parentheses.",
                span,
            )),
        }
    }

    /// A file in single quotes, or a table of `with` or of the recipe.
    fn table_of(&mut self, of: &ObjectName, alias: Option<&TableAlias>, span: Span) -> Result<Joined> {
        let [part] = of.0.as_slice() else {
            return Err(self.unsupported("A table of a schema", "Write its name alone.", span));
        };
        let Some(ident) = part.as_ident() else {
            return Err(self.unsupported("This name of a table", "", span));
        };
        let at = self.places.span(ident.span);
        if ident.quote_style == Some('\'') {
            let (step, source) = steps::reading_at(&ident.value, at);
            let rows = self.start(step, Some(source), at)?;
            let name = alias.map_or_else(|| stem(&ident.value).to_owned(), |alias| alias.name.value.clone());
            let columns = self.called(&rows, alias)?;
            return Ok(one_table(rows, name, columns));
        }
        let name = alias.map_or(&ident.value, |alias| &alias.name.value).clone();
        let with = self.with.iter().rev().find(|with| means(ident, &with.name));
        if let Some(with) = with.map(|with| (with.table.clone(), with.columns.clone())) {
            let rows = self.start_from(&with.0, at)?;
            let columns = match alias.filter(|alias| !alias.columns.is_empty()) {
                Some(_) => self.called(&rows, alias)?,
                None => with.1,
            };
            return Ok(one_table(rows, name, columns));
        }
        let declared = self.declared_table(ident, at)?;
        let rows = self.start_from(&declared, at)?;
        let columns = self.called(&rows, alias)?;
        Ok(one_table(rows, name, columns))
    }

    /// The table of the recipe, or of the catalogue, that a name means.
    fn declared_table(&self, ident: &Ident, span: Span) -> Result<String> {
        let made = |name: &str| self.tables.iter().any(|table| table.name == name);
        let declared = self.checker.tables.iter().map(|table| table.name.as_str()).filter(|name| !made(name));
        let all: Vec<&str> = declared.chain(self.checker.catalogue.table_names()).collect();
        let exact = all.iter().find(|known| **known == ident.value);
        if let Some(found) = exact.or_else(|| all.iter().find(|known| means(ident, known))) {
            return Ok((*found).to_owned());
        }
        let written = &ident.value;
        let error = self.wrong(ErrorKind::Name, format!("There is no table {}.", name(written)), span);
        let with = self.with.iter().map(|with| with.name.as_str());
        Err(match nearest(written, all.into_iter().chain(with)) {
            Some(near) => error.next(format!("Did you mean {}?", name(near))),
            None => error
                .why("Tables are those of with, of the recipe, and those that --table names.")
                .next(format!("If it is a file, its path stands in single quotes: from '{written}.csv'.")),
        })
    }
}

/// The name of a file without its folder and its ending.
fn stem(path: &str) -> &str {
    let file = path.rsplit('/').next().unwrap_or(path);
    file.split('.').next().unwrap_or(file)
}

/// The rows of one table.
fn one_table(rows: Rows, name: String, columns: Vec<Column>) -> Joined {
    let table = Some(name.clone()).filter(|name| !name.is_empty());
    let visible = columns
        .iter()
        .map(|c| Visible { name: c.name.clone(), column: c.column.clone(), table: table.clone() })
        .collect();
    Joined { rows, scope: Scope { tables: vec![Named { name, columns }], visible, outer: None } }
}
