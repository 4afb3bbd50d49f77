//! Literals, types and predicates of SQL: what they give, and what is said of those that are not understood.

use churn::Scalar;
use rstest::rstest;

use crate::tables::{self, Form};

fn value(expression: &str) -> Scalar {
    let text = format!("select {expression} as x");
    let table =
        tables::query(crate::folder(), Form::Csv, &text).run().unwrap_or_else(|e| panic!("{text}\n{e}"));
    table.values("x").unwrap().swap_remove(0)
}

#[rstest]
#[case(".5", "0.5")]
#[case("5.", "5.0")]
#[case("1e3", "1000.0")]
#[case("1.E2", "100.0")]
#[case("-9223372036854775807", "-9223372036854775807")]
#[case("N'milk'", "'milk'")]
#[case("false", "false")]
#[case("null", "null")]
#[case("date ' 2026-03-01 '", "date '2026-03-01'")]
#[case("time '06:30:00'", "time '06:30:00'")]
#[case("timestamp '2026-03-01 06:30:00'", "timestamp '2026-03-01 06:30:00'")]
#[case("date '2026-01-31' + interval '1-1' year to month", "date '2027-02-28'")]
#[case("date '2026-01-31' + interval '1' quarter", "date '2026-04-30'")]
#[case("date '2026-01-31' - interval '-2' week", "date '2026-02-14'")]
#[case("date '2026-01-31' + interval -'1' month", "date '2025-12-31'")]
#[case(
    "timestamp '2026-01-01 00:00:00' + interval '1 02:30' day to minute",
    "timestamp '2026-01-02 02:30:00'"
)]
#[case(
    "timestamp '2026-01-01 00:00:00' + interval '10:00:01.5' hour to second",
    "timestamp '2026-01-01 10:00:01.500'"
)]
#[case("timestamp '2026-01-01 00:00:00' - interval '90' minute", "timestamp '2025-12-31 22:30:00'")]
#[case("timestamp '2026-01-01 00:00:00' + interval '+0.25' second", "timestamp '2026-01-01 00:00:00.250'")]
#[case("cast('7' as smallint)", "7")]
#[case("cast(7.5 as decimal(5, 1))", "7.5")]
#[case("cast('12' as numeric(4))", "12")]
#[case("cast('true' as boolean)", "true")]
#[case("cast('06:30' as time)", "time '06:30:00'")]
#[case("cast('2026-03-01 06:30' as timestamp without time zone)", "timestamp '2026-03-01 06:30:00'")]
#[case("cast('milk' as character varying(3))", "'mil'")]
#[case("cast(12 as text)", "'12'")]
#[case("cast('2.5' as real)", "2.5")]
#[case("'10%' like '10!%' escape '!'", "true")]
#[case("'10x' not like '10!%' escape '!'", "true")]
#[case("3 not in (1, 2, null)", "null")]
#[case("3 > all (select 1 union all select 2)", "true")]
#[case("3 = any (select 1 union all select 2)", "false")]
#[case("not exists (select 1 where false)", "true")]
fn a_literal_has_its_value(#[case] expression: &str, #[case] expected: &str) {
    assert_eq!(value(expression).to_string(), expected, "{expression}");
}

#[rstest]
#[case("1e400", "This number is too long.")]
#[case("99999999999999999999", "This number is too long.")]
#[case("?", "A parameter without a name")]
#[case("x'6d'", "The literal")]
#[case("integer '7'", "A literal of this type")]
#[case("time '25:00:00'", "'25:00:00' is no time.")]
#[case("cast(1 as time with time zone)", "A time with a zone")]
#[case("cast(1 as char(3))", "A text that is padded with blanks")]
#[case("cast(1 as uuid)", "The type")]
#[case("cast(1 as decimal(3, 4))", "A decimal has 1 to 38 digits")]
#[case("date '2026-01-01' + interval '1-2-3' year to month", "This interval is not understood.")]
#[case("date '2026-01-01' + interval '1 2' month to day", "This interval is not understood.")]
#[case("timestamp '2026-01-01 00:00:00' + interval '0.1234567' second", "This interval is not understood.")]
#[case("date '2026-01-01' + interval '9223372036854775807' year", "This interval is not understood.")]
#[case("'a' like 'b' escape '!!'", "Behind escape stands one character in quotes.")]
fn a_literal_that_is_none_is_told(#[case] expression: &str, #[case] what: &str) {
    let text = format!("select {expression} as x");
    let error = tables::query(crate::folder(), Form::Csv, &text).run().expect_err(&text);
    assert!(error.what().starts_with(what), "{expression}: {error}");
}
