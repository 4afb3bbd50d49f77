//! `read NAME`: a chain that starts from an earlier table.

use std::fmt;
use std::sync::Arc;

use churn_core::error::nearest;
use churn_core::names::name;
use churn_core::{ColumnId, Error, ErrorKind, Field, Position};
use churn_plan::operators::Shared;
use churn_plan::{Node, Relation};

use super::read::relation;
use super::{Check, Checker};

/// `read NAME`: the rows of an earlier table.
#[derive(Clone, Debug, PartialEq)]
pub struct ReadTable(pub(super) String, pub(super) Position);

impl ReadTable {
    /// Starts from this table.
    pub fn new(name: &str) -> ReadTable {
        ReadTable(name.to_owned(), Position::default())
    }

    /// Starts from this table, named at a place.
    #[cfg(feature = "sql")]
    pub(crate) fn at(name: &str, span: churn_core::Span) -> ReadTable {
        ReadTable(name.to_owned(), span.into())
    }

    /// The error of a table that is not there.
    fn missing(&self, checker: &Checker<'_>) -> Error {
        let error =
            Error::new(ErrorKind::Name, format!("There is no table {} before this line.", name(&self.0)));
        let declared = checker.tables.iter().map(|t| t.name.as_str());
        match nearest(&self.0, declared.chain(checker.catalogue.table_names())) {
            Some(near) => error.next(format!("Did you mean {}?", name(near))),
            None => {
                error.next(format!("If it is a file, its path stands in single quotes: read '{}'.", self.0))
            }
        }
    }
}

impl Check for ReadTable {
    fn check(&self, _: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let Some(index) = checker.tables.iter().position(|t| t.name == self.0) else {
            if let Some(source) = checker.catalogue.table(&self.0).cloned() {
                return Some(relation(source, None, checker));
            }
            let error = self.missing(checker);
            checker.wrong(self.1, error);
            return None;
        };
        if !checker.used.contains(&index) {
            checker.used.push(index);
        }
        let table = checker.tables.get_mut(index)?;
        let again = std::mem::replace(&mut table.is_used, true);
        let (number, relation) = (table.number, table.relation.clone()?);
        Some(shared(number, relation, again, checker))
    }

    fn starts(&self) -> bool {
        true
    }

    fn keeps_rows(&self) -> bool {
        true
    }

    fn table(&self) -> Option<&str> {
        Some(&self.0)
    }
}

/// The rows of a table where they are used, for the first time or again.
pub(super) fn shared(table: usize, relation: Relation, again: bool, checker: &mut Checker<'_>) -> Relation {
    // Columns have one number in a plan, and so get new ones where a table is used again.
    let mut fields = relation.fields;
    let columns = relation.node.columns().into_iter().filter_map(|id| {
        let field = fields.iter().find(|f| f.id == id).or_else(|| relation.node.field(id))?;
        let here = if again { checker.ids.fresh() } else { id };
        Some((id, Field { id: here, ..field.clone() }))
    });
    let columns: Vec<(ColumnId, Field)> = columns.collect();
    for field in &mut fields {
        if let Some((_, here)) = columns.iter().find(|(id, _)| *id == field.id) {
            field.id = here.id;
        }
    }
    let op = Shared {
        table,
        input: Arc::new(relation.node),
        kept: columns.iter().map(|(id, _)| *id).collect(),
        columns,
    };
    Relation { node: Node::source(op, checker.step()), fields }
}

impl fmt::Display for ReadTable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "read {}", name(&self.0))
    }
}
