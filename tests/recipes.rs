//! Recipes that read recipes: answers, parameters, folders, what runs, and what is refused.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use churn::{Flow, RunOptions, Scalar};
use rstest::rstest;
use tempfile::TempDir;

/// A folder with a recipe beside its data, and one that reads it from the folder above.
fn folder() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("data")).unwrap();
    let write = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
    write("data/farms.csv", "farm,district,herd\nF1,Lakes,40\nF2,Vale,55\nF3,Vale,\nF4,Fen,12\n");
    write(
        "data/clean.churn",
        "given least = 0\ngiven districts = ('Lakes', 'Vale', 'Fen')\ngiven by_column = column herd\n\
         define is_large(x) = x >= $least\n\
         table chosen\n  read 'farms.csv'\n  filter district in $districts\n\
         table log\n  read chosen\n  total: n = count()\n  write 'log.csv'\n\
         table unused\n  read 'farms.csv'\n\
         read chosen\nfilter is_large($by_column)\n",
    );
    write(
        "data/outer.churn",
        "given least = 20\nread 'clean.churn' with (given = (least = $least))\nsort herd desc\n",
    );
    write("data/plain.churn", "given least = 0\nread 'farms.csv'\nfilter herd >= $least\n");
    write("data/round.churn", "read 'trip.churn'\n");
    write("data/trip.churn", "table t\n  read 'round.churn'\nread t\n");
    write("data/wrong.churn", "read 'farms.csv'\nfilter hurd > 3\n");
    write(
        "data/since.churn",
        "given since date\nread 'farms.csv'\nadd is_old = $since < date '2026-01-01'\n",
    );
    write("data/late.churn", "read 'farms.csv'\nrequire herd > 20\n");
    write("milk.csv", "farm,litres\nF1,10\nF2,20\nF4,30\n");
    folder
}

fn farms(folder: &TempDir, recipe: &str) -> String {
    let table = Flow::recipe(recipe).in_folder(folder.path()).run().unwrap();
    let values = table.values("farm").unwrap();
    values.iter().map(Scalar::plain).collect::<Vec<_>>().join(" ")
}

#[rstest]
#[case::as_it_is("read 'data/clean.churn'", "F1 F2 F4")]
#[case::with_a_number("read 'data/clean.churn' with (given = (least = 41))", "F2")]
#[case::with_a_list("read 'data/clean.churn' with (given = (districts = ('Vale', 'Fen')))", "F2 F4")]
#[case::with_one_value_of_a_list("read 'data/clean.churn' with (given = (districts = 'Vale'))", "F2")]
#[case::with_a_parameter("given n = 41\nread 'data/clean.churn' with (given = (least = $n))", "F2")]
#[case::with_a_needed_value(
    "read 'data/since.churn' with (given = (since = date '2025-01-01'))\nfilter is_old",
    "F1 F2 F3 F4"
)]
#[case::two_deep("read 'data/outer.churn'", "F2 F1")]
#[case::joined("read 'milk.csv'\njoin 'data/clean.churn' with (given = (least = 20)) on farm", "F1 F2")]
#[case::appended("read 'milk.csv'\nappend 'data/outer.churn'", "F1 F2 F4 F2 F1")]
#[case::own_names(
    "table chosen\n  read 'milk.csv'\nread chosen\njoin semi 'data/clean.churn' on farm",
    "F1 F2 F4"
)]
#[case::read_twice("read 'data/clean.churn'\njoin 'data/clean.churn' on farm prefix 'o_'", "F1 F2 F4")]
#[case::read_twice_for_other_values(
    "table a\n  read 'data/plain.churn' with (given = (least = 50))\nread 'data/plain.churn'\njoin anti a on farm",
    "F1 F4"
)]
#[case::in_a_table(
    "table t\n  read 'data/outer.churn'\n  select farm\nread 'milk.csv'\nfilter farm in t",
    "F1 F2"
)]
fn answers(#[case] recipe: &str, #[case] expected: &str) {
    let folder = folder();
    assert_eq!(farms(&folder, recipe), expected);
    let printed = Flow::recipe(recipe).to_string();
    assert_eq!(Flow::recipe(&printed).to_string(), printed);
    assert_eq!(farms(&folder, &printed), expected);
}

#[test]
fn what_a_recipe_writes_and_requires_is_done() {
    let folder = folder();
    farms(&folder, "read 'data/clean.churn'");
    assert_eq!(fs::read_to_string(folder.path().join("data/log.csv")).unwrap(), "n\n4\n");
    // Also in a table that nothing else needs.
    fs::remove_file(folder.path().join("data/log.csv")).unwrap();
    farms(&folder, "table t\n  read 'data/clean.churn'\nread 'milk.csv'");
    assert!(folder.path().join("data/log.csv").exists());
    let late = Flow::recipe("table t\n  read 'data/late.churn'\nread 'milk.csv'").in_folder(folder.path());
    let error = late.run().unwrap_err().to_string();
    assert!(error.contains("require herd > 20"), "{error}");
}

#[test]
fn the_ledger_tells_of_its_steps() {
    let folder = folder();
    let flow = Flow::recipe("read 'data/outer.churn'\nfirst 1").in_folder(folder.path());
    let ledger = flow.run_with(&RunOptions::new()).unwrap().ledger().to_string();
    for told in ["data/outer.churn", "clean.churn", "chosen", "filter is_large($by_column)", "sort herd desc"]
    {
        assert!(ledger.contains(told), "{told} in\n{ledger}");
    }
    assert!(!ledger.contains("unused"), "{ledger}");
}

#[rstest]
#[case::circle("read 'data/round.churn'", "trip.churn", "reads itself")]
#[case::mistake_inside("read 'data/wrong.churn'", "wrong.churn, line 2", "Did you mean herd?")]
#[case::no_such_parameter(
    "read 'data/clean.churn' with (given = (lest = 3))",
    "no parameter lest",
    "Did you mean least?"
)]
#[case::other_type(
    "read 'data/clean.churn' with (given = (least = 'many'))",
    "least is int in the recipe",
    "'many'"
)]
#[case::fraction("read 'data/clean.churn' with (given = (least = 2.5))", "least is int in the recipe", "2.5")]
#[case::other_option("read 'data/clean.churn' with (types = (farm text))", "types is not expected", "given")]
#[case::not_given(
    "read 'data/since.churn'",
    "The recipe needs date for since",
    "with (given = (since = date '2026-01-31'))"
)]
#[case::not_there("read 'data/none.churn'", "none.churn cannot be read", "")]
#[case::among_others("read 'data/clean.churn', 'milk.csv'", "is a recipe, not data", "")]
#[case::data_of_that_name("read 'data/fake.churn'", "is no recipe", "")]
fn refused(#[case] recipe: &str, #[case] what: &str, #[case] next: &str) {
    let folder = folder();
    fs::write(folder.path().join("data/fake.churn"), b"PAR1\0\0\0\0PAR1").unwrap();
    let error = Flow::recipe(recipe).in_folder(folder.path()).run().unwrap_err().to_string();
    assert!(error.contains(what) && error.contains(next), "{error}");
}

#[test]
fn a_recipe_that_is_read_is_not_written_over() {
    let folder = folder();
    let recipe = "read 'data/clean.churn'\nwrite 'data/clean.churn' with (format = csv)";
    let error = Flow::recipe(recipe).in_folder(folder.path()).run().unwrap_err().to_string();
    assert!(error.contains("clean.churn"), "{error}");
    assert!(fs::read_to_string(folder.path().join("data/clean.churn")).unwrap().starts_with("given least"));
}

/// Texts and names with line breaks and quotes stay what they are where a table's steps are printed deeper.
#[rstest]
#[case("filter note = 'gate\n  closed'")]
#[case("filter note = 'it''s\nclosed'\n  add more = 'a\n\nb' || note")]
#[case("rename \"a\n b\" = note\n  filter \"a\n b\" = 'x'")]
#[case("group by note\n    n = count()\n    what = max('a\nb')")]
fn tables_read_back_as_they_are(#[case] steps: &str) {
    let text = format!("table t\n  values note: ('a'), ('gate\n  closed')\n  {steps}\n\nread t\n");
    let recipe = Flow::recipe(&text);
    recipe.check().unwrap_or_else(|e| panic!("{text}\n{e}"));
    let printed = recipe.to_string();
    assert_eq!(Flow::recipe(&printed), recipe, "{printed}");
    assert_eq!(Flow::recipe(&printed).to_string(), printed);
}
