//! What is wrong with a query is told, with its place in the query.

use churn::{Flow, Place};
use rstest::rstest;

use crate::tables::{self, Form};

fn error(text: &str) -> churn::Error {
    tables::query(crate::folder(), Form::Csv, text).run().expect_err(text)
}

#[rstest]
#[case::empty("", "The query is empty.", None)]
#[case::ends_early(
    "select id from milk where",
    "An expression is wanted here, and the query ends.",
    Some("")
)]
#[case::no_query("insert into milk values (1)", "insert is no query: it would change data.", Some("insert"))]
#[case::drops("DROP TABLE milk", "DROP is no query: it would change data.", Some("DROP"))]
#[case::two("select 1; select 2", "One query is wanted, and these are two statements.", Some("select"))]
#[case::word("hello", "A query starts with select, with, values or a parenthesis.", Some("hello"))]
#[case::open_text("select 'a from milk", "This text never ends.", Some("'"))]
#[case::open_name("select \"a from milk", "This name never ends.", Some("\""))]
#[case::column("select liters from milk", "There is no column liters.", Some("liters"))]
#[case::column_of("select m.liters from milk m", "The table m has no column liters.", Some("m.liters"))]
#[case::table("select id from mlk", "There is no table mlk.", Some("mlk"))]
#[case::alias("select x.id from milk m", "There is no table x in from.", Some("x.id"))]
#[case::file("select id from 'no.csv'", "There is no file no.csv.", Some("'no.csv'"))]
#[case::ambiguous(
    "select farm from milk join farms on milk.farm = farms.farm",
    "The name farm means several columns.",
    Some("farm")
)]
#[case::quoted("select \"ID\" from milk", "There is no column ID.", Some("\"ID\""))]
#[case::text_in_double_quotes(
    "select id from milk where grade = \"A\"",
    "There is no column A.",
    Some("\"A\"")
)]
#[case::not_grouped(
    "select farm, litres from milk group by farm",
    "litres is neither a key of group by nor inside an aggregate.",
    Some("litres")
)]
#[case::grouped_alias(
    "select sum(litres) as litres, litres from milk group by farm",
    "litres is neither a key of group by nor inside an aggregate.",
    Some("litres")
)]
#[case::aggregate_in_where(
    "select id from milk where sum(litres) > 1",
    "An aggregate cannot stand in where.",
    Some("sum(litres)")
)]
#[case::window_in_where(
    "select id from milk where rank() over (order by id) = 1",
    "A window cannot stand in where.",
    None
)]
#[case::window_in_having(
    "select farm from milk group by farm having rank() over (order by farm) = 1",
    "A window cannot stand in having.",
    None
)]
#[case::rank_without_window("select rank() from milk", "rank needs a window.", None)]
#[case::upper_over("select upper(farm) over () from milk", "upper takes no window.", None)]
#[case::nested_windows(
    "select sum(rank() over (order by id)) over () from milk",
    "A window cannot stand within a window.",
    None
)]
#[case::no_window("select sum(id) over w from milk", "There is no window w in the window clause.", Some("w"))]
#[case::types("select id from milk where litres > 'much'", "", None)]
#[case::unknown_function("select uper(farm) from milk", "There is no function uper.", None)]
#[case::sets_of_columns(
    "select id, farm from milk union select farm from farms",
    "The sets have 2 and 1 columns.",
    None
)]
#[case::names(
    "select * from (values (1, 2)) as t(a)",
    "1 names are given, and the table has 2 columns.",
    Some("t")
)]
#[case::rows_of_values("values (1, 2), (3)", "This row has 1 values, and the first one has 2.", None)]
#[case::in_two(
    "select id from milk where id in (select id, farm from milk)",
    "This sub-query selects 2 columns, and one is wanted.",
    None
)]
#[case::several_rows("select (select farm from farms) as x from milk", "", None)]
#[case::order_position("select id from milk order by 2", "There is no column 2: 1 are selected.", Some("2"))]
#[case::distinct_order(
    "select distinct farm from milk order by id",
    "Distinct rows are ordered by what is selected.",
    Some("id")
)]
#[case::limit("select id from milk limit farm", "A number of rows is wanted here.", Some("farm"))]
#[case::both(
    "select id from milk limit 1 fetch first 1 row only",
    "limit and fetch say the same: one of them is enough.",
    None
)]
#[case::no_condition("select * from milk join farms", "A join needs a condition.", None)]
#[case::natural(
    "select * from milk natural join (values (1)) as t(x)",
    "The two tables of this natural join have no column of the same name.",
    None
)]
#[case::frame(
    "select sum(id) over (order by id rows between 1 following and unbounded preceding) from milk",
    "This frame ends before it starts.",
    None
)]
#[case::date("select date '2026-13-01'", "'2026-13-01' is no date.", None)]
#[case::decimal(
    "select cast(1 as decimal(40, 2))",
    "A decimal has 1 to 38 digits, and not more behind the point than in all.",
    None
)]
#[case::interval("select interval 'a week' day", "This interval is not understood.", None)]
#[case::grouping(
    "select grouping(litres) from milk group by farm",
    "grouping takes one key of group by.",
    None
)]
fn mistakes_are_told(#[case] text: &str, #[case] what: &str, #[case] at: Option<&str>) {
    let error = error(text);
    assert!(error.what() == what || what.is_empty(), "{error}");
    let Some(at) = at else { return };
    let Some(Place::Text { source, span }) = error.place() else { panic!("{error}") };
    assert_eq!(source.text.get(span.start..span.end), Some(at), "{error}");
}

#[rstest]
#[case("with recursive t as (select 1 as n) select n from t", "with recursive")]
#[case("select * from milk, lateral (select 1) t", "lateral")]
#[case("select * from milk tablesample bernoulli (5)", "")]
#[case("select id from milk fetch first 2 rows with ties", "with ties")]
#[case("select id from milk order by id fetch first 10 percent rows only", "fetch first … percent")]
#[case("select sum(distinct litres) from milk", "sum(distinct …)")]
#[case("select listagg(farm, ',') within group (order by farm) from milk", "An order within listagg")]
#[case("select percentile_disc(0.5) within group (order by litres) from milk", "percentile_disc")]
#[case("select cast(farm as char(3)) from milk", "A text that is padded with blanks")]
#[case("select farm similar to 'F%' from milk", "similar to")]
#[case("select id % 2 from milk", "The operator %")]
#[case("select timestamp '2026-01-01 00:00:00' at time zone 'UTC'", "at time zone")]
#[case("select id from milk for update", "for")]
#[case("select lag(id) ignore nulls over (order by id) from milk", "ignore nulls")]
#[case("select extract(timezone_hour from day) from milk", "extract(timezone_hour from …)")]
#[case(
    "select id from milk m where exists (select * from farms f where f.farm = m.farm or f.herd > m.litres)",
    "A sub-query whose condition mixes"
)]
#[case(
    "select id, exists (select * from farms f where f.herd > m.litres) from milk m",
    "A sub-query in this place that compares"
)]
#[case(
    "select (select m.litres + f.herd from farms f where f.farm = m.farm) from milk m",
    "A column of the query around a sub-query"
)]
#[case(
    "select * from milk m join farms f on exists (select * from prices p where p.grade = m.grade)",
    "A sub-query in on"
)]
#[case("select * from dairy.milk", "A table of a schema")]
fn what_has_no_counterpart_is_told_by_its_name(#[case] text: &str, #[case] what: &str) {
    let error = error(text);
    let told = error.what();
    assert!(told.starts_with(what), "{error}");
    assert!(!error.advice().is_empty() || told.contains("wanted"), "{error}");
}

#[test]
fn a_run_stops_where_one_value_is_wanted_and_there_are_several() {
    let told = error("select id, (select herd from farms f where f.district = m.farm or 1 = 1) from milk m");
    assert!(told.to_string().contains("mixes"), "{told}");
    let told = error("select id from milk where litres = (select herd from farms)");
    assert!(
        told.to_string().contains("The sub-query gives several rows, and one value is wanted."),
        "{told}"
    );
    let told = error("select f.farm, (select m.id from milk m where m.farm = f.farm) as id from farms f");
    assert!(told.to_string().contains("A row matches"), "{told}");
}

#[test]
fn deep_and_long_queries_are_answered_or_refused() {
    let run = |text: String| tables::query(crate::folder(), Form::Csv, &text).run().map(|table| table.len());
    let many = vec!["id <> 100"; 5_000].join(" and ");
    assert_eq!(run(format!("select id from milk where {many}")).unwrap(), 12);
    let nested = format!("select {}1{} as one", "(".repeat(10_000), ")".repeat(10_000));
    assert!(run(nested).unwrap_err().what().contains("nested too deep"));
    let sets = vec!["select id from milk"; 40].join(" union all ");
    assert_eq!(run(sets).unwrap(), 480);
}

#[test]
fn repeated_names_are_numbered_and_told() {
    let flow = Flow::sql("select 1 as n, 2 as n, 3 as n_2");
    let plan = flow.plan().unwrap();
    let names: Vec<&str> = plan.columns().map(|(name, _)| name).collect();
    assert_eq!(names, ["n", "n_2", "n_2_2"]);
    assert_eq!(plan.notes()[0], "Two columns of the query are called n; the second is called n_2.");
}

/// A query in a recipe, with tables before it and steps behind it; its mistakes are told at their places in the recipe.
#[test]
fn queries_stand_in_recipes() {
    let recipe = "\
given least = 50
table farms
  values farm, herd: ('F1', 40), ('F2', 60)
sql
  select farm,
         herd * 2 as twice -- the double

  from farms
  where herd > $least or farm = 'F1'
sort twice desc
";
    let flow = Flow::recipe(recipe);
    let table = flow.run().unwrap();
    assert_eq!(table.column::<i64>("twice").unwrap(), [120, 80]);
    let again = Flow::recipe(&flow.to_string());
    assert_eq!(flow, again, "{flow}");
    let error = Flow::recipe(&recipe.replace("twice -- the", "twice, heard -- the")).run().unwrap_err();
    assert!(error.to_string().contains("line 6"), "{error}");
    assert!(error.to_string().contains("^^^^^"), "{error}");
    let quoted = Flow::steps("sql 'select ''it''''s'' as x, hurd from farms'")
        .with_table("farms", &Flow::steps("values herd: (1)"));
    let told = quoted.run().unwrap_err();
    let Some(Place::Text { source, span }) = told.place() else { panic!("{told}") };
    assert_eq!(&source.text[span.start..span.end], "hurd");
}
