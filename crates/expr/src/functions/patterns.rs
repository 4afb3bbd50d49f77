//! Regular expressions over text, and `like`.

use std::sync::Arc;

use arrow_array::{Array, BooleanArray};
use churn_core::{Column, Result, Scalar, Texts, Type};
use churn_kernels::text_search::TextSearch;
use regex::Regex;
use regex_syntax::hir::{Hir, HirKind};

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
    Function {
        name: "replace_matches",
        usage: "replace_matches(x, 're', to)",
        family: Family::Text,
        summary: "x with each match of the regular expression replaced by to, in which $1 or ${1} is what group 1 \
                  holds, $0 the whole match and $$ a dollar sign.",
        example: ("replace_matches('2026-03', '([0-9]+)-([0-9]+)', '$2/$1')", "03/2026"),
        bind: replace_matches,
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
    let search = required(regex.as_str()).map(|literal| TextSearch::new(&literal));
    Ok(args.call(Type::Bool, move |args, rows, _| {
        Ok(tested(arg(args, 0).texts(), rows, search.as_ref(), |x| regex.is_match(x)))
    }))
}

/// Which texts pass a test that only those with the text of a search can pass.
fn tested(texts: Texts<'_>, rows: usize, search: Option<&TextSearch>, test: impl Fn(&str) -> bool) -> Column {
    let (Texts::Column(column), Some(search)) = (texts, search) else {
        return bools_by_row(rows, |row| texts.get(row).map(&test));
    };
    let found = search.rows(column);
    let passes = |row: usize| found.value(row) && column.is_valid(row) && test(column.value(row));
    let passes = (0..column.len()).map(passes).collect();
    Column::Array(Arc::new(BooleanArray::new(passes, column.nulls().cloned())))
}

/// Which texts of a column have the text of a search.
pub(super) fn having(texts: Texts<'_>, rows: usize, search: &TextSearch) -> Column {
    match texts {
        Texts::Column(column) => {
            Column::Array(Arc::new(BooleanArray::new(search.rows(column), column.nulls().cloned())))
        }
        Texts::Constant(_) => bools_by_row(rows, |row| texts.get(row).map(|x| search.is_in(x))),
    }
}

/// The longest text that every match of a regular expression has, if there is one.
fn required(regex: &str) -> Option<String> {
    fn of(hir: &Hir) -> Option<&[u8]> {
        match hir.kind() {
            HirKind::Literal(literal) => Some(&literal.0),
            HirKind::Capture(capture) => of(&capture.sub),
            HirKind::Repetition(repeated) if repeated.min > 0 => of(&repeated.sub),
            HirKind::Concat(parts) => parts.iter().filter_map(of).max_by_key(|literal| literal.len()),
            _ => None,
        }
    }
    let hir = regex_syntax::parse(regex).ok()?;
    String::from_utf8(of(&hir)?.to_vec()).ok()
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

fn replace_matches(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(3..=3)?;
    args.want(0, &Type::Text)?;
    args.want(2, &Type::Text)?;
    let regex = regex(&args)?;
    Ok(args.call(Type::Text, move |args, rows, _| {
        let (x, to) = (arg(args, 0), arg(args, 2));
        let (x, to) = (x.texts(), to.texts());
        let mut made = String::new();
        texts_by_row(rows, |row, out| {
            let (x, to) = (x.get(row)?, to.get(row)?);
            let groups = to.matches('$').count();
            let mut rest = 0;
            for found in regex.captures_iter(x) {
                let Some(whole) = found.get(0) else { continue };
                out.push_str(x.get(rest..whole.start())?);
                // No group holds more than the whole match.
                if !out.room_for(whole.len().saturating_mul(groups).saturating_add(to.len())) {
                    break;
                }
                made.clear();
                found.expand(to, &mut made);
                out.push_str(&made);
                rest = whole.end();
            }
            out.push_str(x.get(rest..)?);
            Some(())
        })
    }))
}

/// `x like pattern escape 'c'`: `%` stands for any text, `_` for one character, and what follows `c` for itself.
pub(crate) fn like(mut args: Arguments, escape: Option<char>) -> Result<Bound, Complaint> {
    args.want(0, &Type::Text)?;
    args.want(1, &Type::Text)?;
    let fixed = match args.values.get(1).and_then(Bound::as_literal) {
        Some(Scalar::Text(pattern)) => match Like::new(pattern, escape) {
            Some(like) => Some(like),
            None => {
                let what = "The pattern ends with its escape character.";
                return Err(Complaint::new(1, what).next("Write it twice to mean itself."));
            }
        },
        _ => None,
    };
    Ok(args.call(Type::Bool, move |args, rows, _| {
        let (x, pattern) = (arg(args, 0), arg(args, 1));
        let (x, pattern) = (x.texts(), pattern.texts());
        Ok(match &fixed {
            Some(Like::Inside(search)) => having(x, rows, search),
            Some(like) => tested(x, rows, like.search(), |x| like.is_match(x)),
            None => bools_by_row(rows, |row| {
                let x = x.get(row)?;
                // A pattern that is none matches nothing.
                Some(Like::new(pattern.get(row)?, escape).is_some_and(|like| like.is_match(x)))
            }),
        })
    }))
}

/// A `like` pattern, in the cheapest form that fits it.
enum Like {
    Whole(String),
    Start(String),
    End(String),
    Inside(TextSearch),
    /// As a regular expression, and the longest text that stands in the pattern.
    General(Regex, Option<TextSearch>),
    Never,
}

/// A part of a pattern.
enum PatternPart {
    Any,
    One,
    Char(char),
}

impl Like {
    /// `None` if the pattern ends with its escape character.
    fn new(pattern: &str, escape: Option<char>) -> Option<Like> {
        let mut parts = Vec::new();
        let mut chars = pattern.chars();
        while let Some(c) = chars.next() {
            parts.push(match c {
                c if Some(c) == escape => PatternPart::Char(chars.next()?),
                '%' => PatternPart::Any,
                '_' => PatternPart::One,
                c => PatternPart::Char(c),
            });
        }
        let is_any = |part: &PatternPart| matches!(part, PatternPart::Any);
        let inner = parts.iter().skip_while(|part| is_any(part)).collect::<Vec<_>>();
        let length = inner.iter().rposition(|part| !is_any(part)).map_or(0, |last| last + 1);
        let char = |part: &&PatternPart| if let PatternPart::Char(c) = part { Some(*c) } else { None };
        if let Some(text) = inner.iter().take(length).map(char).collect::<Option<String>>() {
            return Some(match (parts.first().is_some_and(is_any), parts.last().is_some_and(is_any)) {
                (false, false) => Like::Whole(text),
                (false, true) => Like::Start(text),
                (true, false) => Like::End(text),
                (true, true) => Like::Inside(TextSearch::new(&text)),
            });
        }
        let mut regex = String::from("(?s)^");
        for part in &parts {
            match part {
                PatternPart::Any => regex.push_str(".*"),
                PatternPart::One => regex.push('.'),
                PatternPart::Char(c) => regex.push_str(&regex::escape(c.encode_utf8(&mut [0; 4]))),
            }
        }
        regex.push('$');
        let search = parts
            .split(|part| !matches!(part, PatternPart::Char(_)))
            .map(|run| run.iter().filter_map(|part| char(&part)).collect::<String>())
            .max_by_key(String::len)
            .filter(|text| !text.is_empty())
            .map(|text| TextSearch::new(&text));
        Some(Regex::new(&regex).map_or(Like::Never, |regex| Like::General(regex, search)))
    }

    /// What every text that matches has.
    fn search(&self) -> Option<&TextSearch> {
        match self {
            Like::Inside(search) | Like::General(_, Some(search)) => Some(search),
            _ => None,
        }
    }

    fn is_match(&self, x: &str) -> bool {
        match self {
            Like::Whole(text) => x == text,
            Like::Start(text) => x.starts_with(text.as_str()),
            Like::End(text) => x.ends_with(text.as_str()),
            Like::Inside(search) => search.is_in(x),
            Like::General(regex, _) => regex.is_match(x),
            Like::Never => false,
        }
    }
}
