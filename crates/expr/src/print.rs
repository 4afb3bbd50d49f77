//! Expressions back into text, in their canonical form.

use std::fmt::{self, Display, Formatter, Write as _};

use churn_core::Scalar;
use churn_core::names::{comma, name};

use crate::ast::{ColumnRef, ColumnSet, Edge, Expr, Frame, Keys, Kind, Sense, SetOf};

const PREDICATE: u8 = 4;
const UNARY: u8 = 7;
const POSTFIX: u8 = 8;
const PRIMARY: u8 = 9;

fn tightness(expr: &Expr) -> u8 {
    match &expr.kind {
        Kind::Binary(op, ..) => op.tightness(),
        Kind::Not(_) => 3,
        Kind::Between(..)
        | Kind::In(..)
        | Kind::InTable(..)
        | Kind::Like(..)
        | Kind::IsNull(..)
        | Kind::IsDistinct(..) => PREDICATE,
        Kind::Negate(_) => UNARY,
        Kind::Literal(Scalar::Int(v)) if *v < 0 => UNARY,
        Kind::Literal(Scalar::Float(v)) if *v < 0.0 => UNARY,
        Kind::Where(..) | Kind::Per(..) | Kind::Over(..) => POSTFIX,
        Kind::Let(_, _, body) => tightness(body),
        _ => PRIMARY,
    }
}

/// A part of an expression, in parentheses if it binds less tightly than `0.1`.
struct Operand<'a>(&'a Expr, u8);

impl Display for Operand<'_> {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        if tightness(self.0) < self.1 { write!(f, "({})", self.0) } else { self.0.fmt(f) }
    }
}

fn not(sense: &Sense) -> &'static str {
    if *sense == Sense::Not { "not " } else { "" }
}

impl Display for Expr {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let operand = PREDICATE + 1;
        match &self.kind {
            Kind::Literal(Scalar::List(values, _)) => write!(f, "({})", comma(values)),
            Kind::Literal(value) => value.fmt(f),
            Kind::Name(column) => f.write_str(&name(column)),
            Kind::Parameter(parameter) => write!(f, "${parameter}"),
            Kind::TableValue(table, column) => write!(f, "${table}.{}", name(column)),
            Kind::Negate(x) => match &x.kind {
                // A number with its sign is one literal.
                Kind::Literal(Scalar::Int(_) | Scalar::Float(_)) => write!(f, "-({x})"),
                _ if tightness(x) == UNARY => write!(f, "-({x})"),
                _ => write!(f, "-{}", Operand(x, UNARY)),
            },
            Kind::Not(x) => write!(f, "not {}", Operand(x, 3)),
            Kind::Binary(op, a, b) => {
                let own = op.tightness();
                let left = if own == PREDICATE { operand } else { own };
                write!(f, "{} {} {}", Operand(a, left), op.symbol(), Operand(b, own + 1))
            }
            Kind::Between(x, low, high, sense) => {
                let (x, low, high) = (Operand(x, operand), Operand(low, operand), Operand(high, operand));
                write!(f, "{x} {}between {low} and {high}", not(sense))
            }
            Kind::In(x, list, sense) => {
                write!(f, "{} {}in ({})", Operand(x, operand), not(sense), comma(list))
            }
            Kind::InTable(x, table, sense) => {
                write!(f, "{} {}in {}", Operand(x, operand), not(sense), name(table))
            }
            Kind::Like(x, pattern, escape, sense) => {
                write!(f, "{} {}like {}", Operand(x, operand), not(sense), Operand(pattern, operand))?;
                match escape {
                    Some(c) => write!(f, " escape {}", Scalar::Text(c.to_string())),
                    None => Ok(()),
                }
            }
            Kind::IsNull(x, sense) => write!(f, "{} is {}null", Operand(x, operand), not(sense)),
            Kind::IsDistinct(a, b, sense) => {
                write!(f, "{} is {}distinct from {}", Operand(a, operand), not(sense), Operand(b, operand))
            }
            Kind::Case(arms, otherwise) => write_case(f, None, arms, otherwise.as_deref()),
            Kind::CaseOf(x, arms, otherwise) => write_case(f, Some(x), arms, otherwise.as_deref()),
            Kind::Call(function, args) => write!(f, "{function}({})", comma(args)),
            Kind::Cast(cast) => {
                let function = if cast.lenient { "try_cast" } else { "cast" };
                write!(f, "{function}({} as {}", cast.from, cast.to)?;
                if let Some(format) = &cast.format {
                    write!(f, " format {}", Scalar::Text(format.clone()))?;
                }
                f.write_char(')')
            }
            Kind::Where(aggregate, condition) => {
                write!(f, "{} where ({condition})", Operand(aggregate, POSTFIX))
            }
            Kind::Per(aggregate, keys) => write!(f, "{} per {keys}", Operand(aggregate, POSTFIX)),
            Kind::Over(call, frame) => write!(f, "{} over {frame}", Operand(call, POSTFIX)),
            Kind::Each(set) => set.fmt(f),
            Kind::Let(_, _, body) => body.fmt(f),
            Kind::Local(local) => f.write_str(&local.text),
        }
    }
}

fn write_case(
    f: &mut Formatter<'_>,
    of: Option<&Expr>,
    arms: &[(Expr, Expr)],
    otherwise: Option<&Expr>,
) -> fmt::Result {
    f.write_str("case")?;
    if let Some(x) = of {
        write!(f, " {x}")?;
    }
    for (test, value) in arms {
        write!(f, " when {test} then {value}")?;
    }
    if let Some(value) = otherwise {
        write!(f, " else {value}")?;
    }
    f.write_str(" end")
}

impl Expr {
    /// Its text, in parentheses unless it can stand beside any operator.
    pub(crate) fn operand(&self) -> String {
        Operand(self, PRIMARY).to_string()
    }
}

impl Display for Frame {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let plural =
            |count: &Expr| if matches!(count.kind, Kind::Literal(Scalar::Int(1))) { "" } else { "s" };
        match self {
            Frame::Last(count, unit) => write!(f, "last {count} {}{}", unit.word(), plural(count)),
            Frame::Next(count, unit) => write!(f, "next {count} {}{}", unit.word(), plural(count)),
            Frame::SoFar => f.write_str("rows so far"),
            Frame::FromHere => f.write_str("rows from here"),
            Frame::Between { rows, from, to } => {
                write!(f, "{} between {from} and {to}", if *rows { "rows" } else { "range" })
            }
        }
    }
}

impl Display for Edge {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Edge::First => f.write_str("unbounded preceding"),
            Edge::Before(by) => write!(f, "{by} preceding"),
            Edge::Here => f.write_str("current row"),
            Edge::After(by) => write!(f, "{by} following"),
            Edge::Last => f.write_str("unbounded following"),
        }
    }
}

impl Display for Keys {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Keys::Table => f.write_str("table"),
            Keys::Columns(columns) => match columns.as_slice() {
                [ColumnRef::Name(one, _)] if one != "table" => f.write_str(&name(one)),
                many => write!(f, "({})", comma(many)),
            },
        }
    }
}

impl Display for ColumnRef {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            ColumnRef::Name(column, _) => f.write_str(&name(column)),
            ColumnRef::Set(set) => set.fmt(f),
        }
    }
}

impl Display for ColumnSet {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("each")?;
        match &self.of {
            SetOf::All => {}
            SetOf::Number => f.write_str(" number")?,
            SetOf::Text => f.write_str(" text")?,
            SetOf::Date => f.write_str(" date")?,
            SetOf::Bool => f.write_str(" bool")?,
            SetOf::Like(pattern) => write!(f, " {}", Scalar::Text(pattern.clone()))?,
            SetOf::Matching(pattern) => write!(f, " matching {}", Scalar::Text(pattern.clone()))?,
            SetOf::Positions(from, to) => write!(f, " {from} to {to}")?,
            SetOf::Names(names) => write!(f, " ({})", comma(names.iter().map(|n| name(n))))?,
        }
        match self.except.as_slice() {
            [] => Ok(()),
            [(one, _)] => write!(f, " except {}", name(one)),
            many => write!(f, " except ({})", comma(many.iter().map(|(n, _)| name(n)))),
        }
    }
}
