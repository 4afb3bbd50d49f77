//! An expression gives the same over columns, over literals, and in a function of the user's own.

use churn::{Flow, Scalar};
use proptest::prelude::*;
use rstest::rstest;

use crate::columns::{Values, evaluated, flow, text};

/// Expressions over `a`, `b` (whole numbers), `x` (a float), `t`, `u` (texts), `d` (a day) and `c` (a condition).
const EXPRESSIONS: [&str; 46] = [
    "a + b * 2",
    "a - b",
    "a / b",
    "a div nullif(b, 0)",
    "a mod nullif(b, 0)",
    "-a",
    "a < b",
    "a >= b and c",
    "a = b or c",
    "not c",
    "a is null",
    "a is distinct from b",
    "a between b and 5",
    "a in (b, 3, null)",
    "a not in (1, 2)",
    "x * a",
    "x > a",
    "round(x, 1)",
    "floor(x)",
    "sqrt(x)",
    "ln(abs(x))",
    "least(a, b, 4)",
    "greatest(x, a)",
    "row_sum(a, b, x)",
    "coalesce(a, b, 0)",
    "nullif(a, b)",
    "if(c, a, b)",
    "case when a > b then t when c then u else 'none' end",
    "case a when 1 then 'one' when b then 'b' end",
    "t || u",
    "t || '-' || coalesce(u, '')",
    "upper(t)",
    "length(t) + a",
    "substring(t, 2, 3)",
    "replace(t, 'a', u)",
    "t like 'a%'",
    "t < u",
    "contains(t, u)",
    "position(t, 'b')",
    "element(parts(t, '/'), a)",
    "d + a * interval '1' day",
    "d + interval '1' month",
    "date_diff(day, d, date '2026-01-01')",
    "start_of(month, d)",
    "year(d) * 12 + month(d)",
    "cast(a as text) || cast(d as text)",
];

/// One row.
#[derive(Clone, Debug)]
struct Row {
    a: Option<i64>,
    b: Option<i64>,
    x: Option<f64>,
    t: Option<String>,
    u: Option<String>,
    d: Option<i32>,
    c: Option<bool>,
}

fn row() -> impl Strategy<Value = Row> {
    let int = || prop::option::weighted(0.8, -6..6i64);
    let float = prop::option::weighted(0.8, (-40..40i64).prop_map(|n| n as f64 / 4.0));
    let text = || prop::option::weighted(0.8, text());
    let day = prop::option::weighted(0.8, 20_000..21_000i32);
    (int(), int(), float, text(), text(), day, prop::option::weighted(0.8, any::<bool>()))
        .prop_map(|(a, b, x, t, u, d, c)| Row { a, b, x, t, u, d, c })
}

impl Row {
    /// What stands for a name in an expression without columns: a literal of the column's type.
    fn literal(&self, name: &str) -> Option<String> {
        let or_null = |value: Option<String>, kind: &str| match value {
            Some(value) if value.starts_with('-') => format!("({value})"),
            Some(value) => value,
            None => format!("cast(null as {kind})"),
        };
        Some(match name {
            "a" => or_null(self.a.map(|a| a.to_string()), "int"),
            "b" => or_null(self.b.map(|b| b.to_string()), "int"),
            "x" => or_null(self.x.map(|x| format!("{x:?}")), "float"),
            "t" => or_null(self.t.clone().map(|t| Scalar::Text(t).to_string()), "text"),
            "u" => or_null(self.u.clone().map(|u| Scalar::Text(u).to_string()), "text"),
            "d" => or_null(self.d.map(|d| Scalar::Date(d).to_string()), "date"),
            "c" => or_null(self.c.map(|c| c.to_string()), "bool"),
            _ => return None,
        })
    }

    /// The expression with literals for its columns. Text in quotes stays.
    fn filled(&self, expression: &str) -> String {
        let mut out = String::new();
        for (part, quoted) in expression.split('\'').zip([false, true].into_iter().cycle()) {
            if quoted {
                out += &format!("'{part}'");
                continue;
            }
            let mut word = String::new();
            for c in part.chars().chain([' ']) {
                if c.is_alphanumeric() || c == '_' {
                    word.push(c);
                    continue;
                }
                out += &self.literal(&word).unwrap_or_else(|| word.clone());
                word.clear();
                out.push(c);
            }
            // The blank that ended the last word was not there.
            out.pop();
        }
        out
    }
}

fn table(rows: &[Row]) -> Flow {
    flow(&[
        ("a", Values::Int(rows.iter().map(|row| row.a).collect())),
        ("b", Values::Int(rows.iter().map(|row| row.b).collect())),
        ("x", Values::Float(rows.iter().map(|row| row.x).collect())),
        ("t", Values::Text(rows.iter().map(|row| row.t.clone()).collect())),
        ("u", Values::Text(rows.iter().map(|row| row.u.clone()).collect())),
        ("d", Values::Date(rows.iter().map(|row| row.d).collect())),
        ("c", Values::Bool(rows.iter().map(|row| row.c).collect())),
    ])
}

/// Whether two values are the same; NaN is itself.
fn same(a: &Scalar, b: &Scalar) -> bool {
    match (a, b) {
        (Scalar::Float(a), Scalar::Float(b)) => a == b || a.is_nan() && b.is_nan(),
        _ => a == b,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn literals_give_what_columns_give(rows in prop::collection::vec(row(), 1..6)) {
        let table = table(&rows);
        for expression in EXPRESSIONS {
            let found = evaluated(&table, expression);
            for (row, value) in rows.iter().zip(&found) {
                let filled = row.filled(expression);
                let one = Flow::steps("values nothing: (0)");
                let folded = evaluated(&one, &filled);
                prop_assert!(same(&folded[0], value), "{} is {:?}, over columns {:?}", filled, folded[0], value);
            }
        }
    }

    #[test]
    fn a_function_of_ones_own_is_its_body(rows in prop::collection::vec(row(), 1..12)) {
        let table = table(&rows);
        for expression in EXPRESSIONS {
            let recipe = format!("define f(a, b, x, t, u, d, c) = {expression}\nread same\nselect v = f(a, b, x, t, u, d, c)");
            // The table is handed over by a join with itself, as a recipe reads no batches.
            let twice = table.clone().select(format!("v = {expression}, w = ({expression})"));
            let both = twice.run().unwrap();
            prop_assert_eq!(both.values("v").unwrap(), both.values("w").unwrap(), "{}", recipe);
        }
    }
}

/// Each type turned into each other one: over a column as over a literal, and `try_cast` gives null where `cast` stops.
#[rstest]
fn casts_agree(
    #[values(
        "12",
        "2.9",
        "'12'",
        "'x'",
        "''",
        "true",
        "'true'",
        "date '2026-03-01'",
        "'2026-03-01'",
        "timestamp '2026-03-01 06:30:00'",
        "time '06:30:00'",
        "'06:30'",
        "-1",
        "1e300",
        "'NaN'",
        "cast('3.25' as decimal(6, 2))",
        "9007199254740993"
    )]
    value: &str,
    #[values("bool", "int", "float", "decimal(8, 3)", "text", "date", "time", "timestamp")] to: &str,
) {
    let column =
        Flow::steps("values nothing: (0), (1), (2)").add(format!("x = if(nothing = 1, null, {value})"));
    let over_column = |call: &str| column.clone().select(format!("v = {call}(x as {to})"));
    let literal =
        |call: &str| Flow::steps("values nothing: (0)").select(format!("v = {call}({value} as {to})"));
    let tried = match over_column("try_cast").run() {
        Ok(table) => table.values("v").unwrap(),
        // Types that never turn into one another are told at the check, and then by both.
        Err(error) => {
            assert!(over_column("cast").check().is_err(), "{error}");
            return;
        }
    };
    assert_eq!(tried[1], Scalar::Null);
    assert!(same(&tried[0], &tried[2]));
    let folded = literal("try_cast").run().unwrap().value(0, "v").unwrap();
    assert!(same(&folded, &tried[0]), "{value} as {to}: {folded:?}, not {:?}", tried[0]);
    for cast in [over_column("cast"), literal("cast")] {
        match cast.run() {
            Ok(table) => assert!(same(&table.value(0, "v").unwrap(), &tried[0]), "{value} as {to}"),
            Err(error) => assert!(tried[0].is_null(), "{value} as {to}: {error}"),
        }
    }
}
