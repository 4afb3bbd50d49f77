//! Names that stand in a query, and the columns that they mean.

use sqlparser::ast::Ident;

/// The columns that the expressions of one `select` may name.
#[derive(Clone, Default)]
pub(super) struct Scope<'o> {
    /// The tables of `from`, each with all of its columns: for `d.litres` and `d.*`.
    pub(super) tables: Vec<Named>,
    /// The columns in the order of `*`: for `litres` and `*`.
    pub(super) visible: Vec<Visible>,
    /// The names of the query around this one.
    pub(super) outer: Option<&'o Scope<'o>>,
}

/// A table of `from`.
#[derive(Clone)]
pub(super) struct Named {
    /// What it is called; none for a sub-query without a name.
    pub(super) name: String,
    pub(super) columns: Vec<Column>,
}

/// What a column is called in the query, and in the rows that flow.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Column {
    pub(super) name: String,
    pub(super) column: String,
}

/// A column that is named without a table.
#[derive(Clone)]
pub(super) struct Visible {
    pub(super) name: String,
    pub(super) column: String,
    /// The table that it is of; none if two tables share it by `using`.
    pub(super) table: Option<String>,
}

/// What a name means.
#[derive(Debug)]
pub(super) enum Found {
    /// A column of this query.
    Here(String),
    /// A column of the query around it.
    Outer(String),
    /// A column of a query further out.
    Further,
    /// Columns of several tables.
    Several(Vec<String>),
    /// Nothing.
    None,
}

/// Whether a name as it is written means a column: in double quotes exactly, else whatever the case.
pub(super) fn means(written: &Ident, name: &str) -> bool {
    written.value == name
        || (written.quote_style.is_none() && written.value.to_lowercase() == name.to_lowercase())
}

/// Of things with names those that a name means: those that are called exactly so come first.
fn meant<'a, T>(written: &Ident, all: impl Iterator<Item = &'a T>, name: impl Fn(&T) -> &str) -> Vec<&'a T> {
    let fits: Vec<&T> = all.filter(|one| means(written, name(one))).collect();
    let exact: Vec<&T> = fits.iter().copied().filter(|one| name(one) == written.value).collect();
    if exact.is_empty() { fits } else { exact }
}

impl Scope<'_> {
    /// What a name means, with or without a table before it.
    pub(super) fn find(&self, table: Option<&Ident>, column: &Ident) -> Found {
        match (self.here(table, column), self.outer) {
            (Found::None, Some(outer)) => match outer.find(table, column) {
                Found::Here(column) => Found::Outer(column),
                Found::Outer(_) => Found::Further,
                other => other,
            },
            (found, _) => found,
        }
    }

    fn here(&self, table: Option<&Ident>, column: &Ident) -> Found {
        match table {
            Some(table) => {
                let tables = meant(table, self.tables.iter(), |t| &t.name);
                let columns: Vec<&Column> =
                    tables.into_iter().flat_map(|t| meant(column, t.columns.iter(), |c| &c.name)).collect();
                match columns.as_slice() {
                    [] => Found::None,
                    [one] => Found::Here(one.column.clone()),
                    [first, ..] => Found::Several(vec![first.name.clone()]),
                }
            }
            None => match meant(column, self.visible.iter(), |v| &v.name).as_slice() {
                [] => Found::None,
                [one] => Found::Here(one.column.clone()),
                several => Found::Several(
                    several.iter().map(|v| v.table.clone().unwrap_or_else(|| v.name.clone())).collect(),
                ),
            },
        }
    }

    /// The table of a name.
    pub(super) fn table(&self, name: &Ident) -> Option<&Named> {
        meant(name, self.tables.iter(), |t| &t.name).first().copied()
    }

    /// The names of all columns, and of those of the queries around, for messages.
    pub(super) fn names(&self) -> Vec<&str> {
        let mut names: Vec<&str> = self.visible.iter().map(|v| v.name.as_str()).collect();
        names.extend(self.outer.iter().flat_map(|outer| outer.names()));
        names
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn scope() -> Scope<'static> {
        let columns = |names: &[&str]| -> Vec<Column> {
            names.iter().map(|n| Column { name: (*n).into(), column: format!("c_{n}") }).collect()
        };
        let tables = vec![
            Named { name: "d".into(), columns: columns(&["farm", "Litres", "litres"]) },
            Named { name: "Farms".into(), columns: columns(&["farm", "herd"]) },
        ];
        let visible = tables
            .iter()
            .flat_map(|t: &Named| {
                let table = Some(t.name.clone());
                t.columns.iter().map(move |c| Visible {
                    name: c.name.clone(),
                    column: c.column.clone(),
                    table: table.clone(),
                })
            })
            .collect();
        Scope { tables, visible, outer: None }
    }

    #[rstest::rstest]
    #[case(None, "herd", "Here(\"c_herd\")")]
    #[case(None, "HERD", "Here(\"c_herd\")")]
    #[case(None, "\"HERD\"", "None")]
    #[case(None, "farm", "Several([\"d\", \"Farms\"])")]
    #[case(Some("farms"), "farm", "Here(\"c_farm\")")]
    #[case(Some("\"farms\""), "farm", "None")]
    #[case(None, "litres", "Here(\"c_litres\")")]
    #[case(None, "\"Litres\"", "Here(\"c_Litres\")")]
    #[case(Some("d"), "LITRES", "Several([\"Litres\"])")]
    fn names_mean_columns(#[case] table: Option<&str>, #[case] column: &str, #[case] found: &str) {
        let ident = |name: &str| match name.strip_prefix('"') {
            Some(quoted) => Ident::with_quote('"', quoted.trim_end_matches('"')),
            None => Ident::new(name),
        };
        let table = table.map(ident);
        assert_eq!(format!("{:?}", scope().find(table.as_ref(), &ident(column))), found);
    }

    #[test]
    fn what_is_not_here_is_looked_for_around() {
        let outer = scope();
        let inner = Scope { outer: Some(&outer), ..Scope::default() };
        let innermost = Scope { outer: Some(&inner), ..Scope::default() };
        assert!(matches!(inner.find(None, &Ident::new("herd")), Found::Outer(c) if c == "c_herd"));
        assert!(matches!(innermost.find(None, &Ident::new("herd")), Found::Further));
    }
}
