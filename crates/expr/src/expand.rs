//! Parameters, defined functions and column sets put in their places, before names are looked up.

use std::collections::BTreeMap;
use std::sync::Arc;

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Field, Result, Scalar, SourceText, Span, Type, deep};

use super::ast::{ColumnRef, ColumnSet, Expr, Keys, Kind, SetOf};

/// What a recipe declares before its chains.
#[derive(Clone, Debug, Default)]
pub struct Environment {
    /// `given`: parameters and their values.
    pub givens: BTreeMap<String, Scalar>,
    /// `define`: functions of the user's own.
    pub defines: BTreeMap<String, Define>,
}

/// A function of the user's own.
#[derive(Clone, Debug)]
pub struct Define {
    /// The names of the parameters.
    pub parameters: Vec<String>,
    /// The expression that a call stands for.
    pub body: Expr,
}

impl Environment {
    /// The value of a parameter.
    pub fn given(&self, parameter: &str, source: &Arc<SourceText>, span: Span) -> Result<Scalar> {
        self.givens.get(parameter).cloned().ok_or_else(|| {
            let error =
                Error::new(ErrorKind::Name, format!("There is no parameter ${parameter}.")).at(source, span);
            match nearest(parameter, self.givens.keys().map(String::as_str)) {
                Some(near) => error.next(format!("Did you mean ${near}?")),
                None => error.next(format!("Declare it at the top of the recipe: given {parameter} = 100")),
            }
        })
    }

    /// The expression with parameters and calls of defined functions replaced.
    ///
    /// # Errors
    /// A parameter that was not given; a call with the wrong number of arguments.
    pub fn expand(&self, expr: &Expr, source: &Arc<SourceText>) -> Result<Expr> {
        let mut error = None;
        let mut expanded = expr.map_parts(&mut |part| match self.expand(part, source) {
            Ok(part) => part,
            Err(e) => {
                error.get_or_insert(e);
                part.clone()
            }
        });
        if let Some(error) = error {
            return Err(error);
        }
        match &expanded.kind {
            Kind::Parameter(parameter) => {
                expanded.kind = Kind::Literal(self.given(parameter, source, expr.span)?);
            }
            Kind::Call(function, args) => {
                if let Some(define) = self.defines.get(function) {
                    if define.parameters.len() != args.len() {
                        let what = format!(
                            "{function} takes {}, not {}.",
                            churn_core::readable::plural(define.parameters.len() as u64, "argument"),
                            args.len()
                        );
                        let usage = format!("It is defined as {function}({}).", comma(&define.parameters));
                        return Err(Error::new(ErrorKind::Check, what).at(source, expr.span).next(usage));
                    }
                    if let Some(error) = too_large(define, args) {
                        return Err(error.at(source, expr.span));
                    }
                    expanded = substitute(&define.body, &define.parameters, args, expr.span);
                }
            }
            _ => {}
        }
        Ok(expanded)
    }
}

/// Parts that an expression may have once the functions in it are put in their places.
const MOST_PARTS: usize = 100_000;

/// The error of a call that would be too large with the function's body in its place.
fn too_large(define: &Define, args: &[Expr]) -> Option<Error> {
    let mut sizes = Vec::with_capacity(args.len());
    for arg in args {
        sizes.push(parts(arg, MOST_PARTS));
    }
    let of_name = |name: &str| {
        let place = define.parameters.iter().position(|parameter| parameter == name)?;
        sizes.get(place).copied()
    };
    let mut all = 0usize;
    count(&define.body, &mut all, MOST_PARTS, &of_name);
    (all > MOST_PARTS).then(|| {
        let what = "This is too long once the functions in it are written out.";
        Error::new(ErrorKind::Check, what)
            .why(format!("It would have more than {MOST_PARTS} parts, since functions that use a value twice double it."))
            .next("Work a part of it out in a column of its own before it, with add.")
    })
}

/// The parts of an expression, as far as `most`.
fn parts(expr: &Expr, most: usize) -> usize {
    let mut all = 0;
    count(expr, &mut all, most, &|_| None);
    all
}

fn count(expr: &Expr, all: &mut usize, most: usize, of_name: &dyn Fn(&str) -> Option<usize>) {
    *all += match &expr.kind {
        Kind::Name(name) => of_name(name).unwrap_or(1),
        _ => 1,
    };
    if *all <= most {
        expr.for_each_part(&mut |part| deep::guarded(|| count(part, all, most, of_name)));
    }
}

/// The body with its parameters replaced by arguments; it all stands at the place of the call.
fn substitute(body: &Expr, parameters: &[String], args: &[Expr], call: Span) -> Expr {
    if let Kind::Name(name) = &body.kind
        && let Some(arg) = parameters.iter().position(|p| p == name).and_then(|i| args.get(i))
    {
        return arg.clone();
    }
    let mut replaced = body.map_parts(&mut |part| substitute(part, parameters, args, call));
    replaced.span = call;
    replaced
}

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
    let unknown = |name: &str, span: Span| unknown_column(name, fields, source, span);
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
pub fn unknown_column(column: &str, fields: &[Field], source: &Arc<SourceText>, span: Span) -> Error {
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
    let expr = with_present(expr, fields, keys, source)?;
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

/// `present(each …)` takes all columns of the set at once.
pub(crate) fn with_present(
    expr: &Expr,
    fields: &[Field],
    keys: &[String],
    source: &Arc<SourceText>,
) -> Result<Expr> {
    if let Kind::Call(function, args) = &expr.kind
        && function == "present"
    {
        let mut all = Vec::new();
        for arg in args {
            match &arg.kind {
                Kind::Each(set) => {
                    for field in columns_of(set, fields, keys, source)? {
                        all.push(Expr::new(Kind::Name(field.name.clone()), arg.span));
                    }
                }
                _ => all.push(arg.clone()),
            }
        }
        return Ok(Expr::new(Kind::Call(function.clone(), all), expr.span));
    }
    let mut error = None;
    let expanded = expr.map_parts(&mut |part| match with_present(part, fields, keys, source) {
        Ok(part) => part,
        Err(e) => {
            error.get_or_insert(e);
            part.clone()
        }
    });
    error.map_or(Ok(expanded), Err)
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
                if function == "start_of" =>
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
