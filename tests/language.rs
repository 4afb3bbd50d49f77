//! The language by examples: what each expression, aggregate, set and step gives, one line a case.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use churn::{ErrorKind, Flow, Scalar, Table};
use rstest::rstest;

/// A table as text: names, then rows; null is `·`.
fn shown(table: &Table) -> String {
    let names: Vec<&str> = table.columns().map(|(n, _)| n).collect();
    let columns: Vec<Vec<Scalar>> = names.iter().map(|n| table.values(n).unwrap()).collect();
    let cell = |v: &Scalar| if v.is_null() { "·".to_owned() } else { v.plain() };
    let row = |i: usize| columns.iter().map(|c| cell(&c[i])).collect::<Vec<_>>().join(" ");
    let rows: Vec<String> = (0..table.len()).map(row).collect();
    format!("{}\n{}", names.join(" "), rows.join("\n")).trim_end().to_owned()
}

fn value(expression: &str) -> (String, String) {
    let flow = Flow::steps("values one: (1)").select(format!("x = {expression}"));
    let table = flow.run().unwrap_or_else(|e| panic!("{e}"));
    let kind = table.columns().next().unwrap().1.to_string();
    (shown(&table).lines().nth(1).unwrap_or("").to_owned(), kind)
}

#[rstest]
// Arithmetic and its types
#[case("1 + 2", "3", "int")]
#[case("1 + 2.0", "3.0", "float")]
#[case("7 / 7", "1.0", "float")]
#[case("7 div 2", "3", "int")]
#[case("7 div -2", "-4", "int")]
#[case("7 mod -2", "-1", "int")]
#[case("-7.5 mod 2", "0.5", "float")]
#[case("5 mod 0", "·", "int")]
#[case("5 div 0", "·", "int")]
#[case("-(-3)", "3", "int")]
#[case("2 - -3", "5", "int")]
#[case("1_000_000 * 2", "2000000", "int")]
#[case("-9223372036854775808", "-9223372036854775808", "int")]
#[case("cast(1.25 as decimal(6, 2)) + 1", "2.25", "decimal(22, 2)")]
#[case("cast('1.50' as decimal(4, 2)) * cast('2.5' as decimal(3, 1))", "3.750", "decimal(7, 3)")]
#[case("cast('1.50' as decimal(4, 2)) / 2", "0.75", "float")]
#[case("round(cast('2.345' as decimal(6, 3)), 2)", "2.350", "decimal(6, 3)")]
#[case("cast('2.345' as decimal(6, 3)) > 2.3", "true", "bool")]
#[case("cast('2.50' as decimal(9, 2)) * 1.19", "2.9750", "decimal(12, 4)")]
#[case("cast('0.1' as decimal(9, 1)) + 0.2 = 0.3", "true", "bool")]
#[case("coalesce(cast(null as decimal(9, 2)), -0.125)", "-0.125", "decimal(10, 3)")]
#[case("cast('12345678901234567.89' as decimal(19, 2)) = 12345678901234567.89", "true", "bool")]
#[case("cast('99999999999999.9' as decimal(20, 1)) + 0.01", "99999999999999.91", "decimal(22, 2)")]
#[case("cast('2.50' as decimal(9, 2)) * 1.1234567890123456789", "2.8086419725308645", "float")]
// Logic
#[case("true and null", "·", "bool")]
#[case("false and null", "false", "bool")]
#[case("true or null", "true", "bool")]
#[case("not null", "·", "bool")]
#[case("not 1 > 2 and 2 > 1", "true", "bool")]
#[case("1 = 1 or 1 / 0 > 1", "true", "bool")]
#[case("null = null", "·", "bool")]
#[case("null is distinct from 1", "true", "bool")]
#[case("3 not in (1, 2)", "true", "bool")]
#[case("3 not in (1, null)", "·", "bool")]
#[case("3 not between 1 and 2", "true", "bool")]
#[case("1 == 1.0", "true", "bool")]
#[case("'B' != 'b'", "true", "bool")]
#[case("'Z' < 'a'", "true", "bool")]
#[case("true > false", "true", "bool")]
// Text
#[case("'it''s'", "it's", "text")]
#[case("'a' || null", "·", "text")]
#[case("'100%' like '100%'", "true", "bool")]
#[case("'100%' like '100!%' escape '!'", "true", "bool")]
#[case("'1000' like '100!%' escape '!'", "false", "bool")]
#[case("'a_b!' like '%!_b!!' escape '!'", "true", "bool")]
#[case("'axb' not like 'a!_b' escape '!'", "true", "bool")]
#[case("'' like '%'", "true", "bool")]
// Choice by a value
#[case("case 2 when 1 then 'a' when 2.0 then 'b' end", "b", "text")]
#[case("case null when null then 'a' else 'b' end", "b", "text")]
#[case("case 'x' when 'y' then 1 end", "·", "int")]
#[case("case date '2026-03-01' when '2026-03-01' then true end", "true", "bool")]
// Across the values of a row
#[case("row_sum(1, null, 2.5)", "3.5", "float")]
#[case("row_sum(1, cast('1.25' as decimal(4, 2)))", "2.25", "decimal(38, 2)")]
#[case("row_sum(null, null)", "·", "int")]
#[case("row_mean(4.6, 4.8, null)", "4.7", "float")]
#[case("row_mean(null)", "·", "float")]
#[case("row_count(null, 'a', 2)", "2", "int")]
// Texts
#[case("trim('--a-', '-')", "a", "text")]
#[case("trim_left('  a b')", "a b", "text")]
#[case("trim_right('a..', '.')", "a", "text")]
#[case("pad_right('Hö', 4, 'xy')", "Höxy", "text")]
#[case("title('o''neil''s FARM-shop 2nd')", "O'neil's Farm-Shop 2nd", "text")]
#[case("reverse('Höfe')", "eföH", "text")]
#[case("position('Höfe', 'fe')", "3", "int")]
#[case("position('abc', '')", "1", "int")]
#[case("repeat_text('ab', -1)", "", "text")]
#[case("replace_matches('a1b22', '[0-9]+', '<$0>')", "a<1>b<22>", "text")]
#[case("replace_matches('10 l', '([0-9]+) l', '${1}0 $$')", "100 $", "text")]
#[case("element(parts('a/b', '/'), -3)", "·", "text")]
// Days and moments
#[case("make_date(2024, 2, 29)", "2024-02-29", "date")]
#[case("make_date(2026, 2, 29)", "·", "date")]
#[case("make_date(0, 1, 1)", "·", "date")]
#[case("end_of(quarter, date '2026-05-17')", "2026-06-30", "date")]
#[case("end_of(year, date '9999-05-17')", "9999-12-31", "date")]
#[case("end_of(hour, timestamp '2026-05-17 06:30:00')", "2026-05-17 06:59:59.999999", "timestamp")]
#[case("date_diff(year, date '2024-02-29', date '2025-02-28')", "1", "int")]
#[case("date_diff(month, date '2026-03-31', date '2026-02-28')", "-1", "int")]
#[case("date_diff(hours, timestamp '2026-03-01 06:30:00', timestamp '2026-03-01 08:29:59')", "1", "int")]
#[case("epoch(timestamp '1969-12-31 23:59:59.5')", "-1", "int")]
#[case("epoch('2026-03-01', 'milliseconds')", "1772323200000", "int")]
#[case("from_epoch(0.25)", "1970-01-01 00:00:00.250", "timestamp")]
#[case("from_epoch(1e300)", "·", "timestamp")]
#[case("from_epoch(9223372036854775807, 'day')", "·", "timestamp")]
#[case("'F042' like '_0%2'", "true", "bool")]
#[case("'two\nlines' like 'two%lines'", "true", "bool")]
#[case("length('€🐄')", "2", "int")]
#[case("substring('Höfe', 0, 3)", "Hö", "text")]
#[case("substring('Höfe', 3)", "fe", "text")]
#[case("substring('Höfe', 9)", "", "text")]
#[case("pad_left('1234', 3, '0')", "1234", "text")]
#[case("replace('aaa', 'a', 'b')", "bbb", "text")]
#[case("upper('straße')", "STRASSE", "text")]
#[case("capture('x', '(y)', 1)", "·", "text")]
#[case("matches('milk', 'il')", "true", "bool")]
// Numbers
#[case("round(2.5)", "3.0", "float")]
#[case("round(-1.005, 2)", "-1.01", "float")]
#[case("round(1234, -2)", "1200", "int")]
#[case("round(1250, -2)", "1300", "int")]
#[case("ceil(-0.5)", "-0.0", "float")]
#[case("sqrt(-1)", "·", "float")]
#[case("ln(0)", "·", "float")]
#[case("power(0, -1)", "·", "float")]
#[case("power(2, 0.5) > 1.41", "true", "bool")]
#[case("sign(-3)", "-1", "int")]
#[case("least(2, 1.5)", "1.5", "float")]
#[case("greatest('a', 'b')", "b", "text")]
#[case("band(-1, 10)", "-10", "int")]
#[case("band(0.7, 0.1)", "0.7", "float")]
#[case("band(5, 0)", "·", "int")]
#[case("band_at(-1, 0, 10)", "·", "int")]
// Dates and times
#[case("year('2026-03-01')", "2026", "int")]
#[case("quarter(date '2026-12-31')", "4", "int")]
#[case("week(date '2024-12-30')", "1", "int")]
#[case("start_of(quarter, date '2026-05-17')", "2026-04-01", "date")]
#[case("start_of(years, timestamp '2026-05-17 10:00:00')", "2026-01-01 00:00:00", "timestamp")]
#[case("start_of(hour, timestamp '2026-05-17 10:59:59')", "2026-05-17 10:00:00", "timestamp")]
#[case("date '2024-02-29' + interval '1' year", "2025-02-28", "date")]
#[case("date '2026-03-31' - interval '1' month", "2026-02-28", "date")]
#[case("date '2026-01-31' + 2 * interval '1' month", "2026-03-31", "date")]
#[case("date '2026-03-01' + interval '6' hour * 5", "2026-03-02 06:00:00", "timestamp")]
#[case("date '2026-03-01' - 3 * interval '1' day", "2026-02-26", "date")]
#[case("date '2026-03-01' + -(2 * interval '1' week)", "2026-02-15", "date")]
#[case("date '2026-03-01' + 2 * 3 * interval '1' day", "2026-03-07", "date")]
#[case("date '2026-03-01' + null * interval '1' day", "·", "date")]
#[case("date '2026-03-01' + 9223372036854775807 * interval '1' day", "·", "date")]
#[case("today() = cast(now() as date)", "true", "bool")]
#[case("interval '2' weeks + date '2026-03-01'", "2026-03-15", "date")]
#[case("timestamp '2026-03-01 23:30:00' + interval '45' minute", "2026-03-02 00:15:00", "timestamp")]
#[case("timestamp '2026-03-02 00:00:00' - date '2026-03-01'", "86400.0", "float")]
#[case("timestamp '2026-03-01T06:30:00+02:00'", "2026-03-01 04:30:00", "timestamp")]
#[case("date '2026-03-01' = timestamp '2026-03-01 00:00:00'", "true", "bool")]
#[case("time '06:30' < '07:00'", "true", "bool")]
#[case("minute(time '06:31:15')", "31", "int")]
// Casts
#[case("cast(true as int)", "1", "int")]
#[case("cast(' 12 ' as int)", "12", "int")]
#[case("cast(-2.9 as int)", "-2", "int")]
#[case("cast(5 as text) || 'x'", "5x", "text")]
#[case("cast(5.0 as text)", "5.0", "text")]
#[case("try_cast('2026-02-30' as date)", "·", "date")]
#[case("try_cast(1e300 as int)", "·", "int")]
#[case("cast(timestamp '2026-03-01 06:30:00' as date)", "2026-03-01", "date")]
#[case("cast(timestamp '2026-03-01 06:30:00' as time)", "06:30:00", "time")]
#[case("cast('01.03.26' as date format '%d.%m.%y')", "2026-03-01", "date")]
#[case("cast('1.3.2026 6:05' as timestamp format '%d.%m.%Y %H:%M')", "2026-03-01 06:05:00", "timestamp")]
// Choice
#[case("case when null then 1 when true then 2 end", "2", "int")]
#[case("case when false then 1 end", "·", "int")]
#[case("case when true then 1 else 2.5 end", "1.0", "float")]
#[case("if(1 > 2, 'a', null)", "·", "text")]
#[case("coalesce(null, null, 3)", "3", "int")]
#[case("nullif(0, 0.0)", "·", "int")]
#[case("coalesce('2026-01-01', date '2026-03-01')", "2026-01-01", "date")]
#[case("greatest(date '2026-03-01', '2026-05-01')", "2026-05-01", "date")]
#[case("case when true then '2026-01-01' else date '2026-03-01' end", "2026-01-01", "date")]
#[case("present(1, 'a')", "true", "bool")]
// Lists
#[case("length(parts('', ','))", "1", "int")]
#[case("element(parts('a,b', ','), 3)", "·", "text")]
#[case("contains(parts('a,b', ','), 'b')", "true", "bool")]
fn expressions(#[case] expression: &str, #[case] expected: &str, #[case] kind: &str) {
    assert_eq!(value(expression), (expected.to_owned(), kind.to_owned()));
}

/// Groups of a table with nulls, ties, NaN and an all-null group.
const TABLE: &str = "values g, x, y, t, c: ('a', 1, 2.0, 'p', true), ('b', 4, null, 'q', false), ('a', 3, 1.0, null, null), \
     ('b', null, 8.0, 'q', true), ('a', 3, 4.0, 'r', true), ('n', null, null, null, null)";

#[rstest]
#[case("count()", "3 2 1")]
#[case("count(x)", "3 1 0")]
#[case("count_distinct(x)", "2 1 0")]
#[case("count_distinct(t)", "2 1 0")]
#[case("sum(x)", "7 4 ·")]
#[case("sum(y)", "7.0 8.0 ·")]
#[case("mean(x)", "2.3333333333333335 4.0 ·")]
#[case("median(x)", "3.0 4.0 ·")]
#[case("quantile(y, 0.25)", "1.5 8.0 ·")]
#[case("quantile(y, 1)", "4.0 8.0 ·")]
#[case("min(t)", "p q ·")]
#[case("max(x)", "3 4 ·")]
#[case("stddev(x)", "1.1547005383792515 · ·")]
#[case("variance(y)", "2.3333333333333335 · ·")]
#[case("mode(x)", "3 4 ·")]
#[case("first(t)", "p q ·")]
#[case("last(t)", "r q ·")]
#[case("any(c)", "true true ·")]
#[case("every(c)", "true false ·")]
#[case("array_agg(t)", "[p, null, r] [q, q] [null]")]
#[case("listagg(t, '+')", "p+r q+q ·")]
#[case("min_by(y, x)", "2.0 · ·")]
#[case("max_by(t, y)", "r q ·")]
#[case("weighted_mean(x, y)", "2.4285714285714284 · ·")]
#[case("covar(x, y)", "0.3333333333333333 · ·")]
#[case("regr_slope(y, x)", "0.25 · ·")]
#[case("sum(x) where (c)", "4 · ·")]
#[case("count() where (x = 3)", "2 0 0")]
#[case("sum(x) + count()", "10 6 ·")]
#[case("sum(x) / count(x)", "2.3333333333333335 4.0 ·")]
fn aggregates(#[case] aggregate: &str, #[case] expected: &str) {
    let table = Flow::steps(TABLE).group("g", format!("x = {aggregate}")).run().unwrap();
    let values = table.values("x").unwrap();
    let text: Vec<String> = values.iter().map(|v| if v.is_null() { "·".into() } else { v.plain() }).collect();
    assert_eq!(text.join(" "), expected);
}

#[rstest]
#[case::add_in_place("add x = x * 2, z = x + 1", "g x y t c z\na 2 2.0 p true 3\nb 8 · q false 9")]
#[case::select_renames("select y, k = g", "y k\n2.0 a\n· b")]
#[case::sets("select each number", "x y\n1 2.0\n4 ·")]
#[case::sets_except("select each except (t, c)", "g x y\na 1 2.0\nb 4 ·")]
#[case::sets_by_position("select each 2 to 3", "x y\n1 2.0\n4 ·")]
#[case::sets_by_pattern("select each '?' except g", "x y t c\n1 2.0 p true\n4 · q false")]
#[case::a_set_in_a_sum(
    "select s = row_sum(each number), n = row_count(each), m = greatest(each 'x', 2)",
    "s n m\n3.0 5 2\n4.0 4 4"
)]
#[case::a_set_joined("select t = each text || '!'", "t\nap!\nbq!")]
#[case::a_set_named("select round(each number) named column || '_r'", "x_r y_r\n1 2.0\n4 ·")]
#[case::a_set_in_place("add (each number) * 10 named column", "g x y t c\na 10 20.0 p true\nb 40 · q false")]
#[case::rename_swaps("rename x = y, y = x", "g y x t c\na 1 2.0 p true\nb 4 · q false")]
#[case::drop_a_set("drop each text, c", "x y\n1 2.0\n4 ·")]
#[case::total_of_nothing("filter x > 9\ntotal: n = count(), s = sum(x)", "n s\n0 ·")]
#[case::group_of_nothing("filter x > 9\ngroup by g: n = count()", "g n")]
#[case::keys_computed("group by big = (x > 2): n = count()", "big n\nfalse 1\ntrue 1")]
#[case::keys_alone("group by g, c", "g c\na true\nb false")]
#[case::bare_names("total: sum(x), count(), mean(y)", "x_sum count y_mean\n5 2 2.0")]
#[case::quantiles(
    "total: quantile(x, (0.25, 0.5)), q = quantile(x, (0, 0.999))",
    "x_p25 x_p50 q_p0 q_p99_9\n1.75 2.5 1.0 3.997"
)]
#[case::quantiles_of_a_set(
    "total: quantile(each number, (0.5, 1))",
    "x_p50 x_p100 y_p50 y_p100\n2.5 4.0 2.0 2.0"
)]
#[case::per_table("select x, share = x / sum(x) per table", "x share\n1 0.2\n4 0.8")]
#[case::per_a_set("select each number per_mean = 1", "")]
#[case::fill_from_itself("fill each number with mean(each number)\nselect x, y", "x y\n1.0 2.0\n4.0 2.0")]
#[case::fill_each_its_own(
    "fill each number with 0, t with 'none'\nselect x, y, t",
    "x y t\n1 2.0 p\n4 0.0 q"
)]
#[case::fill_with_a_column("fill y with x\nselect y", "y\n2.0\n4.0")]
#[case::fill_a_date(
    "add d = try_cast(t as date)\nfill d with '2026-03-01'\nselect d",
    "d\n2026-03-01\n2026-03-01"
)]
#[case::after("first 1 after 1\nselect g", "g\nb")]
#[case::comma_at_the_end("add\n  a = 1,\n  b = 2\nselect a, b", "a b\n1 2\n1 2")]
#[case::any_case("FILTER x > 1 AND g = 'b'\nSELECT g", "g\nb")]
#[case::quoted_names("rename \"Fat %\" = y\nselect \"Fat %\"", "Fat %\n2.0\n·")]
fn steps(#[case] step: &str, #[case] expected: &str) {
    let flow =
        Flow::steps("values g, x, y, t, c: ('a', 1, 2.0, 'p', true), ('b', 4, null, 'q', false)").then(step);
    if expected.is_empty() {
        assert_eq!(flow.check().unwrap_err().kind(), ErrorKind::Syntax);
        return;
    }
    assert_eq!(shown(&flow.run().unwrap_or_else(|e| panic!("{e}"))), expected);
    // The canonical text gives the same chain and the same rows.
    let again = Flow::steps(&flow.to_string());
    assert_eq!(again.to_string(), flow.to_string());
    assert_eq!(shown(&again.run().unwrap()), expected);
}

#[rstest]
#[case("add x = a + b", "add x = a + b")]
#[case("add x=((a)+(b*2))", "add x = a + b * 2")]
#[case("add x = (a + b) * 2 - (a - b)", "add x = (a + b) * 2 - (a - b)")]
#[case("filter not (a = 1 or b = 2) AND a <> 3", "filter not (a = 1 or b = 2) and a <> 3")]
#[case("filter a == 1 and a != 2", "filter a = 1 and a <> 2")]
#[case("filter -(-a) < - 2", "filter -(-a) < -2")]
#[case("add m = sum(a) WHERE (b > 1) PER (a, b)", "add m = sum(a) where (b > 1) per (a, b)")]
#[case("sort a DESC nulls FIRST, b asc", "sort a desc nulls first, b")]
#[case("total a = count()", "total\n  a = count()")]
#[case("group by a: n=count(),m=max(b)", "group by a\n  n = count()\n  m = max(b)")]
#[case("first 3 per a, b", "first 3 per a, b")]
#[case("add x = case when a>1 then 'y' else null end", "add x = case when a > 1 then 'y' else null end")]
#[case("filter a not between 1 and 2+1", "filter a not between 1 and 2 + 1")]
#[case(
    "add x = cast(a as decimal(10,2)), y = a is not null",
    "add x = cast(a as decimal(10, 2)), y = a is not null"
)]
fn canonical_text(#[case] text: &str, #[case] canonical: &str) {
    let flow = Flow::steps("values a, b: (1, 2)").then(text);
    let printed = flow.to_string();
    assert_eq!(printed.split_once("\n  1, 2\n").map(|(_, step)| step.trim_end()), Some(canonical));
    assert_eq!(Flow::steps(&printed).to_string(), printed);
    flow.check().unwrap_or_else(|e| panic!("{e}"));
}

#[test]
fn parameters_and_functions_of_ones_own() {
    let recipe = "given least = 2\ngiven name = 'b'\ndefine twice(v) = v * 2\ndefine four(v) = twice(twice(v))\n\n\
        values a, b: (1, 'a'), (2, 'b'), (3, 'b')\nfilter a >= $least and b = $name\nadd c = four(a + 1)\nfirst $least";
    let flow = Flow::recipe(recipe);
    assert_eq!(shown(&flow.run().unwrap()), "a b c\n2 b 12\n3 b 16");
    assert_eq!(shown(&flow.clone().given("least", 3).run().unwrap()), "a b c\n3 b 16");
    assert_eq!(shown(&flow.clone().given("name", "a").run().unwrap()), "a b c");
    assert_eq!(flow.clone().given("least", "many").check().unwrap_err().kind(), ErrorKind::Type);
    assert_eq!(Flow::recipe(&flow.to_string()).to_string(), flow.to_string());
}

#[test]
fn one_check_finds_every_mistake() {
    let flow = Flow::steps("values a, b: (1, 'x')")
        .then("filter aa > 1 and b > 2")
        .then("add c = lower(a), d = nope(b)")
        .then("group by e: n = count(), m = sum(b)");
    let error = flow.check().unwrap_err();
    assert_eq!(error.others().len() + 1, 6);
    assert!(error.others().iter().all(|e| e.place().is_some()));
}

/// Parameters that are lists, columns, or have no default.
#[rstest]
#[case::a_list("given wanted = ('a', 'c')", "filter g in $wanted\nselect x", &[], "x\n1")]
#[case::a_list_negated("given wanted = ('a', 'c')", "filter g not in ($wanted)\nselect x", &[], "x\n4")]
#[case::another_list("given wanted = ('a')", "filter g in $wanted\nselect x", &[("wanted", "b, c")], "x\n4")]
#[case::numbers("given wanted = (1, 2.5)", "filter x in $wanted\nselect x", &[("wanted", "4")], "x\n4")]
#[case::a_list_and_more("given wanted = ('c')", "filter g in ($wanted, 'b')\nselect x", &[], "x\n4")]
#[case::a_column("given of = column x", "select n = $of * 2", &[], "n\n2\n8")]
#[case::another_column("given of = column x", "select n = $of * 2", &[("of", "y")], "n\n4.0\n·")]
#[case::required("given least int", "filter x > $least\nselect x", &[("least", "2")], "x\n4")]
fn parameters(
    #[case] given: &str,
    #[case] steps: &str,
    #[case] values: &[(&str, &str)],
    #[case] expected: &str,
) {
    let start = "read table_of_two";
    let table = "table table_of_two\n  values g, x, y: ('a', 1, 2.0), ('b', 4, null)\n";
    let flow = Flow::recipe(&format!("{given}\n\n{table}\n{start}\n{steps}\n"));
    // The canonical text is the same recipe.
    assert_eq!(Flow::recipe(&flow.to_string()).to_string(), flow.to_string());
    let flow = values.iter().fold(flow, |flow, (name, value)| flow.given(name, value));
    assert_eq!(shown(&flow.run().unwrap_or_else(|e| panic!("{e}"))), expected);
}

#[rstest]
#[case("given since date", "filter day > $since", &[], "The recipe needs date for since, and none is given.")]
#[case("given since date", "filter day > $since", &[("since", "soon")], "since is date in the recipe, and 'soon' is none.")]
#[case("given n = (1, 'a')", "filter n > 1", &[], "The values of a list are of one type.")]
#[case("given n = column day", "first $n", &[], "$n stands for a column, day, and here stands a value.")]
#[case("given n = column day", "filter $n is null", &[("n", "milk")], "There is no column milk.")]
#[case("given n = (1, 2)", "filter n in $n", &[("n", "1,x")], "n is list(int) in the recipe, and '1,x' is none.")]
fn parameters_that_are_wrong(
    #[case] given: &str,
    #[case] step: &str,
    #[case] values: &[(&str, &str)],
    #[case] what: &str,
) {
    let flow = Flow::recipe(&format!("{given}\n\nvalues day, n: (date '2026-03-01', 1)\n{step}\n"));
    let flow = values.iter().fold(flow, |flow, (name, value)| flow.given(name, value));
    assert_eq!(flow.check().unwrap_err().what(), what);
}

/// Deliveries of two farms in months that lack some.
const MONTHS: &str = "values farm, month, grade, litres\n    'F1', date '2026-01-31', 'A', 10\n    \
    'F1', date '2026-03-31', 'B', 20\n    'F2', date '2026-02-28', 'A', 30\n    null, date '2026-02-28', null, 5";

#[rstest]
#[case::series_of_each_group(
    "densify month by interval '1' month per farm\nselect farm, month\nfilter farm is not null",
    "farm month\nF1 2026-01-31\nF1 2026-03-31\nF2 2026-02-28\nF1 2026-02-28"
)]
#[case::combinations("densify farm, grade\nselect farm, grade, litres\nlast 1", "farm grade litres\nF2 B ·")]
#[case::null_is_no_value("densify farm, grade\ntotal: n = count()", "n\n5")]
#[case::bounds(
    "densify month by interval '1' month from '2026-01-31' to date '2026-04-30'\nselect month\nlast 2",
    "month\n2026-02-28\n2026-04-30"
)]
#[case::whole_numbers("densify litres by 10 from 0\nselect litres", "litres\n10\n20\n30\n5\n0")]
#[case::of_nothing(
    "filter litres > 99\ndensify litres by 10 from 0 to 20\nselect litres",
    "litres\n0\n10\n20"
)]
#[case::of_nothing_in_groups(
    "filter litres > 99\ndensify litres by 10 from 0 to 20 per farm\nselect litres",
    "litres"
)]
#[case::filled("densify farm, month\nfill litres with 0\ntotal: n = count(), s = sum(litres)", "n s\n7 65")]
fn densified(#[case] steps: &str, #[case] expected: &str) {
    let flow = steps.lines().fold(Flow::steps(MONTHS), |flow, step| flow.then(step));
    assert_eq!(shown(&flow.run().unwrap_or_else(|e| panic!("{e}"))), expected);
}

#[rstest]
#[case("densify farm", "All values of one key occur: there is nothing to add.")]
#[case("densify farm by 1", "farm is text, of which there is no series.")]
#[case("densify month by 1", "A series of date rises by an interval of time.")]
#[case("densify month by interval '-1' day", "A series of date rises by an interval of time.")]
#[case("densify month by interval '1' hour", "A series of date rises by an interval of time.")]
#[case("densify litres by 0", "A series of whole numbers rises by a whole number above 0.")]
#[case("densify litres by litres", "There is no column litres.")]
#[case("densify litres by 1 from 'x'", "A bound of this series is int.")]
#[case("densify farm, grade per farm", "A column stands once among the keys and the columns of per.")]
fn densify_refuses(#[case] step: &str, #[case] what: &str) {
    assert_eq!(Flow::steps(MONTHS).then(step).check().unwrap_err().what(), what);
}

#[test]
fn densify_tells_what_it_added_and_adds_no_end_of_rows() {
    let table = Flow::steps(MONTHS).then("densify farm, month").run().unwrap();
    assert_eq!(table.ledger().total(churn::Event::Made), 3);
    let error = Flow::steps(MONTHS).then("densify litres by 1 to 20000000").run().unwrap_err();
    assert!(error.what().contains("rows would be added"), "{error}");
}
