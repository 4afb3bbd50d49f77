//! Functions of text. Lengths and positions count code points, from 1.

use churn_core::{Result, Type};

use super::{Arguments, Complaint, Family, Function, arg, bools_by_row, entry, ints_by_row, texts_by_row};
use crate::Bound;

pub(super) const FUNCTIONS: &[Function] = &[
    entry(Family::Text, "lower", "lower(x)", "x in lower case.", ("lower('Milk')", "milk"), |args| {
        of_text(args, |x, out| *out = x.to_lowercase())
    }),
    entry(Family::Text, "upper", "upper(x)", "x in upper case.", ("upper('Milk')", "MILK"), |args| {
        of_text(args, |x, out| *out = x.to_uppercase())
    }),
    entry(
        Family::Text,
        "title",
        "title(x)",
        "x with the first letter of each word in upper case and the others in lower case.",
        ("title('milk of the NORTH')", "Milk Of The North"),
        |args| of_text(args, title),
    ),
    entry(
        Family::Text,
        "reverse",
        "reverse(x)",
        "The characters of x from the last to the first.",
        ("reverse('F042')", "240F"),
        |args| of_text(args, |x, out| out.extend(x.chars().rev())),
    ),
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
        "position",
        "position(x, a)",
        "Where a first stands in x, in characters from 1; 0 if it does not.",
        ("position('gate 7', '7')", "6"),
        position,
    ),
    entry(
        Family::Text,
        "repeat_text",
        "repeat_text(x, n)",
        "x n times in a row; an empty text if n is not above 0.",
        ("repeat_text('ab', 3)", "ababab"),
        repeat_text,
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

/// Words are letters and digits side by side; an apostrophe within one is part of it.
fn title(x: &str, out: &mut String) {
    let mut is_within = false;
    for c in x.chars() {
        if is_within {
            out.extend(c.to_lowercase());
        } else {
            out.extend(c.to_uppercase());
        }
        is_within = c.is_alphanumeric() || (is_within && matches!(c, '\'' | '\u{2019}'));
    }
}

fn position(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Text)?;
    Ok(args.call(Type::Int, |args, rows, _| {
        let (x, a) = (arg(args, 0), arg(args, 1));
        let (x, a) = (x.texts(), a.texts());
        Ok(ints_by_row(rows, |row| {
            let (x, a) = (x.get(row)?, a.get(row)?);
            let before = x.find(a).and_then(|at| x.get(..at));
            Some(before.map_or(0, |before| before.chars().count() as i64 + 1))
        }))
    }))
}

fn repeat_text(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Int)?;
    Ok(args.call(Type::Text, |args, rows, _| {
        let (x, times) = (arg(args, 0), arg(args, 1));
        let missing = times.nulls(rows);
        let (x, times) = (x.texts(), times.ints());
        texts_by_row(rows, |row, out| {
            let x = x.get(row)?;
            if missing.as_ref().is_some_and(|n| n.is_null(row)) {
                return None;
            }
            let times = usize::try_from(times.get(row)?).unwrap_or(0);
            if out.room_for(x.len().saturating_mul(times)) {
                (0..if x.is_empty() { 0 } else { times }).for_each(|_| out.inner().push_str(x));
            }
            Some(())
        })
    }))
}
