//! Requests that are long or deep: they run, or a message says what is too much. None ends the process.
//!
//! These run on the small stacks of test threads.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fmt::Write;
use std::fs;

use churn::{Error, ErrorKind, Flow, RunOptions, Scalar, Table};
use rstest::rstest;

/// Runs a recipe over `t.csv` with two rows: a is 1 and 2, b is 'x' and null.
fn run(recipe: &str) -> Result<Table, Error> {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), "a,b\n1,x\n2,\n").unwrap();
    Flow::recipe(recipe).in_folder(folder.path()).run_with(&RunOptions::new().threads(2))
}

fn joined<T: std::fmt::Display>(items: impl Iterator<Item = T>, with: &str) -> String {
    items.fold(String::new(), |all, item| {
        let gap = if all.is_empty() { "" } else { with };
        all + gap + &item.to_string()
    })
}

fn chain(steps: usize, step: impl Fn(usize) -> String) -> String {
    (0..steps).fold("read 't.csv'\n".to_owned(), |mut all, i| {
        let _ = writeln!(all, "{}", step(i));
        all
    })
}

/// Defines f0, which doubles, and more functions by what each makes of the one before it.
fn doubling(functions: usize, body: impl Fn(&str) -> String) -> String {
    (1..functions).fold("define f0(x) = x + x\n".to_owned(), |all, i| {
        all + &format!("define f{i}(x) = {}\n", body(&format!("f{}", i - 1)))
    })
}

#[rstest]
#[case::texts(format!("read 't.csv'\nfilter b in ({}, 'x')", joined((0..100_000).map(|i| format!("'t{i}'")), ", ")), 1)]
#[case::not_in(format!("read 't.csv'\nfilter a not in ({}, 1)", joined(5..50_000, ", ")), 1)]
#[case::sums(format!("read 't.csv'\nfilter a{} = 2001", " + 1".repeat(2000)), 1)]
#[case::products(format!("read 't.csv'\nfilter a{} = 2", " * 1".repeat(2000)), 1)]
#[case::alternatives(format!("read 't.csv'\nfilter {}", joined((0..20_000).map(|i| format!("a = {i}")), " or ")), 2)]
#[case::conditions(format!("read 't.csv'\nfilter {}", joined((5..20_000).map(|i| format!("a <> {i}")), " and ")), 2)]
#[case::texts_joined(format!("read 't.csv'\nfilter length(b{}) = 5001", " || 'y'".repeat(5000)), 1)]
#[case::parentheses(format!("read 't.csv'\nfilter {}a > 1{}", "(".repeat(400), ")".repeat(400)), 1)]
#[case::calls(format!("read 't.csv'\nfilter {}a{} > 1", "abs(".repeat(400), ")".repeat(400)), 1)]
#[case::values_that_are_used_twice(format!("read 't.csv'\nfilter {}a{} > 1", "coalesce(nullif(".repeat(60), " + 0, 7), 3)".repeat(60)), 1)]
#[case::between(format!("read 't.csv'\nfilter {}a{} > 1", "abs(if(".repeat(60), " + 0 between 2 and 5, 2, 0))".repeat(60)), 1)]
#[case::arms(format!("read 't.csv'\nadd c = case {} end", joined((0..3000).map(|i| format!("when a = {i} then {i}")), " ")), 2)]
#[case::filters(chain(5000, |_| "filter a > 0".into()), 2)]
#[case::added_columns(chain(1500, |i| format!("add c{i} = a + {i}")), 2)]
#[case::columns_of_one_step(format!("read 't.csv'\nadd\n{}", joined((0..3000).map(|i| format!("  c{i} = a + {i}")), "\n")), 2)]
#[case::replaced_columns(chain(3000, |_| "add a = a + 1".into()), 2)]
#[case::tables(format!("table t0\n  read 't.csv'\n{}read t1999", (1..2000).map(|i| format!("table t{i}\n  read t{}\n  filter a > 0\n", i - 1)).collect::<String>()), 2)]
#[case::calls_that_double(format!("{}read 't.csv'\nfilter f59(a) = 1152921504606846976", doubling(60, |f| format!("{f}(x) + {f}(x)"))), 1)]
#[case::arguments_that_double(format!("{}read 't.csv'\nfilter f59(a) = 1152921504606846976", doubling(60, |f| format!("{f}(x + x)"))), 1)]
#[case::calls_in_an_aggregate(format!("{}read 't.csv'\ntotal: s = sum(f40(a) - f40(a))", doubling(60, |f| format!("{f}(x) + {f}(x)"))), 1)]
#[case::calls_in_a_case(format!("{}read 't.csv'\nfilter if(a > 1, f40(a) + f40(a), f40(a + 1)) > 0", doubling(60, |f| format!("{f}(x) + {f}(x)"))), 2)]
fn long_and_deep_requests_run(#[case] recipe: String, #[case] rows: usize) {
    assert_eq!(run(&recipe).unwrap_or_else(|e| panic!("{:.300}", e.to_string())).len(), rows);
}

#[rstest]
#[case::parentheses(format!("{}a{}", "(".repeat(20_000), ")".repeat(20_000)), "stand within each other")]
#[case::negations(format!("{}(a > 1)", "not ".repeat(20_000)), "stand within each other")]
#[case::signs(format!("{}a", "- ".repeat(20_000)), "stand within each other")]
#[case::calls(format!("{}a{}", "abs(".repeat(20_000), ")".repeat(20_000)), "stand within each other")]
#[case::lists(format!("cast(a as {}int{})", "list(".repeat(20_000), ")".repeat(20_000)), "stand within each other")]
#[case::sums(format!("a{}", " + 1".repeat(20_000)), "operands stand in a row")]
#[case::conditions(format!("sum(a){}", " where (a > 1)".repeat(20_000)), "operands stand in a row")]
fn what_is_too_deep_is_told(#[case] expression: String, #[case] what: &str) {
    let error = run(&format!("read 't.csv'\nadd c = {expression}")).unwrap_err();
    assert!(error.what().contains(what), "{}", error.what());
    assert_eq!(error.kind(), ErrorKind::Syntax);
}

#[rstest]
#[case::values_that_differ(|f: &str| format!("{f}(x) + {f}(x + 1)"), "a")]
#[case::values_that_some_rows_do_not_need(|f: &str| format!("{f}(if(a > 1, x, x + 1))"), "cast(b as int)")]
fn functions_that_are_too_long_are_told(#[case] body: fn(&str) -> String, #[case] value: &str) {
    let recipe = format!("{}read 't.csv'\nadd c = f39({value})", doubling(40, body));
    let error = run(&recipe).unwrap_err();
    assert!(error.what().contains("too long once the functions in it are written out"), "{error}");
}

#[test]
fn a_flow_of_thousands_of_steps_is_built_cloned_printed_and_dropped() {
    let start = Flow::steps("values a: (1), (2)");
    let flow = (0..3000).fold(start, |flow, _| flow.filter("a > 0"));
    let plan = flow.plan().unwrap();
    assert_eq!(plan.clone().steps().count(), 3001);
    assert!(plan.to_string().lines().count() > 3000);
    assert_eq!(flow.run().unwrap().len(), 2);
}

#[test]
fn a_value_that_is_used_twice_is_worked_out_once() {
    // A division by zero is counted: were it worked out twice, so would the event be.
    let defines = "define twice(x) = x + x\ndefine part(x) = x / (a - 1)\n";
    for expression in [
        "coalesce(a / (a - 1), 0)",
        "nullif(a / (a - 1), 5)",
        "a / (a - 1) between 1 and 3",
        "twice(a / (a - 1))",
        "part(a) + part(a) * part(a)",
        "twice(part(a)) + twice(part(a)) + part(a)",
        "if(part(a) > 1, part(a), 7)",
    ] {
        let table = run(&format!("{defines}read 't.csv'\nadd c = {expression}")).unwrap();
        assert_eq!(table.ledger().total(churn::Event::ZeroDivision), 1, "{expression}");
    }
}

#[rstest]
#[case::nested("twice(twice(a + 1) + twice(a + 1))", [16, 24])]
#[case::argument_of_an_argument("both(twice(a + 1), twice(a + 1) + 1)", [40, 84])]
#[case::a_word("month_of(date '2026-03-09')", [3, 3])]
#[case::within_between("twice(a + 1) between twice(a * 1) and both(a + 1, a + 1)", [1, 1])]
#[case::a_literal_that_is_worked_out("twice(1 + 1) + a", [5, 6])]
#[case::coalesce_of_locals("both(coalesce(nullif(a + 0, 1), a + 5), coalesce(nullif(a + 0, 1), a + 5))", [72, 8])]
fn functions_of_the_users_own_mean_their_bodies(#[case] expression: &str, #[case] expected: [i64; 2]) {
    let defines = "define twice(x) = x + x\ndefine both(x, y) = x * y + x * (y - 0) + y * 0 + (x - x)\n\
                   define month_of(d) = month(start_of(month, d))\n";
    let cast =
        if expression.contains("between") { format!("if({expression}, 1, 0)") } else { expression.into() };
    let table = run(&format!("{defines}read 't.csv'\nadd c = {cast}")).unwrap();
    assert_eq!(table.values("c").unwrap(), expected.map(Scalar::Int));
}

#[test]
fn an_argument_is_worked_out_only_where_it_is_needed() {
    // The text of the first row is no number, and would stop the run.
    let define = "define chosen(x, p) = case when p then x when not p then x + 1 end\n";
    let table =
        run(&format!("{define}read 't.csv'\nadd c = chosen(cast(b as int), nullif(a > 1, false))")).unwrap();
    assert_eq!(table.values("c").unwrap(), [Scalar::Null, Scalar::Null]);
}

#[test]
fn later_values_are_worked_out_only_where_they_are_needed() {
    // A text that is no number would stop the run.
    let table =
        run("read 't.csv'\nadd c = coalesce(if(b = 'x', 5, null), cast(coalesce(b, '7') as int))").unwrap();
    assert_eq!(table.values("c").unwrap(), [Scalar::Int(5), Scalar::Int(7)]);
}

#[rstest]
#[case::floats("x in (0.0, 1.5, {})", "-0.0, 1.5, nan", "true, true, false")]
#[case::texts("x in ('it''s', {})", "'it''s', null, ''", "true, null, false")]
#[case::days("x in ('2026-01-01', {})", "date '2026-01-01', date '2026-01-02', null", "true, false, null")]
#[case::mixed("x in (1.5, null, {})", "1, 2.5, 7", "true, null, true")]
#[case::not("x not in ('a', {})", "'a', 'b', null", "false, true, null")]
fn long_lists_mean_what_short_ones_mean(
    #[case] condition: &str,
    #[case] values: &str,
    #[case] expected: &str,
) {
    // As many more members as make the list one that is looked up.
    let more = match values.chars().next().unwrap() {
        '\'' => joined((0..40).map(|i| format!("'m{i}'")), ", "),
        'd' => joined((1..29).map(|i| format!("date '2025-02-{i:02}'")), ", "),
        _ => format!("1, 7, {}", joined((100..140).map(|i| format!("{i}.25")), ", ")),
    };
    let rows = values.replace("nan", "cast('NaN' as float)");
    let rows: Vec<&str> = rows.split(", ").collect();
    let adds = rows.iter().enumerate().fold(String::new(), |all, (i, row)| {
        let otherwise = if i == 0 { "null".to_owned() } else { "x".to_owned() };
        all + &format!("add x = if(i = {i}, {row}, {otherwise})\n")
    });
    let numbers = joined(0..rows.len(), "), (");
    let steps = format!("values i: ({numbers})\n{adds}add found = {}", condition.replace("{}", &more));
    let found = Flow::steps(&steps).run().unwrap_or_else(|e| panic!("{:.400}", e.to_string()));
    let found = found.values("found").unwrap();
    let shown: Vec<String> =
        found.iter().map(|v| if v.is_null() { "null".into() } else { v.plain() }).collect();
    assert_eq!(shown.join(", "), expected);
}
