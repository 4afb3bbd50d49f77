//! `sql 'QUERY'`: a chain that starts with a query of the SQL standard.

use std::fmt;

use churn_core::{Error, ErrorKind, Position, Scalar, Span};
use churn_expr::text::raw;
use churn_plan::Relation;

use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "sql",
    usage: "sql 'QUERY', or the query on lines of its own below it",
    summary: "Starts a chain with a query of the SQL standard, which becomes the steps that it means.",
    example: "sql 'select farm, sum(litres) as litres from ''deliveries-2026.csv'' group by farm order by litres desc'",
    parse: |text| {
        text.one(|c| {
            let (text, span) = c.text("the query, in single quotes or on lines of its own")?;
            Ok(Step::from(Sql { text, span }))
        })
    },
};

/// `sql`: a query of the SQL standard, which becomes the steps that it means when the chain is checked.
///
/// In its `from` stand files in single quotes, and tables of the recipe.
///
/// ```
/// use churn::steps;
/// let query = steps::Sql::new("select grade from 'deliveries-2026.csv'");
/// assert_eq!(query.to_string(), "sql\n  select grade from 'deliveries-2026.csv'");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Sql {
    text: String,
    span: Position,
}

impl Sql {
    /// The rows of this query.
    pub fn new(query: &str) -> Sql {
        Sql { text: query.trim().to_owned(), span: Position::default() }
    }

    /// The query that a file holds.
    pub(crate) fn of_file(text: &str) -> Sql {
        Sql { text: raw::read(text).text, span: Span { start: 0, end: text.len() }.into() }
    }

    /// The query.
    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    /// The place of its text, quotes included.
    pub(crate) fn span(&self) -> Span {
        self.span.into()
    }
}

impl Check for Sql {
    fn check(&self, _: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        // Queries are replaced by steps before, unless something before them holds a mistake or needs a run.
        if !checker.has_errors() && !checker.open {
            let error = Error::new(ErrorKind::Internal, "A query was not translated.");
            checker.wrong(self.span, error);
        }
        None
    }

    fn starts(&self) -> bool {
        true
    }

    fn query(&self) -> Option<&Sql> {
        Some(self)
    }
}

impl fmt::Display for Sql {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let stands_below = self.text.contains(['\n', '\'']);
        match raw::as_block(&self.text).filter(|_| stands_below) {
            Some(lines) => write!(f, "sql\n{lines}"),
            None => write!(f, "sql {}", Scalar::Text(self.text.clone())),
        }
    }
}
