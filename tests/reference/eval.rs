//! Expressions of the reference interpreter: evaluated one row at a time, printed as text of the language.

use std::fmt;

use super::value::{Data, Ty, V, civil, days, month_days};

#[derive(Clone, Debug)]
pub enum E {
    Col(String),
    Lit(V),
    Op(&'static str, Box<E>, Box<E>),
    Not(Box<E>),
    IsNull(Box<E>, bool),
    In(Box<E>, Vec<E>, bool),
    Between(Box<E>, Box<E>, Box<E>),
    Distinct(Box<E>, Box<E>),
    Case(Vec<(E, E)>, Option<Box<E>>),
    CaseOf(Box<E>, Vec<(E, E)>, Option<Box<E>>),
    /// `x like pattern`, behind an escape character or none.
    Like(Box<E>, &'static str, Option<char>),
    Call(&'static str, Vec<E>),
    /// A function with a unit of time before its arguments.
    Unit(&'static str, &'static str, Vec<E>),
    /// `try_cast(x as type)`, or `cast` where nothing can fail.
    Cast(Box<E>, Ty, &'static str),
    /// A date and a number of days or months.
    Shift(Box<E>, i64, &'static str),
    /// A date and one of two intervals, by a condition.
    ShiftIf(Box<E>, Box<E>, [(i64, &'static str); 2]),
    /// A date and an interval so many times.
    ShiftBy(Box<E>, Box<E>, &'static str),
}

impl fmt::Display for E {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list = |items: &[E]| items.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        match self {
            E::Col(name) => f.write_str(name),
            E::Lit(v) => f.write_str(&v.literal()),
            E::Op(op, a, b) => write!(f, "({a} {op} {b})"),
            E::Not(x) => write!(f, "(not {x})"),
            E::IsNull(x, negated) => write!(f, "({x} is {}null)", if *negated { "not " } else { "" }),
            E::In(x, items, negated) => {
                write!(f, "({x} {}in ({}))", if *negated { "not " } else { "" }, list(items))
            }
            E::Between(x, a, b) => write!(f, "({x} between {a} and {b})"),
            E::Distinct(a, b) => write!(f, "({a} is distinct from {b})"),
            E::Like(x, pattern, escape) => {
                write!(f, "({x} like {}", V::Text((*pattern).into()).literal())?;
                escape.map_or(Ok(()), |c| write!(f, " escape '{c}'"))?;
                f.write_str(")")
            }
            E::CaseOf(x, arms, last) => {
                write!(f, "case {x}")?;
                arms.iter().try_for_each(|(v, value)| write!(f, " when {v} then {value}"))?;
                if let Some(last) = last {
                    write!(f, " else {last}")?;
                }
                f.write_str(" end")
            }
            E::Case(arms, last) => {
                f.write_str("case")?;
                arms.iter().try_for_each(|(c, v)| write!(f, " when {c} then {v}"))?;
                if let Some(last) = last {
                    write!(f, " else {last}")?;
                }
                f.write_str(" end")
            }
            E::Call(name, args) => write!(f, "{name}({})", list(args)),
            E::Cast(x, to, how) => write!(f, "{how}({x} as {})", to.name()),
            E::Shift(x, n, unit) => write!(f, "({x} + interval '{n}' {unit})"),
            E::ShiftIf(x, condition, [(n, unit), (m, other)]) => write!(
                f,
                "({x} + case when {condition} then interval '{n}' {unit} else interval '{m}' {other} end)"
            ),
            E::ShiftBy(x, n, unit) => write!(f, "({x} + {n} * interval '1' {unit})"),
            E::Unit(name, unit, args) => write!(f, "{name}({unit}, {})", list(args)),
        }
    }
}

fn truth(v: &V) -> Option<bool> {
    if let V::Bool(b) = v { Some(*b) } else { None }
}

fn boolean(v: Option<bool>) -> V {
    v.map_or(V::Null, V::Bool)
}

/// A date so many days or months on; null past the year 9999 and before the year 1.
pub fn shifted(x: &V, n: i64, unit: &str) -> V {
    let V::Date(d) = *x else { return V::Null };
    let (first, last) = (days(1, 1, 1), days(9999, 12, 31));
    let moved = if unit == "day" {
        i64::from(d).checked_add(n)
    } else {
        let (year, month, day) = civil(d);
        i64::from(year * 12 + month - 1).checked_add(n).and_then(|index| {
            let (year, month) = (i32::try_from(index.div_euclid(12)).ok()?, index.rem_euclid(12) as i32 + 1);
            (1..=9999).contains(&year).then(|| i64::from(days(year, month, day.min(month_days(year, month)))))
        })
    };
    match moved.filter(|day| (i64::from(first)..=i64::from(last)).contains(day)) {
        Some(day) => V::Date(day as i32),
        None => V::Null,
    }
}

pub fn eval(e: &E, data: &Data, row: &[V]) -> V {
    let ev = |e: &E| eval(e, data, row);
    match e {
        E::Col(name) => row[data.place(name)].clone(),
        E::Lit(v) => v.clone(),
        E::Not(x) => boolean(truth(&ev(x)).map(|b| !b)),
        E::IsNull(x, negated) => V::Bool(ev(x).is_null() != *negated),
        E::In(x, items, negated) => {
            let x = ev(x);
            let mut found = Some(false);
            for item in items {
                found = match (found, compare("=", &x, &ev(item))) {
                    (Some(true), _) | (_, Some(true)) => Some(true),
                    (None, _) | (_, None) => None,
                    _ => Some(false),
                };
            }
            boolean(found.map(|b| b != *negated))
        }
        E::Between(x, a, b) => {
            let x = ev(x);
            boolean(and(compare(">=", &x, &ev(a)), compare("<=", &x, &ev(b))))
        }
        E::Distinct(a, b) => {
            let (a, b) = (ev(a), ev(b));
            V::Bool(if a.is_null() || b.is_null() {
                a.is_null() != b.is_null()
            } else {
                !a.order(&b).is_eq()
            })
        }
        E::Case(arms, last) => {
            for (condition, value) in arms {
                if truth(&ev(condition)) == Some(true) {
                    return ev(value);
                }
            }
            last.as_ref().map_or(V::Null, |x| ev(x))
        }
        E::CaseOf(x, arms, last) => {
            let x = ev(x);
            let found = arms.iter().find(|(v, _)| compare("=", &x, &ev(v)) == Some(true));
            found.map(|(_, value)| value).or(last.as_deref()).map_or(V::Null, ev)
        }
        E::Like(x, pattern, escape) => match ev(x) {
            V::Text(x) => {
                let chars = |text: &str| text.chars().collect::<Vec<_>>();
                V::Bool(like(&chars(&x), &chars(pattern), *escape))
            }
            _ => V::Null,
        },
        E::Op(op, a, b) => operate(op, &ev(a), &ev(b)),
        E::Call(name, args) => call(name, &args.iter().map(ev).collect::<Vec<_>>()),
        E::Cast(x, to, _) => cast(&ev(x), *to),
        E::Shift(x, n, unit) => shifted(&ev(x), *n, unit),
        E::ShiftIf(x, condition, by) => {
            let (n, unit) = by[usize::from(truth(&ev(condition)) != Some(true))];
            shifted(&ev(x), n, unit)
        }
        E::ShiftBy(x, n, unit) => match ev(n) {
            V::Int(n) => shifted(&ev(x), n, unit),
            _ => V::Null,
        },
        E::Unit(name, unit, args) => match (*name, args.iter().map(ev).collect::<Vec<_>>().as_slice()) {
            ("start_of", [V::Date(d)]) => V::Date(first_day(unit, *d)),
            ("end_of", [V::Date(d)]) => {
                // The day before the next one that begins such a unit.
                let next = (d + 1..).find(|next| first_day(unit, *next) == *next);
                next.map_or(V::Null, |next| V::Date(next - 1))
            }
            ("date_diff", [V::Date(a), V::Date(b)]) => {
                V::Int(if a <= b { units_between(unit, *a, *b) } else { -units_between(unit, *b, *a) })
            }
            _ => V::Null,
        },
    }
}

/// The first day of the year, the month or the week of a day.
fn first_day(unit: &str, d: i32) -> i32 {
    let (year, month, _) = civil(d);
    match unit {
        "year" => days(year, 1, 1),
        "month" => days(year, month, 1),
        // 1970-01-05 was a Monday.
        _ => d - (d - 4).rem_euclid(7),
    }
}

/// Whole units from one day to a later one, counted one by one.
fn units_between(unit: &str, from: i32, to: i32) -> i64 {
    let after = |n: i32| {
        let (year, month, day) = civil(from);
        let index = year * 12 + month - 1 + n * if unit == "year" { 12 } else { 1 };
        let (year, month) = (index.div_euclid(12), index.rem_euclid(12) + 1);
        if unit == "week" { from + 7 * n } else { days(year, month, day.min(month_days(year, month))) }
    };
    // No unit is longer than this many days.
    let least = (to - from)
        / if unit == "year" {
            366
        } else if unit == "month" {
            31
        } else {
            7
        };
    i64::from(least) + (least + 1..).take_while(|n| after(*n) <= to).count() as i64
}

/// Whether a text is what a pattern says, character by character.
fn like(text: &[char], pattern: &[char], escape: Option<char>) -> bool {
    match pattern {
        [] => text.is_empty(),
        [c, next, rest @ ..] if Some(*c) == escape => {
            text.first() == Some(next) && like(&text[1..], rest, escape)
        }
        ['%', rest @ ..] => (0..=text.len()).any(|from| like(&text[from..], rest, escape)),
        [c, rest @ ..] => text.first().is_some_and(|t| *c == '_' || t == c) && like(&text[1..], rest, escape),
    }
}

fn and(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    match (a, b) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

fn compare(op: &str, a: &V, b: &V) -> Option<bool> {
    if a.is_null() || b.is_null() {
        return None;
    }
    let order = a.order(b);
    Some(match op {
        "=" => order.is_eq(),
        "<>" => order.is_ne(),
        "<" => order.is_lt(),
        "<=" => order.is_le(),
        ">" => order.is_gt(),
        _ => order.is_ge(),
    })
}

fn operate(op: &str, a: &V, b: &V) -> V {
    match op {
        "and" => boolean(and(truth(a), truth(b))),
        "or" => boolean(and(truth(a).map(|b| !b), truth(b).map(|b| !b)).map(|b| !b)),
        "=" | "<>" | "<" | "<=" | ">" | ">=" => boolean(compare(op, a, b)),
        _ if a.is_null() || b.is_null() => V::Null,
        "||" => match (a, b) {
            (V::Text(a), V::Text(b)) => V::Text(format!("{a}{b}")),
            _ => panic!("|| of no texts"),
        },
        "/" if b.number() == 0.0 => V::Null,
        "/" => V::Float(a.number() / b.number()),
        _ => match (a, b) {
            (V::Date(a), V::Date(b)) => V::Int(i64::from(*a) - i64::from(*b)),
            (V::Int(a), V::Int(b)) => match op {
                "+" => V::Int(a + b),
                "-" => V::Int(a - b),
                "*" => V::Int(a * b),
                _ if *b == 0 => V::Null,
                "div" => V::Int((a - (a % b + b) % b) / b),
                _ => V::Int((a % b + b) % b),
            },
            (a, b) => match op {
                "+" => V::Float(a.number() + b.number()),
                "-" => V::Float(a.number() - b.number()),
                _ => V::Float(a.number() * b.number()),
            },
        },
    }
}

fn call(name: &str, args: &[V]) -> V {
    match name {
        "coalesce" => return args.iter().find(|a| !a.is_null()).cloned().unwrap_or(V::Null),
        "if" => return if truth(&args[0]) == Some(true) { args[1].clone() } else { args[2].clone() },
        "present" => return V::Bool(args.iter().all(|a| !a.is_null())),
        "row_count" => return V::Int(args.iter().filter(|a| !a.is_null()).count() as i64),
        "row_sum" | "row_mean" => {
            let given: Vec<&V> = args.iter().filter(|a| !a.is_null()).collect();
            return match given.as_slice() {
                [] => V::Null,
                [V::Int(_), ..] if name == "row_sum" => {
                    V::Int(given.iter().map(|v| if let V::Int(v) = v { *v } else { 0 }).sum())
                }
                given => {
                    let sum: f64 = given.iter().map(|v| v.number()).sum();
                    V::Float(if name == "row_sum" { sum } else { sum / given.len() as f64 })
                }
            };
        }
        "nullif" => {
            return if compare("=", &args[0], &args[1]) == Some(true) { V::Null } else { args[0].clone() };
        }
        _ => {}
    }
    if args.iter().any(V::is_null) {
        return V::Null;
    }
    match (name, args) {
        ("abs", [V::Int(v)]) => V::Int(v.abs()),
        ("abs", [V::Float(v)]) => V::Float(v.abs()),
        ("sign", [V::Int(v)]) => V::Int(v.signum()),
        ("sqrt", [V::Float(v)]) if *v < 0.0 => V::Null,
        ("sqrt", [V::Float(v)]) => V::Float(v.sqrt()),
        ("floor", [V::Float(v)]) => V::Float(v.floor()),
        ("ceil", [V::Float(v)]) => V::Float(v.ceil()),
        ("least", [a, b]) => {
            if b.order(a).is_lt() {
                b.clone()
            } else {
                a.clone()
            }
        }
        ("greatest", [a, b]) => {
            if b.order(a).is_gt() {
                b.clone()
            } else {
                a.clone()
            }
        }
        ("band", [V::Int(x), V::Int(w)]) => V::Int(x - x.rem_euclid(*w)),
        ("lower", [V::Text(t)]) => V::Text(t.to_lowercase()),
        ("upper", [V::Text(t)]) => V::Text(t.to_uppercase()),
        ("trim", [V::Text(t)]) => V::Text(t.trim().into()),
        ("trim_left", [V::Text(t), V::Text(chars)]) => {
            V::Text(t.chars().skip_while(|c| chars.contains(*c)).collect())
        }
        ("trim_right", [V::Text(t), V::Text(chars)]) => {
            let kept = t.chars().rev().skip_while(|c| chars.contains(*c)).collect::<Vec<_>>();
            V::Text(kept.into_iter().rev().collect())
        }
        ("reverse", [V::Text(t)]) => V::Text(t.chars().rev().collect()),
        ("title", [V::Text(t)]) => {
            let mut made = String::new();
            for c in t.chars() {
                let within = made.chars().next_back().is_some_and(|last| {
                    last.is_alphanumeric()
                        || last == '\'' && made.chars().rev().nth(1).is_some_and(char::is_alphanumeric)
                });
                if within { made.extend(c.to_lowercase()) } else { made.extend(c.to_uppercase()) }
            }
            V::Text(made)
        }
        ("repeat_text", [V::Text(t), V::Int(n)]) => V::Text(t.repeat((*n).max(0) as usize)),
        ("position", [V::Text(t), V::Text(a)]) => {
            let chars: Vec<char> = t.chars().collect();
            let found = (0..=chars.len())
                .find(|from| chars[*from..].iter().collect::<String>().starts_with(a.as_str()));
            V::Int(found.map_or(0, |at| at as i64 + 1))
        }
        // Of the pattern [ae] alone.
        ("replace_matches", [V::Text(t), V::Text(_), V::Text(_)]) => {
            let one = |c: char| if "ae".contains(c) { format!("<{c}>") } else { c.to_string() };
            V::Text(t.chars().map(one).collect())
        }
        ("element", [V::List(list), V::Int(n)]) => {
            let at = if *n < 0 { list.len() as i64 + n } else { n - 1 };
            usize::try_from(at).ok().and_then(|at| list.get(at).cloned()).unwrap_or(V::Null)
        }
        ("make_date", [V::Int(y), V::Int(m), V::Int(d)]) => {
            let (y, m, d) = (*y as i32, *m as i32, *d as i32);
            let is_day = (1..=12).contains(&m) && (1..=month_days(y, m)).contains(&d);
            if is_day { V::Date(days(y, m, d)) } else { V::Null }
        }
        ("epoch", [V::Date(d), V::Text(_)]) => V::Int(i64::from(*d)),
        ("parts", [V::Text(t), V::Text(at)]) => {
            V::List(t.split(at.as_str()).map(|p| V::Text(p.into())).collect())
        }
        ("length", [V::Text(t)]) => V::Int(t.chars().count() as i64),
        ("substring", [V::Text(t), V::Int(from), V::Int(n)]) => {
            let chars = t.chars().enumerate().filter(|(i, _)| {
                let place = *i as i64 + 1;
                place >= *from && place < from + n
            });
            V::Text(chars.map(|(_, c)| c).collect())
        }
        ("replace", [V::Text(t), V::Text(a), V::Text(b)]) => V::Text(t.replace(a.as_str(), b)),
        ("starts_with", [V::Text(t), V::Text(a)]) => V::Bool(t.starts_with(a.as_str())),
        ("contains", [V::Text(t), V::Text(a)]) => V::Bool(t.contains(a.as_str())),
        ("pad_left", [V::Text(t), V::Int(n), V::Text(fill)]) => {
            let missing = (*n - t.chars().count() as i64).max(0) as usize;
            V::Text(fill.repeat(missing) + t)
        }
        ("pad_right", [V::Text(t), V::Int(n), V::Text(fill)]) => {
            let missing = (*n - t.chars().count() as i64).max(0) as usize;
            V::Text(t.clone() + &fill.repeat(missing))
        }
        ("year", [V::Date(d)]) => V::Int(civil(*d).0.into()),
        ("month", [V::Date(d)]) => V::Int(civil(*d).1.into()),
        ("day", [V::Date(d)]) => V::Int(civil(*d).2.into()),
        ("quarter", [V::Date(d)]) => V::Int(i64::from((civil(*d).1 - 1) / 3 + 1)),
        ("weekday", [V::Date(d)]) => V::Int(i64::from((d - 4).rem_euclid(7) + 1)),
        other => panic!("{other:?} is not known here"),
    }
}

fn cast(v: &V, to: Ty) -> V {
    match (v, to) {
        (V::Null, _) => V::Null,
        (V::Int(v), Ty::Float) => V::Float(*v as f64),
        (V::Int(v), Ty::Text) => V::Text(v.to_string()),
        (V::Bool(v), Ty::Int) => V::Int((*v).into()),
        (V::Float(v), Ty::Int) if v.is_finite() && v.abs() < 1e15 => V::Int(v.trunc() as i64),
        (V::Float(_), Ty::Int) => V::Null,
        (V::Text(t), Ty::Int) => t.trim().parse().map_or(V::Null, V::Int),
        (V::Date(d), Ty::Text) => V::Text(super::value::date(*d)),
        other => panic!("{other:?} is not cast here"),
    }
}
