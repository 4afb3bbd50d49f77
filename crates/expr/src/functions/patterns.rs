//! Regular expressions over text, and `like`.

use churn_core::{Result, Scalar, Type};
use regex::Regex;

use super::{Arguments, Complaint, Family, Function, arg, bools_by_row, texts_by_row};
use crate::Bound;

pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "matches",
        usage: "matches(x, 're')",
        family: Family::Text,
        summary: "Whether the regular expression is found anywhere in x.",
        example: ("matches('T042', '^T[0-9]+$')", "true"),
        bind: matches,
    },
    Function {
        name: "capture",
        usage: "capture(x, 're' [, n])",
        family: Family::Text,
        summary: "What group n (1 if not said, 0 for the whole) of the first match holds; null if nothing matches.",
        example: ("capture('tank 7, gate 2', 'gate ([0-9]+)', 1)", "2"),
        bind: capture,
    },
];

fn regex(args: &Arguments) -> Result<Regex, Complaint> {
    let pattern = args.literal_text(1, "a regular expression")?;
    Regex::new(&pattern).map_err(|error| {
        let reason = error.to_string();
        let last = reason.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
        Complaint::new(1, "This is not a regular expression.").next(format!("It cannot be read: {last}."))
    })
}

fn matches(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    args.want(0, &Type::Text)?;
    let regex = regex(&args)?;
    Ok(args.call(Type::Bool, move |args, rows, _| {
        let x = arg(args, 0);
        let x = x.texts();
        Ok(bools_by_row(rows, |row| x.get(row).map(|x| regex.is_match(x))))
    }))
}

fn capture(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=3)?;
    args.want(0, &Type::Text)?;
    let regex = regex(&args)?;
    let group = match args.values.get(2).map(Bound::as_literal) {
        None => usize::from(regex.captures_len() > 1),
        Some(Some(Scalar::Int(n))) if (0..regex.captures_len() as i64).contains(n) => *n as usize,
        Some(_) => {
            let last = regex.captures_len() - 1;
            return Err(Complaint::new(2, format!("The group is a number from 0 to {last} here.")));
        }
    };
    Ok(args.call(Type::Text, move |args, rows, _| {
        let x = arg(args, 0);
        let x = x.texts();
        texts_by_row(rows, |row, out| {
            out.push_str(regex.captures(x.get(row)?)?.get(group)?.as_str());
            Some(())
        })
    }))
}

/// `x like pattern`: `%` stands for any text, `_` for one character.
pub(crate) fn like(mut args: Arguments) -> Result<Bound, Complaint> {
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Text)?;
    let fixed = match args.values.get(1).and_then(Bound::as_literal) {
        Some(Scalar::Text(pattern)) => Some(Like::new(pattern)),
        _ => None,
    };
    Ok(args.call(Type::Bool, move |args, rows, _| {
        let (x, pattern) = (arg(args, 0), arg(args, 1));
        let (x, pattern) = (x.texts(), pattern.texts());
        Ok(bools_by_row(rows, |row| {
            let x = x.get(row)?;
            Some(match &fixed {
                Some(like) => like.is_match(x),
                None => Like::new(pattern.get(row)?).is_match(x),
            })
        }))
    }))
}

/// A `like` pattern, in the cheapest form that fits it.
enum Like {
    Whole(String),
    Start(String),
    End(String),
    Inside(String),
    General(Regex),
    Never,
}

impl Like {
    fn new(pattern: &str) -> Like {
        let inner = pattern.trim_matches('%');
        if !inner.contains(['%', '_']) {
            let inner = inner.to_owned();
            return match (pattern.starts_with('%'), pattern.ends_with('%')) {
                (false, false) => Like::Whole(inner),
                (false, true) => Like::Start(inner),
                (true, false) => Like::End(inner),
                (true, true) => Like::Inside(inner),
            };
        }
        let mut regex = String::from("(?s)^");
        for c in pattern.chars() {
            match c {
                '%' => regex.push_str(".*"),
                '_' => regex.push('.'),
                c => regex.push_str(&regex::escape(c.encode_utf8(&mut [0; 4]))),
            }
        }
        regex.push('$');
        Regex::new(&regex).map_or(Like::Never, Like::General)
    }

    fn is_match(&self, x: &str) -> bool {
        match self {
            Like::Whole(text) => x == text,
            Like::Start(text) => x.starts_with(text.as_str()),
            Like::End(text) => x.ends_with(text.as_str()),
            Like::Inside(text) => x.contains(text.as_str()),
            Like::General(regex) => regex.is_match(x),
            Like::Never => false,
        }
    }
}
