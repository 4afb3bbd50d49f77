//! Queries among the other things of a recipe: parameters, functions, tables of all kinds, other recipes, a user's own.

use std::fs;

use churn::extend::{Catalogue, ScalarFunction};
use churn::{ErrorKind, Flow, RunOptions, Scalar, Table};
use rstest::rstest;

/// The rows as text: cells with blanks between them, rows with strokes.
fn cells(table: &Table) -> String {
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let cell = |row: usize, name: &String| match table.value(row, name).unwrap() {
        Scalar::Null => "·".to_owned(),
        value => value.plain(),
    };
    let row = |row: usize| names.iter().map(|name| cell(row, name)).collect::<Vec<_>>().join(" ");
    (0..table.len()).map(row).collect::<Vec<_>>().join(" / ")
}

const TABLES: &str = "\
given least = 50
given farms = ('F1', 'F3')
given key = column farm
define doubled(x) = x * 2
table milk
  values farm, day, litres, grade
    'F1', 1, 120.5, 'A'
    'F2', 1, 80.25, 'B'
    'F1', 2, 30.0, 'A'
    'F3', 2, null, 'B'
table places
  values farm, district: ('F1', 'Lakes'), ('F2', 'Vale')
";

#[rstest]
#[case::a_parameter("select farm from milk where litres > $least", "F1 / F2")]
#[case::a_parameter_with_a_colon("select farm from milk where litres > :least", "F1 / F2")]
#[case::a_list("select litres from milk where farm in ($farms)", "120.5 / 30.0 / ·")]
#[case::a_column("select $key as who from milk where day = 2", "F1 / F3")]
#[case::a_defined_function("select farm, doubled(day) as d from milk where litres is null", "F3 4")]
#[case::a_unit_of_time("select start_of(month, date '2026-02-17') as m", "2026-02-01")]
#[case::a_function_of_the_language("select title('milk') as t, band(437, 100) as b", "Milk 400")]
#[case::an_aggregate_of_the_language(
    "select median(litres) as m, max_by(farm, litres) as f from milk",
    "80.25 F1"
)]
#[case::a_percentile_of_the_language("select quantile(litres, 0.5) as q from milk", "80.25")]
#[case::two_tables(
    "select m.day, p.district from milk m join places p using (farm)",
    "1 Lakes / 1 Vale / 2 Lakes"
)]
#[case::names_of_sub_queries_are_free(
    "with sub as (select 1 as n) select n, (select max(day) from milk) as d from sub where n in (select day from milk)",
    "1 2"
)]
fn queries_use_what_a_recipe_declares(#[case] query: &str, #[case] answer: &str) {
    let flow = Flow::recipe(&format!("{TABLES}sql\n  {query}\n"));
    let table = flow.run().unwrap_or_else(|e| panic!("{query}\n{e}"));
    assert_eq!(cells(&table), answer, "{}", flow.expanded().unwrap());
    let again = Flow::recipe(&flow.expanded().unwrap().to_string());
    assert_eq!(cells(&again.run().unwrap()), answer);
}

/// A table whose name a query would give to a sub-query of its own keeps it.
#[test]
fn tables_are_called_as_none_is() {
    let recipe = "table sub\n  values n: (1), (2)\ntable below\n  values n: (5)\n\
        sql\n  select n from sub where n > (select min(n) from below) - 4 union all select n from below where n > 0\n";
    let flow = Flow::recipe(recipe);
    assert_eq!(cells(&flow.run().unwrap()), "2 / 5");
    let expanded = flow.expanded().unwrap().to_string();
    assert!(expanded.contains("table sub_2\n") && expanded.contains("table below_2\n"), "{expanded}");
}

/// Several chains of a recipe may start with a query, and a query may use the one before.
#[test]
fn queries_use_each_other() {
    let recipe = format!(
        "{TABLES}table large\n  sql 'select farm, litres from milk where litres > 50'\n  \
         add twice = litres * 2\nsql\n  select l.farm, l.twice, p.district from large l join places p using (farm)\n\
         sort farm desc\n"
    );
    let flow = Flow::recipe(&recipe);
    assert_eq!(cells(&flow.run().unwrap()), "F2 160.5 Vale / F1 241.0 Lakes");
    assert_eq!(Flow::recipe(&flow.to_string()), flow);
    // A query on lines of its own in a table, with a quote in its comment.
    let lines =
        "table t\n  sql\n    select 1 as n -- it's one\n\n    union select 2\n  filter n > 1\nread t\n";
    let flow = Flow::recipe(lines);
    assert_eq!(cells(&flow.run().unwrap()), "2");
    assert_eq!(Flow::recipe(&flow.to_string()), flow, "{flow}");
}

/// The columns of a pivot are known when it has run: a query over them is checked then.
#[test]
fn a_query_reads_columns_that_only_a_run_finds() {
    let recipe = format!(
        "{TABLES}table wide\n  read milk\n  pivot grade by day: litres = sum(litres)\n\
         sql\n  select day, \"A\" as a from wide order by day desc\n"
    );
    let flow = Flow::recipe(&recipe);
    assert_eq!(cells(&flow.run().unwrap()), "2 30.0 / 1 120.5");
    let plan = flow.plan().unwrap();
    assert!(plan.open().is_some());
    let wrong = Flow::recipe(&recipe.replace("\"A\" as a", "\"Q\" as a"));
    assert_eq!(wrong.run().unwrap_err().what(), "There is no column Q.");
}

#[test]
fn a_recipe_that_holds_a_query_is_read_by_others() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("of")).unwrap();
    fs::write(folder.path().join("of/milk.csv"), "farm,litres\nF1,120\nF2,80\n").unwrap();
    fs::write(folder.path().join("milk.csv"), "farm,litres\nF9,1\n").unwrap();
    let inner = "given least = 100\nsql\n  select farm, litres from 'milk.csv' where litres > $least\n";
    fs::write(folder.path().join("of/large.churn"), inner).unwrap();
    let run = |text: &str| Flow::recipe(text).in_folder(folder.path()).run();
    assert_eq!(cells(&run("read 'of/large.churn'").unwrap()), "F1 120");
    let given = "read 'of/large.churn' with (given = (least = 10))\nappend 'milk.csv'";
    assert_eq!(cells(&run(given).unwrap()), "F1 120 / F2 80 / F9 1");
    let both = "sql\n  select l.farm from 'of/large.churn' l union all select farm from 'milk.csv'\n";
    assert_eq!(cells(&run(both).unwrap()), "F1 / F9");
    fs::write(folder.path().join("of/large.churn"), inner.replace("litres >", "liters >")).unwrap();
    let told = run("read 'of/large.churn'").unwrap_err().to_string();
    assert!(told.contains("large.churn, line 3") && told.contains("Did you mean litres?"), "{told}");
}

#[test]
fn files_globs_and_folders_stand_in_from() {
    let folder = tempfile::tempdir().unwrap();
    for (name, text) in [("milk-1.csv", "farm,litres\nF1,120\n"), ("milk-2.csv", "farm,litres\nF2,80\n")] {
        fs::write(folder.path().join(name), text).unwrap();
    }
    fs::create_dir_all(folder.path().join("parts/year=2026")).unwrap();
    fs::write(folder.path().join("parts/year=2026/a.csv"), "litres\n5\n").unwrap();
    let run = |text: &str| Flow::sql(text).in_folder(folder.path()).run();
    assert_eq!(cells(&run("select sum(litres) as s from 'milk-*.csv'").unwrap()), "200");
    assert_eq!(cells(&run("select year, litres from 'parts'").unwrap()), "2026 5");
    // A file may be read several times, and is opened once.
    let twice = "select a.farm from 'milk-1.csv' a join 'milk-1.csv' b on a.farm = b.farm";
    assert_eq!(cells(&run(twice).unwrap()), "F1");
    fs::write(folder.path().join("query.sql"), "select farm\nfrom 'milk-2.csv'").unwrap();
    assert_eq!(cells(&Flow::sql_file(folder.path().join("query.sql")).unwrap().run().unwrap()), "F2");
    fs::write(folder.path().join("bytes.sql"), b"PAR1\x00\x01").unwrap();
    for (file, what) in [("bytes.sql", "is no query"), ("none.sql", "cannot be read")] {
        let error = Flow::sql_file(folder.path().join(file)).unwrap_err();
        assert!(error.what().contains(what), "{error}");
    }
}

/// A query uses functions and tables of a user's own, given to the flow or to its run.
#[test]
fn a_catalogue_serves_queries() {
    let gallons = ScalarFunction::of_values("gallons", |litres: Option<f64>| Some(litres? * 0.25));
    let catalogue = Catalogue::new().with(gallons).unwrap();
    let milk = Flow::steps("values litres: (100.0), (20.0)");
    let query = Flow::sql("select gallons(litres) as g from milk where gallons(litres) > 10")
        .with_table("milk", &milk);
    assert_eq!(cells(&query.clone().extended(&catalogue).run().unwrap()), "25.0");
    let options = RunOptions::new().catalogue(&catalogue).threads(2);
    assert_eq!(cells(&query.run_with(&options).unwrap()), "25.0");
    assert_eq!(query.plan_with(&options).unwrap().columns().next().unwrap().0, "g");
    let batches: usize = query.batches_with(&options).unwrap().map(|batch| batch.unwrap().num_rows()).sum();
    assert_eq!(batches, 1);
    assert_eq!(query.run().unwrap_err().kind(), ErrorKind::Name);
}

/// What a flow and its run are given must not differ under one name.
#[test]
fn two_catalogues_are_together_where_they_agree() {
    let made = |factor: f64| {
        let function =
            ScalarFunction::of_values("gallons", move |litres: Option<f64>| Some(litres? * factor));
        Catalogue::new().with(function).unwrap()
    };
    let one = made(0.25);
    let flow = Flow::steps("values litres: (100.0)").add("g = gallons(litres)").extended(&one);
    let same = RunOptions::new().catalogue(&one);
    assert_eq!(cells(&flow.run_with(&same).unwrap()), "100.0 25.0");
    let other = RunOptions::new().catalogue(&made(0.5));
    let error = flow.run_with(&other).unwrap_err();
    assert!(error.to_string().contains("gallons"), "{error}");
}

#[test]
fn mistakes_of_a_flow_are_kept() {
    let milk = Flow::steps("values litres: (100.0)");
    let twice = Flow::sql("select * from milk").with_table("milk", &milk).with_table("milk", &milk);
    assert_eq!(twice.run().unwrap_err().what(), "There is a table milk already.");
    assert_eq!(twice.expanded().unwrap_err().what(), "There is a table milk already.");
    let behind = Flow::sql("select litres from milk").with_table("milk", &milk).filter("liters > 1");
    let told = behind.run().unwrap_err().to_string();
    assert!(told.contains("Did you mean litres?"), "{told}");
    assert!(Flow::steps("values a: (1)").then("sql 'select 1 as n'").run().is_err(), "a chain has one start");
    let step: churn::steps::Step = churn::steps::Sql::new("select 1 as n").into();
    assert_eq!(step, "sql 'select 1 as n'".parse().unwrap());
    assert_eq!(cells(&Flow::of(step).run().unwrap()), "1");
}
