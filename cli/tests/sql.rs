//! `churn sql` and queries in files, as a user types them.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use assert_cmd::Command;
use rstest::rstest;
use tempfile::TempDir;

fn folder() -> TempDir {
    let folder = TempDir::new().unwrap();
    let milk = "farm,litres,grade\nF1,120.5,A\nF2,80.25,B\nF1,30,\n";
    fs::write(folder.path().join("milk.csv"), milk).unwrap();
    fs::write(folder.path().join("farms.csv"), "farm,district\nF1,Lakes\nF3,Vale\n").unwrap();
    fs::write(folder.path().join("dotted.csv"), "farm;litres\nF1;1,5\n").unwrap();
    let query =
        "-- litres of each farm\nselect farm, sum(litres) as litres\nfrom 'milk.csv'\ngroup by farm\n";
    fs::write(folder.path().join("by-farm.sql"), query).unwrap();
    folder
}

/// Standard output, standard error and the exit code.
fn told(folder: &TempDir, arguments: &[&str]) -> (String, String, i32) {
    let output =
        Command::cargo_bin("churn").unwrap().current_dir(folder.path()).args(arguments).output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (text(output.stdout), text(output.stderr), output.status.code().unwrap())
}

#[rstest]
#[case::a_file_in_quotes(&["sql", "select farm from 'milk.csv' where litres > 100"], "farm\nF1\n")]
#[case::an_input_by_its_name(&["sql", "select count(*) as n from milk", "milk.csv"], "n\n3\n")]
#[case::two_inputs(
    &["sql", "select m.farm, f.district from milk m join farms f using (farm)", "milk.csv", "farms.csv"],
    "farm,district\nF1,Lakes\nF1,Lakes\n"
)]
#[case::a_table_by_a_name(
    &["sql", "select sum(litres) as s from t", "--table", "t=read 'dotted.csv' with (separator = ';', decimal = ',')"],
    "s\n1.5\n"
)]
#[case::a_query_in_a_file(&["sql", "by-farm.sql"], "farm,litres\nF1,150.5\nF2,80.25\n")]
#[case::run_from_a_file(&["run", "by-farm.sql", "--as", "ndjson"], "{\"farm\":\"F1\",\"litres\":150.5}\n{\"farm\":\"F2\",\"litres\":80.25}\n")]
#[case::a_step_before_others(
    &["do", "sql 'select farm, litres from ''milk.csv'''", "filter litres < 100", "sort litres"],
    "farm,litres\nF1,30.0\nF2,80.25\n"
)]
#[case::the_recipe(
    &["sql", "by-farm.sql", "--as", "recipe"],
    "read 'milk.csv'\ngroup by farm\n  litres = sum(litres)\n"
)]
#[case::the_recipe_of_a_chain(&["do", "milk.csv", "filter litres>1", "--as", "recipe"], "read 'milk.csv'\nfilter litres > 1\n")]
#[case::without_a_table(&["sql", "select 1 + 1 as two"], "two\n2\n")]
fn queries_are_answered(#[case] arguments: &[&str], #[case] answer: &str) {
    let (out, err, code) = told(&folder(), arguments);
    assert_eq!((out.as_str(), code), (answer, 0), "{err}");
}

#[rstest]
#[case::a_mistake(&["sql", "select liters from 'milk.csv'"], "There is no column liters.\n  the query:\n    select liters from 'milk.csv'\n           ^^^^^^\n  Did you mean litres?\n")]
#[case::in_a_file(&["check", "by-farm.sql"], "")]
#[case::an_input_without_a_name(
    &["sql", "select 1", "read 'dotted.csv' with (separator = ';')"],
    "The input read 'dotted.csv' with (separator = ';') has no name by which the query could call it."
)]
#[case::a_name_twice(&["sql", "select 1", "milk.csv", "--table", "milk=farms.csv"], "There is a table milk already.")]
#[case::no_table(&["sql", "select * from milk"], "There is no table milk.")]
#[case::no_query(&["sql", "drop table milk"], "drop is no query: it would change data.")]
fn mistakes_end_with_2(#[case] arguments: &[&str], #[case] message: &str) {
    let folder = folder();
    if message.is_empty() {
        fs::write(folder.path().join("by-farm.sql"), "select farm\nfrom 'milk.csv'\nwhere litre > 1\n")
            .unwrap();
    }
    let (out, err, code) = told(&folder, arguments);
    assert_eq!((out.as_str(), code), ("", 2), "{err}");
    let message = if message.is_empty() {
        "by-farm.sql, line 3:\n    where litre > 1\n          ^^^^^\n"
    } else {
        message
    };
    assert!(err.contains(message), "{err}");
}

#[test]
fn a_query_is_planned_written_and_accounted_for() {
    let folder = folder();
    let (plan, _, code) = told(&folder, &["plan", "by-farm.sql"]);
    assert_eq!(code, 0);
    assert!(plan.contains("group by farm"), "{plan}");
    let arguments = ["sql", "select * from 'milk.csv' where grade = 'A'", "-o", "a.csv", "--ledger"];
    let (out, err, code) = told(&folder, &arguments);
    assert_eq!((out.as_str(), code), ("", 0));
    assert!(err.contains("1 unknown: grade is null"), "{err}");
    assert_eq!(fs::read_to_string(folder.path().join("a.csv")).unwrap(), "farm,litres,grade\nF1,120.5,A\n");
    let (_, err, code) = told(&folder, &["sql", "select * from 'milk.csv'", "-o", "milk.csv"]);
    assert_eq!(code, 2, "{err}");
    assert!(
        fs::read_to_string(folder.path().join("milk.csv"))
            .unwrap()
            .starts_with("farm,litres,grade\nF1,120.5")
    );
}

/// Standard input is looked at for its columns, and read once.
#[test]
fn a_query_reads_standard_input() {
    let folder = folder();
    let mut command = Command::cargo_bin("churn").unwrap();
    let query = "select farm, count(*) as n from '-' group by farm order by farm";
    let output = command
        .current_dir(folder.path())
        .args(["sql", query])
        .write_stdin("farm,x\nB,1\nA,2\nB,3\n")
        .output();
    let output = output.unwrap();
    assert_eq!(
        String::from_utf8_lossy(&output.stdout),
        "farm,n\nA,1\nB,2\n",
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
}
