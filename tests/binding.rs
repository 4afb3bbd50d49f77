//! The table of binding: each operator over each pair of types, what it gives or that it is refused; and that what is allowed
//! gives values of the type that the check tells of it, for values and for nulls on either side.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use churn::{ErrorKind, Flow, Type};

/// The types of the language, with a value of each.
const TYPES: [(&str, &str); 11] = [
    ("bool", "true"),
    ("int", "7"),
    ("decimal", "cast('2.50' as decimal(9, 2))"),
    ("float", "1.5"),
    ("text", "'milk'"),
    ("date", "date '2026-03-01'"),
    ("time", "time '06:30:00'"),
    ("timestamp", "timestamp '2026-03-01 06:30:00'"),
    ("interval", "interval '1' month"),
    ("list", "parts('a,b', ',')"),
    ("null", "null"),
];

const OPERATORS: [&str; 17] = [
    "+", "-", "*", "/", "||", "=", "<>", "<", "<=", ">", ">=", "and", "or", "in", "between", "like",
    "coalesce",
];

/// An operator over two expressions.
fn applied(operator: &str, left: &str, right: &str) -> String {
    match operator {
        "in" => format!("{left} in ({right}, {right})"),
        "between" => format!("{left} between {right} and {right}"),
        "coalesce" => format!("coalesce({left}, {right})"),
        _ => format!("{left} {operator} {right}"),
    }
}

/// A table of one row with a value of each type, and a null of each, as columns: nothing is folded at the check. Types that no
/// column can have stand as they are.
fn columns() -> Flow {
    let named = |(name, value): &(&str, &str)| match *name {
        "interval" | "null" => None,
        // No number that a rule knows: of the rows of a table.
        _ => Some(format!("{name}_ = if(n > 0, {value}, null), {name}_none = if(n > 1, {value}, null)")),
    };
    let columns: Vec<String> = TYPES.iter().filter_map(named).collect();
    Flow::steps("values n: (1)").add(columns.join(", "))
}

/// How a type stands as an operand.
fn operand(name: &str, value: &str, is_null: bool) -> String {
    match (name, is_null) {
        ("interval" | "null", _) => value.to_owned(),
        (_, true) => format!("{name}_none"),
        (_, false) => format!("{name}_"),
    }
}

/// The type of an expression over the columns; none if it is refused, which it must be for a reason of its types.
fn kind(flow: &Flow, expression: &str) -> Option<Type> {
    match flow.clone().add(format!("x = {expression}")).plan() {
        Ok(plan) => plan.columns().find(|(name, _)| *name == "x").map(|(_, kind)| kind.clone()),
        Err(error) => {
            assert!(matches!(error.kind(), ErrorKind::Type | ErrorKind::Check), "{expression}: {error}");
            None
        }
    }
}

#[test]
fn each_operator_over_each_pair_of_types() {
    let flow = columns();
    let mut told = String::new();
    for operator in OPERATORS {
        told += &format!("{operator:<10}");
        TYPES.iter().for_each(|(name, _)| told += &format!("{name:<14}"));
        told = told.trim_end().to_owned() + "\n";
        for (left, of_left) in TYPES {
            told += &format!("{left:<10}");
            for (right, of_right) in TYPES {
                let expression =
                    applied(operator, &operand(left, of_left, false), &operand(right, of_right, false));
                let kind = kind(&flow, &expression).map_or_else(|| "-".to_owned(), |kind| kind.to_string());
                told += &format!("{:<14}", kind.replace(", ", ","));
            }
            told = told.trim_end().to_owned() + "\n";
        }
        told.push('\n');
    }
    insta::assert_snapshot!(told);
}

/// What the check allows runs, for values and nulls on both sides, and its column has the type that the check tells.
#[test]
fn what_is_allowed_gives_values_of_its_type() {
    let flow = columns();
    for operator in OPERATORS {
        let mut items = Vec::new();
        for (left, of_left) in TYPES {
            for (right, of_right) in TYPES {
                for nulls in [0, 3] {
                    let left = operand(left, of_left, nulls & 1 == 1);
                    let right = operand(right, of_right, nulls & 2 == 2);
                    let expression = applied(operator, &left, &right);
                    if let Some(kind) = kind(&flow, &expression) {
                        items.push((expression, kind, nulls));
                    }
                }
            }
        }
        for (expression, kind, nulls) in items {
            let table = flow.clone().add(format!("x = {expression}")).run();
            let table = table.unwrap_or_else(|error| panic!("{expression}: {error}"));
            let told = table.columns().find(|(name, _)| *name == "x").map(|(_, kind)| kind.clone());
            assert_eq!(told, Some(kind), "{expression}");
            let value = table.value(0, "x").unwrap();
            let strict = !matches!(operator, "and" | "or" | "coalesce" | "||");
            if nulls == 3 && strict && !expression.contains("interval") {
                assert!(value.is_null(), "{expression} is {value}");
            }
        }
    }
}
