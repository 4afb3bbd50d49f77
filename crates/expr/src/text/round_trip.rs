//! What is printed reads back: `parse(print(x)) == x` for every form of an expression.

use std::sync::Arc;

use crate::ast::{Binary, Cast, ColumnRef, ColumnSet, Edge, Expr, Frame, Keys, Kind, Sense, SetOf, Unit};
use churn_core::{Interval, Position, Scalar, SourceText, Span, Type};
use proptest::prelude::*;
use proptest::sample::select;

use super::cursor::Cursor;
use super::expression::expression;
use super::token::tokens;

fn made(kind: Kind) -> Expr {
    Expr::new(kind, Span::default())
}

fn boxed(expr: Expr) -> Box<Expr> {
    Box::new(expr)
}

/// Names that could be taken for something else.
fn some_name() -> impl Strategy<Value = String> {
    select(vec![
        "litres", "farm", "a b", "", "in", "and", "null", "true", "inf", "nan", "NaN", "1e5", "x\"y", "x\ny",
        "date", "each", "case", "end", "table", "per", "ä", "to", "rows", "Litres", "_", "a.b", "-", "$x",
        "interval", "not", "over",
    ])
    .prop_map(str::to_owned)
}

fn some_literal() -> impl Strategy<Value = Scalar> {
    prop_oneof![
        Just(Scalar::Null),
        any::<bool>().prop_map(Scalar::Bool),
        prop_oneof![Just(0), Just(i64::MAX), 0i64..1000].prop_map(Scalar::Int),
        select(vec![0.0, 0.1, 1e300, 5e-324, 1e16, 123_456_789.25, f64::MAX]).prop_map(Scalar::Float),
        select(vec!["", "it's", "a\nb", "\\n", "x\"", "é\u{301}", "--", "'"])
            .prop_map(|t| Scalar::Text(t.to_owned())),
        (-700_000i32..2_900_000).prop_map(Scalar::Date),
        (0..86_400_000_000i64).prop_map(Scalar::Time),
        (-2_000_000_000_000_000i64..4_000_000_000_000_000).prop_map(Scalar::Timestamp),
        // An interval is so many of one unit.
        (
            1i64..40,
            select(vec![(1, 0, 0), (12, 0, 0), (0, 1, 0), (0, 7, 0), (0, 0, 1), (0, 0, 60), (0, 0, 3600)])
        )
            .prop_map(|(n, (months, days, seconds))| {
                Scalar::Interval(Interval {
                    months: n * months,
                    days: n * days,
                    micros: n * seconds * 1_000_000,
                })
            }),
    ]
}

fn some_type() -> impl Strategy<Value = Type> {
    select(vec![
        Type::Int,
        Type::Float,
        Type::Bool,
        Type::Text,
        Type::Date,
        Type::Time,
        Type::Timestamp,
        Type::Decimal(12, 2),
        Type::List(Box::new(Type::Int)),
    ])
}

fn some_set() -> impl Strategy<Value = ColumnSet> {
    let of = prop_oneof![
        select(vec![SetOf::All, SetOf::Number, SetOf::Text, SetOf::Date, SetOf::Bool]),
        select(vec!["l*", "it's", "?"]).prop_map(|p| SetOf::Like(p.to_owned())),
        Just(SetOf::Matching("^l.*'$".to_owned())),
        (1usize..5, 0usize..5).prop_map(|(from, more)| SetOf::Positions(from, from + more)),
        prop::collection::vec(some_name(), 1..3).prop_map(SetOf::Names),
    ];
    (of, prop::collection::vec(some_name(), 0..3)).prop_map(|(of, except)| {
        let except = except.into_iter().map(|name| (name, Position::default())).collect();
        ColumnSet { of, except, span: Position::default() }
    })
}

fn some_keys() -> impl Strategy<Value = Keys> {
    let column = prop_oneof![
        3 => some_name().prop_map(|name| ColumnRef::Name(name, Position::default())),
        1 => some_set().prop_map(ColumnRef::Set),
    ];
    prop_oneof![Just(Keys::Table), prop::collection::vec(column, 1..3).prop_map(Keys::Columns)]
}

fn some_frame() -> impl Strategy<Value = Frame> {
    let count = || (1i64..4).prop_map(|n| made(Kind::Literal(Scalar::Int(n))));
    let edge = || {
        prop_oneof![
            Just(Edge::First),
            count().prop_map(Edge::Before),
            Just(Edge::Here),
            count().prop_map(Edge::After),
            Just(Edge::Last),
        ]
    };
    prop_oneof![
        (count(), select(Unit::ALL.to_vec())).prop_map(|(n, unit)| Frame::Last(n, unit)),
        (count(), select(Unit::ALL.to_vec())).prop_map(|(n, unit)| Frame::Next(n, unit)),
        Just(Frame::SoFar),
        Just(Frame::FromHere),
        (any::<bool>(), edge(), edge()).prop_map(|(rows, from, to)| Frame::Between { rows, from, to }),
    ]
}

fn some_sense() -> impl Strategy<Value = Sense> {
    select(vec![Sense::Plain, Sense::Not])
}

fn some_operator() -> impl Strategy<Value = Binary> {
    use Binary::*;
    select(vec![
        Or,
        And,
        Equal,
        NotEqual,
        Less,
        LessEqual,
        Greater,
        GreaterEqual,
        Add,
        Subtract,
        Concat,
        Multiply,
        Divide,
        Div,
        Mod,
    ])
}

fn some_leaf() -> impl Strategy<Value = Expr> {
    prop_oneof![
        some_literal().prop_map(|value| made(Kind::Literal(value))),
        some_name().prop_map(|name| made(Kind::Name(name))),
        Just(made(Kind::Parameter("least".to_owned()))),
        some_set().prop_map(|set| made(Kind::Each(set))),
    ]
}

/// Calls, which `where`, `per` and `over` stand behind.
fn some_call(inner: impl Strategy<Value = Expr>) -> impl Strategy<Value = Expr> {
    let function = select(vec!["sum", "count", "round", "starts_with"]);
    (function, prop::collection::vec(inner, 0..3)).prop_map(|(f, args)| made(Kind::Call(f.to_owned(), args)))
}

fn some_expr() -> impl Strategy<Value = Expr> {
    some_leaf().prop_recursive(4, 24, 3, |inner| {
        let one = || inner.clone().prop_map(boxed);
        prop_oneof![
            one().prop_map(|x| match &x.kind {
                // A number takes the sign itself.
                Kind::Literal(Scalar::Int(_) | Scalar::Float(_)) => *x,
                _ => made(Kind::Negate(x)),
            }),
            one().prop_map(|x| made(Kind::Not(x))),
            (some_operator(), one(), one()).prop_map(|(op, a, b)| match &b.kind {
                // Of several in a row the first two stand together: a or (b or c) is printed without parentheses.
                Kind::Binary(other, ..) if *other == op && matches!(op, Binary::And | Binary::Or) => *b,
                _ => made(Kind::Binary(op, a, b)),
            }),
            (one(), one(), one(), some_sense())
                .prop_map(|(x, a, b, sense)| made(Kind::Between(x, a, b, sense))),
            (one(), prop::collection::vec(inner.clone(), 1..4), some_sense())
                .prop_map(|(x, list, sense)| made(Kind::In(x, list, sense))),
            (one(), some_sense()).prop_map(|(x, sense)| made(Kind::InTable(x, "big farms".into(), sense))),
            Just(made(Kind::TableValue("top".into(), "Fat %".into()))),
            (one(), one(), prop::option::of(select(vec!['!', '\\', '\''])), some_sense())
                .prop_map(|(x, pattern, escape, sense)| made(Kind::Like(x, pattern, escape, sense))),
            (one(), some_sense()).prop_map(|(x, sense)| made(Kind::IsNull(x, sense))),
            (one(), one(), some_sense()).prop_map(|(a, b, sense)| made(Kind::IsDistinct(a, b, sense))),
            (prop::collection::vec((inner.clone(), inner.clone()), 1..3), prop::option::of(one()))
                .prop_map(|(arms, otherwise)| made(Kind::Case(arms, otherwise))),
            (one(), prop::collection::vec((inner.clone(), inner.clone()), 1..3), prop::option::of(one()))
                .prop_map(|(x, arms, otherwise)| made(Kind::CaseOf(x, arms, otherwise))),
            (inner.clone(), some_type(), prop::option::of(Just("%d.%m.%Y 'at'".to_owned())), any::<bool>())
                .prop_map(|(from, to, format, lenient)| made(Kind::Cast(Box::new(Cast {
                    from,
                    to,
                    format,
                    lenient
                })))),
            some_call(inner.clone()),
            (some_call(inner.clone()), one()).prop_map(|(call, only)| made(Kind::Where(boxed(call), only))),
            (some_call(inner.clone()), some_keys())
                .prop_map(|(call, keys)| made(Kind::Per(boxed(call), keys))),
            (some_call(inner.clone()), some_frame())
                .prop_map(|(call, frame)| made(Kind::Over(boxed(call), Box::new(frame)))),
        ]
    })
}

/// The expression without the places of its parts.
fn bare(expr: &Expr) -> String {
    let spans = regex::Regex::new(r"Span \{[^}]*\}").expect("a pattern");
    spans.replace_all(&format!("{expr:?}"), "").into_owned()
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 4000, ..ProptestConfig::default() })]

    #[test]
    fn expressions_read_back_as_they_were(expr in some_expr()) {
        let text = expr.to_string();
        let source = Arc::new(SourceText { name: "test".into(), text: text.clone() });
        let tokens = tokens(&source).map_err(|e| TestCaseError::fail(format!("{text}\n{e}")))?;
        let mut cursor = Cursor::new(&source, &tokens);
        let read = expression(&mut cursor).and_then(|read| cursor.expect_end().map(|()| read));
        let read = read.map_err(|e| TestCaseError::fail(format!("{text}\n{e}")))?;
        prop_assert_eq!(bare(&read), bare(&expr), "{}", text);
        prop_assert_eq!(read.to_string(), text);
    }
}
