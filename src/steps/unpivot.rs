//! `unpivot VALUE for NAME in COLS`: columns become rows.

use std::fmt;

use churn_core::names::{comma, name, name_apart_from};
use churn_core::{Error, ErrorKind, Field, Position, Result, Scalar, Type};
use churn_expr::ast::ColumnRef;
use churn_expr::expand::columns_of_list;
use churn_expr::text::Cursor;
use churn_expr::{Bound, cast};
use churn_plan::Relation;
use churn_plan::operators::Cells;

use super::columns;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "unpivot",
    usage: "unpivot VALUE for NAME in COLS [split 'SEP'] [skip nulls] | unpivot for (*, NAME) in COLS split 'SEP'",
    summary: "Turns columns into rows: one for each cell, with the column's name beside its value; other columns repeat.",
    example: "unpivot litres for month in each '20*' skip nulls",
    parse: |text| Ok(Step::from(text.one(read)?)),
};

/// `unpivot`: columns become rows, one for each cell, with the column's name beside its value.
///
/// ```
/// use churn::{each, steps};
/// let unpivot = steps::Unpivot::new("litres", "month", [each().like("m_*")]).skip_nulls();
/// assert_eq!(unpivot.to_string(), "unpivot litres for month in each 'm_*' skip nulls");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Unpivot {
    /// The column of values; none where a part of the names stays one.
    value: Option<(String, Position)>,
    /// The columns that take the parts of the names; `None` is the part that stays.
    names: Vec<(Option<String>, Position)>,
    columns: Vec<ColumnRef>,
    separator: Option<(String, Position)>,
    skip_nulls: bool,
    span: Position,
}

fn read(c: &mut Cursor<'_>) -> Result<Unpivot> {
    let start = c.span();
    let value = if c.is_word_at(0, "for") { None } else { Some(c.name("the name of the column of values")?) };
    c.expect_word("for", "and the column that takes the names: unpivot litres for month in each 'm_*'")?;
    let part = |c: &mut Cursor<'_>| {
        let span = c.span();
        if c.take_symbol("*") {
            return Ok((None, span));
        }
        let (name, span) = c.name("a column that takes a part of the names")?;
        Ok((Some(name), span))
    };
    let names = if c.is_symbol_at(0, "(") { c.in_parentheses(part)? } else { vec![part(c)?] };
    c.expect_word("in", "and the columns: in each 'm_*'")?;
    let columns = c.list(Cursor::column_ref)?;
    let separator =
        if c.take_word("split") { Some(c.text("what stands between the parts of a name")?) } else { None };
    let skip_nulls = c.take_words(&["skip", "nulls"]);
    let span = c.since(start);
    let stays = names.iter().filter(|(name, _)| name.is_none()).count();
    if stays > 1 {
        return Err(c.error_at(span, "Only one part of a name can stay a column's name."));
    }
    match (&value, stays) {
        (Some(_), 1) => {
            return Err(c
                .error_at(span, "The part that stays names the columns of values.")
                .next("Write: unpivot for (*, farm) in …"));
        }
        (None, 0) => {
            return Err(c
                .error_at(span, "The column of values needs a name.")
                .next("Write: unpivot litres for month in …"));
        }
        _ => {}
    }
    if names.len() > 1 && separator.is_none() {
        let error = c.error_at(span, "It is not said where the names are cut.");
        return Err(error.next("Write what stands between their parts: split ' | '"));
    }
    Ok(Unpivot { value, names, columns, separator, skip_nulls, span })
}

impl Unpivot {
    /// These columns: their values in the column `value`, their names in the column `name`.
    pub fn new<T: Into<ColumnRef>>(value: &str, name: &str, columns: impl IntoIterator<Item = T>) -> Unpivot {
        Unpivot {
            value: Some((value.to_owned(), Position::default())),
            names: vec![(Some(name.to_owned()), Position::default())],
            columns: columns::all(columns),
            separator: None,
            skip_nulls: false,
            span: Position::default(),
        }
    }

    /// Names are cut at a separator, and their parts go to these columns; a part without a column stays the name of the
    /// column of values, in place of `value`.
    #[must_use]
    pub fn parts<'a>(self, separator: &str, names: impl IntoIterator<Item = Option<&'a str>>) -> Unpivot {
        let placed = |name: Option<&str>| (name.map(str::to_owned), Position::default());
        let names: Vec<_> = names.into_iter().map(placed).collect();
        let value = self.value.filter(|_| names.iter().all(|(name, _)| name.is_some()));
        Unpivot { value, names, separator: Some((separator.to_owned(), Position::default())), ..self }
    }

    /// Leaves cells without a value out.
    #[must_use]
    pub fn skip_nulls(self) -> Unpivot {
        Unpivot { skip_nulls: true, ..self }
    }

    /// The parts of a column's name.
    fn parts_of(&self, column: &str, checker: &mut Checker<'_>) -> Option<Vec<String>> {
        let Some((separator, span)) = &self.separator else { return Some(vec![column.to_owned()]) };
        let parts: Vec<String> = if separator.is_empty() {
            vec![column.to_owned()]
        } else {
            column.split(separator.as_str()).map(str::to_owned).collect()
        };
        if parts.len() == self.names.len() {
            return Some(parts);
        }
        let count = churn_core::readable::plural(parts.len() as u64, "part");
        let what = format!("{} has {count}, and {} are named.", name(column), self.names.len());
        let error = Error::new(ErrorKind::Check, what)
            .why(format!("It is cut at {}.", Scalar::Text(separator.clone())))
            .next("Name as many columns as there are parts, or leave this column out: … except it.");
        checker.wrong(*span, error);
        None
    }
}

impl Check for Unpivot {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let step = checker.step();
        let source = checker.source.clone();
        let columns = checker.kept(columns_of_list(&self.columns, &input.fields, &source))?;
        let columns: Vec<Field> = columns.into_iter().cloned().collect();
        let stays = self.names.iter().position(|(name, _)| name.is_none());
        // The rows that a row becomes by their names, and the columns of values, in order of first appearance.
        let mut rows: Vec<(Vec<String>, Vec<Option<&Field>>)> = Vec::new();
        let mut values: Vec<(String, Type)> = Vec::new();
        for column in &columns {
            let mut parts = self.parts_of(&column.name, checker)?;
            let value = match (stays, &self.value) {
                (Some(at), _) => parts.remove(at),
                (None, Some((value, _))) => value.clone(),
                (None, None) => String::new(),
            };
            let place = match values.iter().position(|(name, _)| *name == value) {
                Some(place) => place,
                None => {
                    values.push((value, Type::Null));
                    values.len() - 1
                }
            };
            if let Some((of, kind)) = values.get_mut(place) {
                match kind.common_type(&column.kind) {
                    Some(shared) => *kind = shared,
                    None => {
                        let what = format!(
                            "{} is {}, and other columns that {} would hold are {kind}.",
                            name(&column.name),
                            column.kind,
                            name(of)
                        );
                        let error = Error::new(ErrorKind::Type, what);
                        let next = format!(
                            "Turn them into one type before: add {0} = cast({0} as text)",
                            name(&column.name)
                        );
                        checker.wrong(self.span, error.next(next));
                        return None;
                    }
                }
            }
            let at = rows
                .iter()
                .position(|(names, cells)| *names == parts && cells.get(place).copied().flatten().is_none());
            let row = match at {
                Some(at) => at,
                None => {
                    rows.push((parts, Vec::new()));
                    rows.len() - 1
                }
            };
            if let Some((_, cells)) = rows.get_mut(row) {
                cells.resize(cells.len().max(place + 1), None);
                if let Some(cell) = cells.get_mut(place) {
                    *cell = Some(column);
                }
            }
        }
        let values: Vec<Field> =
            values.into_iter().map(|(name, kind)| Field::new(checker.ids.fresh(), name, kind)).collect();
        let named = self.names.iter().filter_map(|(name, _)| name.clone());
        let names: Vec<Field> = named.map(|name| Field::new(checker.ids.fresh(), name, Type::Text)).collect();
        let cell = |(place, field): (usize, &Field), cells: &[Option<&Field>]| {
            let column = cells.get(place).copied().flatten().map(Bound::column);
            let null = Bound { node: churn_expr::Node::Literal(Scalar::Null), kind: field.kind.clone() };
            column.and_then(|column| cast::silently(column, &field.kind)).unwrap_or(null)
        };
        let rows = rows.into_iter().map(|(names, cells)| Cells {
            values: values.iter().enumerate().map(|value| cell(value, &cells)).collect(),
            names,
        });
        let rows = rows.collect();
        let kept: Vec<Field> =
            input.fields.iter().filter(|f| !columns.iter().any(|c| c.name == f.name)).cloned().collect();
        let mut fields = kept.clone();
        for field in names.iter().chain(&values) {
            if fields.iter().any(|f| f.name == field.name) {
                let what = format!("There is a column {} already.", name(&field.name));
                checker.wrong(
                    self.span,
                    Error::new(ErrorKind::Name, what).next("Give the new one another name."),
                );
            }
            fields.push(field.clone());
        }
        let kept = kept.iter().map(|f| f.id).collect();
        let op = churn_plan::operators::Unpivot { kept, names, values, rows, skip_nulls: self.skip_nulls };
        Some(Relation { node: input.node.over(op, step), fields })
    }
}

impl fmt::Display for Unpivot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("unpivot ")?;
        if let Some((value, _)) = &self.value {
            write!(f, "{} ", name_apart_from(&["for"], value))?;
        }
        let part =
            |(part, _): &(Option<String>, Position)| part.as_deref().map_or_else(|| "*".to_owned(), name);
        match self.names.as_slice() {
            [one] => write!(f, "for {}", part(one))?,
            many => write!(f, "for ({})", comma(many.iter().map(part)))?,
        }
        write!(f, " in {}", comma(&self.columns))?;
        if let Some((separator, _)) = &self.separator {
            write!(f, " split {}", Scalar::Text(separator.clone()))?;
        }
        f.write_str(if self.skip_nulls { " skip nulls" } else { "" })
    }
}
