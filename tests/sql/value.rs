//! Values, and what the standard says of them: nulls, comparisons, arithmetic.

use std::cmp::Ordering;

use churn::Scalar;
use jiff::civil::Date;

/// A value of the evaluator.
#[derive(Clone, Debug, PartialEq)]
pub enum V {
    Null,
    Bool(bool),
    Int(i64),
    Float(f64),
    Text(String),
    Date(Date),
    /// Months and days.
    Interval(i64, i64),
}

impl V {
    pub fn of(scalar: Scalar) -> V {
        match scalar {
            Scalar::Null => V::Null,
            Scalar::Bool(v) => V::Bool(v),
            Scalar::Int(v) => V::Int(v),
            Scalar::Float(v) => V::Float(v),
            Scalar::Text(v) => V::Text(v),
            Scalar::Date(days) => {
                V::Date(Date::constant(1970, 1, 1).saturating_add(jiff::Span::new().days(days)))
            }
            other => panic!("{other:?} has no place in these tests"),
        }
    }

    pub fn is_null(&self) -> bool {
        *self == V::Null
    }

    pub fn number(&self) -> f64 {
        match self {
            V::Int(v) => *v as f64,
            V::Float(v) => *v,
            other => panic!("{other:?} is no number"),
        }
    }

    pub fn int(&self) -> i64 {
        match self {
            V::Int(v) => *v,
            V::Float(v) => *v as i64,
            other => panic!("{other:?} is no whole number"),
        }
    }

    pub fn text(&self) -> String {
        match self {
            V::Text(v) => v.clone(),
            other => panic!("{other:?} is no text"),
        }
    }

    pub fn date(&self) -> Date {
        match self {
            V::Date(v) => *v,
            V::Text(v) => v.parse().expect("a date"),
            other => panic!("{other:?} is no date"),
        }
    }

    /// As a condition: `None` is unknown.
    pub fn truth(&self) -> Option<bool> {
        match self {
            V::Null => None,
            V::Bool(v) => Some(*v),
            other => panic!("{other:?} is no condition"),
        }
    }

    pub fn from_truth(truth: Option<bool>) -> V {
        truth.map_or(V::Null, V::Bool)
    }

    /// The order of two values that are not null.
    pub fn order(&self, other: &V) -> Ordering {
        match (self, other) {
            (V::Int(a), V::Int(b)) => a.cmp(b),
            (V::Int(_) | V::Float(_), V::Int(_) | V::Float(_)) => {
                self.number().partial_cmp(&other.number()).expect("numbers that compare")
            }
            (V::Text(a), V::Text(b)) => a.cmp(b),
            (V::Bool(a), V::Bool(b)) => a.cmp(b),
            (V::Date(_), V::Date(_) | V::Text(_)) | (V::Text(_), V::Date(_)) => {
                self.date().cmp(&other.date())
            }
            (a, b) => panic!("{a:?} and {b:?} do not compare"),
        }
    }

    /// The order of two values, nulls last unless told otherwise.
    pub fn sorted(&self, other: &V, descending: bool, nulls_first: bool) -> Ordering {
        match (self.is_null(), other.is_null()) {
            (true, true) => Ordering::Equal,
            (true, false) => {
                if nulls_first {
                    Ordering::Less
                } else {
                    Ordering::Greater
                }
            }
            (false, true) => {
                if nulls_first {
                    Ordering::Greater
                } else {
                    Ordering::Less
                }
            }
            (false, false) if descending => other.order(self),
            (false, false) => self.order(other),
        }
    }

    /// Equality as groups, `distinct` and sets have it: null is equal to null.
    pub fn is_same(&self, other: &V) -> bool {
        match (self.is_null(), other.is_null()) {
            (true, true) => true,
            (false, false) => self.order(other) == Ordering::Equal,
            _ => false,
        }
    }

    /// Equality as answers are compared: floats by so many digits.
    pub fn is_close(&self, other: &V) -> bool {
        match (self, other) {
            (V::Float(a), V::Float(b)) => a == b || (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1e-3),
            (a, b) => a == b,
        }
    }
}

pub fn and(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    match (a, b) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

pub fn or(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    and(a.map(|x| !x), b.map(|x| !x)).map(|x| !x)
}

/// `a op b` of numbers, dates and intervals.
pub fn arithmetic(op: char, a: &V, b: &V) -> V {
    let moved = |date: &Date, months: i64, days: i64, sign: i64| {
        let date = date.checked_add(jiff::Span::new().months(sign * months)).expect("a date");
        V::Date(date.checked_add(jiff::Span::new().days(sign * days)).expect("a date"))
    };
    match (op, a, b) {
        (_, V::Null, _) | (_, _, V::Null) => V::Null,
        ('+', V::Date(date), V::Interval(months, days)) => moved(date, *months, *days, 1),
        ('+', V::Interval(months, days), V::Date(date)) => moved(date, *months, *days, 1),
        ('-', V::Date(date), V::Interval(months, days)) => moved(date, *months, *days, -1),
        ('-', V::Date(a), V::Date(b)) => V::Int(i64::from(a.since(*b).expect("a span").get_days())),
        ('*', V::Int(n), V::Interval(months, days)) | ('*', V::Interval(months, days), V::Int(n)) => {
            V::Interval(n * months, n * days)
        }
        ('/', a, b) if b.number() == 0.0 => {
            let _ = a;
            V::Null
        }
        ('/', a, b) => V::Float(a.number() / b.number()),
        ('+', V::Int(a), V::Int(b)) => V::Int(a + b),
        ('-', V::Int(a), V::Int(b)) => V::Int(a - b),
        ('*', V::Int(a), V::Int(b)) => V::Int(a * b),
        ('+', a, b) => V::Float(a.number() + b.number()),
        ('-', a, b) => V::Float(a.number() - b.number()),
        ('*', a, b) => V::Float(a.number() * b.number()),
        (op, a, b) => panic!("{a:?} {op} {b:?}"),
    }
}

/// `text like pattern`.
pub fn like(text: &[char], pattern: &[char], escape: Option<char>) -> bool {
    match pattern.split_first() {
        None => text.is_empty(),
        Some((c, rest)) if Some(*c) == escape => match (rest.split_first(), text.split_first()) {
            (Some((wanted, rest)), Some((c, text))) => c == wanted && like(text, rest, escape),
            _ => false,
        },
        Some(('%', rest)) => (0..=text.len()).any(|skip| like(&text[skip..], rest, escape)),
        Some(('_', rest)) => text.split_first().is_some_and(|(_, text)| like(text, rest, escape)),
        Some((wanted, rest)) => {
            text.split_first().is_some_and(|(c, text)| c == wanted && like(text, rest, escape))
        }
    }
}
