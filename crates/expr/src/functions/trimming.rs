//! Characters taken off the ends of texts, and put there.

use churn_core::Type;

use super::{Arguments, Complaint, Family, Function, arg, entry, texts_by_row};
use crate::Bound;

pub(super) const FUNCTIONS: &[Function] = &[
    entry(
        Family::Text,
        "trim",
        "trim(x [, chars])",
        "x without the characters of chars (blanks if not said) at its ends.",
        ("trim('  A ')", "A"),
        |args| trimmed(args, Side::Both),
    ),
    entry(
        Family::Text,
        "trim_left",
        "trim_left(x [, chars])",
        "x without the characters of chars (blanks if not said) at its start.",
        ("trim_left('0042', '0')", "42"),
        |args| trimmed(args, Side::Left),
    ),
    entry(
        Family::Text,
        "trim_right",
        "trim_right(x [, chars])",
        "x without the characters of chars (blanks if not said) at its end.",
        ("trim_right('12.50', '0')", "12.5"),
        |args| trimmed(args, Side::Right),
    ),
    entry(
        Family::Text,
        "pad_left",
        "pad_left(x, n [, chars])",
        "x made n characters long by chars (blanks if not said) on its left; a longer x stays.",
        ("pad_left('42', 5, '0')", "00042"),
        |args| padded(args, Side::Left),
    ),
    entry(
        Family::Text,
        "pad_right",
        "pad_right(x, n [, chars])",
        "x made n characters long by chars (blanks if not said) on its right; a longer x stays.",
        ("pad_right('F1', 4, '.')", "F1.."),
        |args| padded(args, Side::Right),
    ),
];

#[derive(Clone, Copy, PartialEq)]
enum Side {
    Left,
    Right,
    Both,
}

fn trimmed(mut args: Arguments, side: Side) -> Result<Bound, Complaint> {
    args.count(1..=2)?;
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Text)?;
    let chosen = args.values.len() == 2;
    Ok(args.call(Type::Text, move |args, rows, _| {
        let (x, chars) = (arg(args, 0), arg(args, 1));
        let (x, chars) = (x.texts(), chars.texts());
        texts_by_row(rows, |row, out| {
            let mut x = x.get(row)?;
            let chars = if chosen { Some(chars.get(row)?) } else { None };
            let goes = |c: char| chars.map_or_else(|| c.is_whitespace(), |chars| chars.contains(c));
            if side != Side::Right {
                x = x.trim_start_matches(goes);
            }
            if side != Side::Left {
                x = x.trim_end_matches(goes);
            }
            out.push_str(x);
            Some(())
        })
    }))
}

fn padded(mut args: Arguments, side: Side) -> Result<Bound, Complaint> {
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
            if side == Side::Right {
                out.push_str(x);
            }
            if out.room_for(short) {
                out.inner().extend(fill.chars().cycle().take(short));
            }
            if side == Side::Left {
                out.push_str(x);
            }
            Some(())
        })
    }))
}
