//! Lists: length, elements, membership; and `length` and `contains` of text.

use std::sync::Arc;

use arrow_array::builder::{ListBuilder, StringViewBuilder};
use arrow_array::cast::AsArray;
use arrow_array::{Array, ListArray};
use arrow_schema::{DataType, Field};
use churn_core::scalar::array_of;
use churn_core::{Column, Result, Scalar, Type};
use churn_kernels::text_search::TextSearch;

use super::patterns::having;
use super::{Arguments, Complaint, Family, Function, arg, bools_by_row, ints_by_row};
use crate::{Bound, compare};

pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "length",
        usage: "length(x)",
        family: Family::Text,
        summary: "The number of characters of a text, or of values of a list.",
        example: ("length('Höfe')", "4"),
        bind: length,
    },
    Function {
        name: "contains",
        usage: "contains(x, a)",
        family: Family::Text,
        summary: "Whether the text x has a in it, or the list x the value a.",
        example: ("contains('gate closed', 'gate')", "true"),
        bind: contains,
    },
    Function {
        name: "parts",
        usage: "parts(x, sep)",
        family: Family::List,
        summary: "The list of the parts of x between separators.",
        example: ("length(parts('a/b/c', '/'))", "3"),
        bind: parts,
    },
    Function {
        name: "element",
        usage: "element(x, n)",
        family: Family::List,
        summary: "Value n of a list, from 1, or from -1 back from its end; null beyond its ends.",
        example: ("element(parts('a/b/c', '/'), 2)", "b"),
        bind: element,
    },
];

/// The values of a list in one row.
fn items(column: &Column, rows: usize) -> impl Fn(usize) -> Option<arrow_array::ArrayRef> + use<> {
    let array = column.array(rows);
    move |row| {
        let list: &ListArray = array.as_list_opt()?;
        (row < list.len() && list.is_valid(row)).then(|| list.value(row))
    }
}

fn length(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    if let Type::List(_) = args.kind(0) {
        return Ok(args.call(Type::Int, |args, rows, _| {
            let items = items(&arg(args, 0), rows);
            Ok(ints_by_row(rows, |row| items(row).map(|list| list.len() as i64)))
        }));
    }
    args.want(0, &Type::Text)?;
    Ok(args.call(Type::Int, |args, rows, _| {
        let x = arg(args, 0);
        let x = x.texts();
        Ok(ints_by_row(rows, |row| x.get(row).map(|x| x.chars().count() as i64)))
    }))
}

fn contains(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    if let Type::List(item) = args.kind(0) {
        args.want(1, &item)?;
        return Ok(args.call(Type::Bool, |args, rows, _| {
            let items = items(&arg(args, 0), rows);
            let wanted = arg(args, 1).array(rows);
            Ok(bools_by_row(rows, |row| {
                let list = items(row)?;
                let wanted = Scalar::from_array(&wanted, row);
                if wanted.is_null() {
                    return None;
                }
                let found = |i| compare::order_of(&Scalar::from_array(&list, i), &wanted).is_eq();
                Some((0..list.len()).any(found))
            }))
        }));
    }
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Text)?;
    if let Some(Scalar::Text(wanted)) = args.values.get(1).and_then(Bound::as_literal) {
        let search = TextSearch::new(wanted);
        return Ok(
            args.call(Type::Bool, move |args, rows, _| Ok(having(arg(args, 0).texts(), rows, &search)))
        );
    }
    Ok(args.call(Type::Bool, |args, rows, _| {
        let (x, a) = (arg(args, 0), arg(args, 1));
        let (x, a) = (x.texts(), a.texts());
        Ok(bools_by_row(rows, |row| Some(x.get(row)?.contains(a.get(row)?))))
    }))
}

fn parts(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Text)?;
    Ok(args.call(Type::List(Box::new(Type::Text)), |args, rows, _| {
        let (x, separator) = (arg(args, 0), arg(args, 1));
        let (x, separator) = (x.texts(), separator.texts());
        let field = Field::new("item", DataType::Utf8View, true);
        let mut builder = ListBuilder::new(StringViewBuilder::new()).with_field(field);
        for row in 0..rows {
            match x.get(row).zip(separator.get(row)) {
                Some((x, "")) => {
                    builder.values().append_value(x);
                    builder.append(true);
                }
                Some((x, separator)) => {
                    x.split(separator).for_each(|part| builder.values().append_value(part));
                    builder.append(true);
                }
                None => builder.append(false),
            }
        }
        Ok(Column::Array(Arc::new(builder.finish())))
    }))
}

fn element(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    let Type::List(item) = args.kind(0) else {
        return Err(Complaint::new(0, format!("element needs a list here, and this is {}.", args.kind(0))));
    };
    args.want(1, &Type::Int)?;
    let kind = (*item).clone();
    Ok(args.call(*item, move |args, rows, _| {
        let (x, n) = (arg(args, 0), arg(args, 1));
        let items = items(&x, rows);
        let n_nulls = n.nulls(rows);
        let n = n.ints();
        let values: Vec<Scalar> = (0..rows)
            .map(|row| {
                let wanted = n.get(row).filter(|_| n_nulls.as_ref().is_none_or(|n| n.is_valid(row)));
                let place = |list: &arrow_array::ArrayRef, n: i64| {
                    let length = list.len() as i64;
                    usize::try_from(if n < 0 { length.checked_add(n)? } else { n.checked_sub(1)? }).ok()
                };
                match items(row).zip(wanted) {
                    Some((list, n)) => {
                        place(&list, n).map_or(Scalar::Null, |place| Scalar::from_array(&list, place))
                    }
                    None => Scalar::Null,
                }
            })
            .collect();
        Ok(Column::Array(array_of(&values.iter().collect::<Vec<_>>(), &kind)))
    }))
}
