//! Functions of text. Lengths and positions count code points, from 1.

use churn_core::{Result, Type};

use super::{Arguments, Complaint, Family, Function, arg, bools_by_row, entry, texts_by_row};
use crate::Bound;

pub(super) const FUNCTIONS: &[Function] = &[
    entry(Family::Text, "lower", "lower(x)", "x in lower case.", ("lower('Milk')", "milk"), |args| {
        of_text(args, |x, out| *out = x.to_lowercase())
    }),
    entry(Family::Text, "upper", "upper(x)", "x in upper case.", ("upper('Milk')", "MILK"), |args| {
        of_text(args, |x, out| *out = x.to_uppercase())
    }),
    entry(Family::Text, "trim", "trim(x)", "x without blanks at its ends.", ("trim('  A ')", "A"), |args| {
        of_text(args, |x, out| out.push_str(x.trim()))
    }),
    entry(
        Family::Text,
        "substring",
        "substring(x, from [, n])",
        "n characters of x (all that follow if not said) from position from.",
        ("substring('F00042', 2, 3)", "000"),
        substring,
    ),
    entry(
        Family::Text,
        "replace",
        "replace(x, a, b)",
        "x with each a replaced by b.",
        ("replace('a-b', '-', ' ')", "a b"),
        replace,
    ),
    entry(
        Family::Text,
        "starts_with",
        "starts_with(x, a)",
        "Whether x starts with a.",
        ("starts_with('F042', 'F')", "true"),
        |args| test(args, |x, a| x.starts_with(a)),
    ),
    entry(
        Family::Text,
        "ends_with",
        "ends_with(x, a)",
        "Whether x ends with a.",
        ("ends_with('F042', '2')", "true"),
        |args| test(args, |x, a| x.ends_with(a)),
    ),
    entry(
        Family::Text,
        "pad_left",
        "pad_left(x, n [, ch])",
        "x made n characters long by ch (a blank if not said) on its left; a longer x stays.",
        ("pad_left('42', 5, '0')", "00042"),
        pad_left,
    ),
];

fn of_text(mut args: Arguments, f: fn(&str, &mut String)) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    args.want(0, &Type::Text)?;
    Ok(args.call(Type::Text, move |args, rows, _| {
        let x = arg(args, 0);
        let x = x.texts();
        texts_by_row(rows, |row, out| {
            f(x.get(row)?, out.inner());
            Some(())
        })
    }))
}

fn test(mut args: Arguments, f: fn(&str, &str) -> bool) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Text)?;
    Ok(args.call(Type::Bool, move |args, rows, _| {
        let (x, a) = (arg(args, 0), arg(args, 1));
        let (x, a) = (x.texts(), a.texts());
        Ok(bools_by_row(rows, |row| Some(f(x.get(row)?, a.get(row)?))))
    }))
}

fn substring(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=3)?;
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Int)?;
    args.want(2, &Type::Int)?;
    let bounded = args.values.len() == 3;
    Ok(args.call(Type::Text, move |args, rows, _| {
        let (x, from, count) = (arg(args, 0), arg(args, 1), arg(args, 2));
        let missing = [from.nulls(rows), count.nulls(rows).filter(|_| bounded)];
        let (x, from, count) = (x.texts(), from.ints(), count.ints());
        texts_by_row(rows, |row, out| {
            let x = x.get(row)?;
            if missing.iter().flatten().any(|n| n.is_null(row)) {
                return None;
            }
            let from = from.get(row)?;
            let end = if bounded { from.saturating_add(count.get(row)?.max(0)) } else { i64::MAX };
            let skip = usize::try_from(from.max(1) - 1).unwrap_or(usize::MAX);
            let take = usize::try_from(end.saturating_sub(from.max(1))).unwrap_or(0);
            out.inner().extend(x.chars().skip(skip).take(take));
            Some(())
        })
    }))
}

fn replace(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(3..=3)?;
    for i in 0..3 {
        args.want(i, &Type::Text)?;
    }
    Ok(args.call(Type::Text, |args, rows, _| {
        let (x, a, b) = (arg(args, 0), arg(args, 1), arg(args, 2));
        let (x, a, b) = (x.texts(), a.texts(), b.texts());
        texts_by_row(rows, |row, out| {
            let (x, a, b) = (x.get(row)?, a.get(row)?, b.get(row)?);
            if a.is_empty() {
                out.push_str(x);
            } else {
                let mut rest = 0;
                for (at, _) in x.match_indices(a) {
                    out.push_str(x.get(rest..at)?);
                    out.push_str(b);
                    rest = at + a.len();
                }
                out.push_str(x.get(rest..)?);
            }
            Some(())
        })
    }))
}

fn pad_left(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=3)?;
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Int)?;
    args.want(2, &Type::Text)?;
    let chosen = args.values.len() == 3;
    Ok(args.call(Type::Text, move |args, rows, _| {
        let (x, width, fill) = (arg(args, 0), arg(args, 1), arg(args, 2));
        let missing = width.nulls(rows);
        let (x, width, fill) = (x.texts(), width.ints(), fill.texts());
        texts_by_row(rows, |row, out| {
            let x = x.get(row)?;
            let fill = if chosen { fill.get(row)? } else { " " };
            if missing.as_ref().is_some_and(|n| n.is_null(row)) {
                return None;
            }
            // A negative width is shorter than any text.
            let width = usize::try_from(width.get(row)?).unwrap_or(0);
            let short = width.saturating_sub(x.chars().count());
            if out.room_for(short) {
                out.inner().extend(fill.chars().cycle().take(short));
            }
            out.push_str(x);
            Some(())
        })
    }))
}
