//! Column sets put in their places: one expression for each column, or the columns themselves.

use std::sync::Arc;

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Field, Position, Result, SourceText, Span, Type};

use super::try_map_parts;
use crate::ast::{Binary, ColumnRef, ColumnSet, Expr, Keys, Kind, SetOf};
use crate::functions::{self, Function};

/// The columns of a set, without those that stand as keys.
///
/// # Errors
/// A name that is no column; a set that matches nothing.
pub(crate) fn columns_of<'a>(
    set: &ColumnSet,
    fields: &'a [Field],
    keys: &[String],
    source: &Arc<SourceText>,
) -> Result<Vec<&'a Field>> {
    let unknown = |name: &str, span: Position| unknown_column(name, fields, source, span);
    for (name, span) in &set.except {
        if !fields.iter().any(|f| f.name == *name) {
            return Err(unknown(name, *span));
        }
    }
    let regex = match &set.of {
        SetOf::Matching(pattern) => regex::Regex::new(pattern).ok(),
        SetOf::Like(pattern) => regex::Regex::new(&glob_regex(pattern)).ok(),
        SetOf::Names(names) => {
            if let Some(lost) = names.iter().find(|n| !fields.iter().any(|f| f.name == **n)) {
                return Err(unknown(lost, set.span));
            }
            None
        }
        _ => None,
    };
    let wanted = |position: usize, field: &Field| match &set.of {
        SetOf::All => true,
        SetOf::Number => field.kind.is_number(),
        SetOf::Text => field.kind == Type::Text,
        SetOf::Date => field.kind.is_dated(),
        SetOf::Bool => field.kind == Type::Bool,
        SetOf::Like(_) | SetOf::Matching(_) => regex.as_ref().is_some_and(|r| r.is_match(&field.name)),
        SetOf::Positions(from, to) => (*from..=*to).contains(&(position + 1)),
        SetOf::Names(names) => names.contains(&field.name),
    };
    let found: Vec<&Field> = fields
        .iter()
        .enumerate()
        .filter(|(i, f)| {
            wanted(*i, f) && !set.except.iter().any(|(n, _)| *n == f.name) && !keys.contains(&f.name)
        })
        .map(|(_, f)| f)
        .collect();
    if found.is_empty() && !fields.iter().any(|f| f.kind == Type::Unknown) {
        return Err(Error::new(ErrorKind::Name, format!("No column fits {set}."))
            .at(source, set.span)
            .why(format!("The columns here are {}.", with_types(fields))));
    }
    Ok(found)
}

/// Column names with their types, for a message.
fn with_types(fields: &[Field]) -> String {
    comma(fields.iter().map(|f| format!("{} {}", name(&f.name), f.kind)))
}

/// The regular expression of a pattern with `*` and `?`.
fn glob_regex(pattern: &str) -> String {
    let mut regex = String::from("(?s)^");
    for c in pattern.chars() {
        match c {
            '*' => regex.push_str(".*"),
            '?' => regex.push('.'),
            c => regex.push_str(&regex::escape(c.encode_utf8(&mut [0; 4]))),
        }
    }
    regex.push('$');
    regex
}

/// The error of a name that is no column here.
pub fn unknown_column(
    column: &str,
    fields: &[Field],
    source: &Arc<SourceText>,
    span: impl Into<Span>,
) -> Error {
    let error = Error::new(ErrorKind::Name, format!("There is no column {}.", name(column))).at(source, span);
    let error = match fields.len() {
        0 => error,
        1..=30 => error.why(format!("The columns here are {}.", comma(fields.iter().map(|f| name(&f.name))))),
        n => error.why(format!(
            "There are {n} columns here: {}, …",
            comma(fields.iter().take(30).map(|f| name(&f.name)))
        )),
    };
    match nearest(column, fields.iter().map(|f| f.name.as_str())) {
        Some(near) => error.next(format!("Did you mean {}?", name(near))),
        None => error,
    }
}

/// The columns that a list of names and sets stands for.
///
/// # Errors
/// A name that is no column; a set that matches nothing; a column named twice.
pub fn columns_of_list<'a>(
    list: &[ColumnRef],
    fields: &'a [Field],
    source: &Arc<SourceText>,
) -> Result<Vec<&'a Field>> {
    let mut found: Vec<&Field> = Vec::new();
    for item in list {
        match item {
            ColumnRef::Name(column, span) => match fields.iter().find(|f| f.name == *column) {
                Some(field) if found.iter().any(|f| f.name == *column) => {
                    return Err(Error::new(
                        ErrorKind::Name,
                        format!("{} is named twice.", name(&field.name)),
                    )
                    .at(source, *span));
                }
                Some(field) => found.push(field),
                None => return Err(unknown_column(column, fields, source, *span)),
            },
            ColumnRef::Set(set) => {
                for field in columns_of(set, fields, &[], source)? {
                    if !found.iter().any(|f| f.name == field.name) {
                        found.push(field);
                    }
                }
            }
        }
    }
    Ok(found)
}

/// One expression for each column of the set in it, with that column's name; itself alone if it has no set.
///
/// # Errors
/// Two sets that are not the same; a set that matches nothing.
pub fn over_set(
    expr: &Expr,
    fields: &[Field],
    keys: &[String],
    source: &Arc<SourceText>,
) -> Result<Vec<(Expr, Option<String>)>> {
    let expr = with_sets(expr, fields, keys, source)?;
    let Some(set) = expr.first_set() else { return Ok(vec![(expr, None)]) };
    let mut left_out = keys.to_vec();
    per_keys(&expr, &mut left_out);
    let columns = columns_of(set, fields, &left_out, source)?;
    let mut other = None;
    find_other_set(&expr, &set.to_string(), &mut other);
    if let Some(other) = other {
        return Err(Error::new(ErrorKind::Check, "The sets in one item must be the same.")
            .at(source, other.span)
            .why(format!("The first one is {set}, this one {other}."))
            .next("Write two items."));
    }
    Ok(columns.iter().map(|column| (for_column(&expr, &column.name), Some(column.name.clone()))).collect())
}

/// Adds the names of columns that aggregates are taken per.
fn per_keys(expr: &Expr, into: &mut Vec<String>) {
    if let Kind::Per(_, Keys::Columns(columns)) = &expr.kind {
        into.extend(
            columns.iter().filter_map(|c| if let ColumnRef::Name(n, _) = c { Some(n.clone()) } else { None }),
        );
    }
    expr.for_each_part(&mut |part| per_keys(part, into));
}

fn find_other_set<'a>(expr: &'a Expr, first: &str, other: &mut Option<&'a ColumnSet>) {
    if let Kind::Each(set) = &expr.kind
        && set.to_string() != first
    {
        other.get_or_insert(set);
    }
    expr.for_each_part(&mut |part| find_other_set(part, first, other));
}

fn for_column(expr: &Expr, column: &str) -> Expr {
    match &expr.kind {
        Kind::Each(_) => Expr::new(Kind::Name(column.to_owned()), expr.span),
        _ => expr.map_parts(&mut |part| for_column(part, column)),
    }
}

/// Column sets that stand for all their columns at once: among the arguments of functions that take as many values as
/// one likes, and beside `||`.
pub(crate) fn with_sets(
    expr: &Expr,
    fields: &[Field],
    keys: &[String],
    source: &Arc<SourceText>,
) -> Result<Expr> {
    let columns = |part: &Expr| -> Result<Vec<Expr>> {
        let Kind::Each(set) = &part.kind else { return Ok(vec![with_sets(part, fields, keys, source)?]) };
        let columns = columns_of(set, fields, keys, source)?;
        Ok(columns.iter().map(|field| Expr::new(Kind::Name(field.name.clone()), part.span)).collect())
    };
    match &expr.kind {
        Kind::Call(function, args) if functions::find(function).is_some_and(Function::takes_sets) => {
            let args = args.iter().map(columns).collect::<Result<Vec<_>>>()?.concat();
            Ok(Expr::new(Kind::Call(function.clone(), args), expr.span))
        }
        Kind::Binary(Binary::Concat, a, b) if [a, b].iter().any(|x| matches!(x.kind, Kind::Each(_))) => {
            let texts = [columns(a)?, columns(b)?].concat().into_iter();
            let joined = texts
                .reduce(|a, b| Expr::new(Kind::Binary(Binary::Concat, Box::new(a), Box::new(b)), expr.span));
            Ok(joined.unwrap_or_else(|| expr.clone()))
        }
        _ => try_map_parts(expr, &mut |part| with_sets(part, fields, keys, source)),
    }
}

/// The name that an item without one gets: a column's own, `litres_sum` for a function of one column.
pub fn default_name(expr: &Expr) -> Option<String> {
    match &expr.kind {
        Kind::Name(name) => Some(name.clone()),
        Kind::Per(inner, _) | Kind::Where(inner, _) | Kind::Over(inner, _) => default_name(inner),
        Kind::Call(function, args) => match args.split_first() {
            None => Some(function.clone()),
            Some((Expr { kind: Kind::Name(column), .. }, rest)) if rest.iter().all(has_no_column) => {
                Some(format!("{column}_{function}"))
            }
            // start_of(month, x): the unit is no column.
            Some((Expr { kind: Kind::Name(_), .. }, [Expr { kind: Kind::Name(column), .. }]))
                if functions::find(function).is_some_and(Function::takes_unit) =>
            {
                Some(format!("{column}_{function}"))
            }
            _ => None,
        },
        Kind::Cast(cast) => match &cast.from.kind {
            Kind::Name(column) => {
                Some(format!("{column}_{}", if cast.lenient { "try_cast" } else { "cast" }))
            }
            _ => None,
        },
        _ => None,
    }
}

fn has_no_column(expr: &Expr) -> bool {
    let mut none = !matches!(expr.kind, Kind::Name(_) | Kind::Each(_));
    expr.for_each_part(&mut |part| none &= has_no_column(part));
    none
}
