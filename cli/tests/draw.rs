//! `churn draw`, and recipes that end in a chart, as a user types them.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use assert_cmd::Command;
use rstest::rstest;
use tempfile::TempDir;

fn folder() -> TempDir {
    let folder = TempDir::new().unwrap();
    let rows: String =
        (0..40).map(|i| format!("F{},{},{}\n", i % 3, i * 7 % 50, ["A", "B"][i % 2])).collect();
    fs::write(folder.path().join("milk.csv"), format!("farm,litres,grade\n{rows}")).unwrap();
    fs::write(folder.path().join("chart.churn"), "read 'milk.csv'\ndraw histogram litres by grade\n")
        .unwrap();
    let taps = "read 'milk.csv'\ndraw box litres over grade to 'box.svg'\nfirst 1\ndraw bars litres over farm to 'bars.png'\n";
    fs::write(folder.path().join("taps.churn"), taps).unwrap();
    folder
}

/// Standard output, standard error and the exit code.
fn told(folder: &TempDir, arguments: &[&str]) -> (String, String, i32) {
    let mut command = Command::cargo_bin("churn").unwrap();
    let output = command.env("TERM", "xterm").current_dir(folder.path()).args(arguments).output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    (text(output.stdout), text(output.stderr), output.status.code().unwrap())
}

#[rstest]
#[case::a_pipe_takes_svg(&["draw", "milk.csv", "histogram litres"], "<svg xmlns=")]
#[case::characters(&["draw", "milk.csv", "histogram litres", "--as", "text"], "Histogram of litres\n\nrows\n")]
#[case::figures(&["draw", "milk.csv", "histogram litres with (width = 25)", "--as", "csv"], "litres_from,litres_to,rows\n0,25,")]
#[case::a_table(&["draw", "milk.csv", "box litres over grade", "--as", "table"], "2 rows, 8 columns\n\ngrade  low")]
#[case::steps(&["draw", "milk.csv", "group by farm: n = count()", "bars n over farm", "--as", "csv"], "farm,n\nF0,14\n")]
#[case::with_its_word(&["draw", "milk.csv", "draw histogram litres", "--as", "text"], "Histogram of litres\n")]
#[case::do_ends_in_a_chart(&["do", "milk.csv", "draw histogram litres", "--as", "csv"], "litres_from,litres_to,rows\n")]
#[case::a_recipe(&["run", "chart.churn"], "<svg xmlns=")]
#[case::a_recipe_shows_figures(&["run", "chart.churn", "--as", "table"], "10 rows, 4 columns\n\ngrade  litres_from")]
fn charts_are_shown(#[case] arguments: &[&str], #[case] start: &str) {
    let (out, err, code) = told(&folder(), arguments);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.starts_with(start), "{out}");
}

#[rstest]
#[case(&["draw", "milk.csv", "histogram litres", "-o", "out.svg", "--size", "400x300"], "out.svg", b"<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"400\"" as &[u8])]
#[case(&["draw", "milk.csv", "histogram litres", "-o", "out.png", "--dark"], "out.png", b"\x89PNG")]
#[case(&["draw", "milk.csv", "histogram litres", "-o", "out.csv"], "out.csv", b"litres_from")]
#[case(&["draw", "milk.csv", "histogram litres to 'own.svg'"], "own.svg", b"<svg")]
#[case(&["run", "chart.churn", "-o", "out.svg"], "out.svg", b"<svg")]
#[case(&["run", "taps.churn"], "box.svg", b"<svg")]
#[case(&["run", "taps.churn"], "bars.png", b"\x89PNG")]
fn charts_are_written(#[case] arguments: &[&str], #[case] file: &str, #[case] start: &[u8]) {
    let folder = folder();
    let (out, err, code) = told(&folder, arguments);
    assert_eq!((code, out.as_str(), err.as_str()), (0, "", ""));
    assert!(fs::read(folder.path().join(file)).unwrap().starts_with(start));
}

#[rstest]
#[case::a_mistake(&["draw", "milk.csv", "histogram liters"], 2, "Did you mean litres?")]
#[case::an_ending(&["draw", "milk.csv", "histogram litres", "-o", "out.gif"], 2, "Charts are written as .svg or .png, and their figures as .csv.")]
#[case::its_input(&["draw", "milk.csv", "histogram litres", "-o", "milk.csv"], 2, "milk.csv")]
#[case::a_size(&["draw", "milk.csv", "histogram litres", "--size", "1x1"], 2, "write a size from 240x180 to 8000x8000")]
#[case::too_many(&["draw", "milk.csv", "bars litres over farm"], 1, "Group first: group by farm: litres = sum(litres)")]
#[case::another_shape(&["do", "milk.csv", "draw histogram litres", "--as", "json"], 2, "as a table or as csv")]
fn what_cannot_be_drawn_is_told(#[case] arguments: &[&str], #[case] code: i32, #[case] what: &str) {
    let folder = folder();
    let before = fs::read(folder.path().join("milk.csv")).unwrap();
    let (out, err, found) = told(&folder, arguments);
    assert_eq!((found, out.as_str()), (code, ""), "{err}");
    assert!(err.contains(what), "{err}");
    assert_eq!(fs::read(folder.path().join("milk.csv")).unwrap(), before);
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 3, "nothing is left");
}

#[rstest]
#[case::a_page(&["report", "taps.churn", "--title", "Milk & more", "--date", "2026-03-01"], "<h1>Milk &amp; more</h1>")]
#[case::its_name(&["report", "chart.churn"], "<h1>chart</h1>")]
#[case::data(&["report", "chart.churn", "--json", "--digests"], "\"digest\": \"")]
#[case::a_plan(&["plan", "taps.churn", "--as", "svg"], "<title>The plan</title>")]
fn reports_and_plans_are_given_out(#[case] arguments: &[&str], #[case] part: &str) {
    let (out, err, code) = told(&folder(), arguments);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.contains(part), "{out}");
}

#[rstest]
#[case::no_recipe(&["report", "none.churn", "-o", "report.html"], "none.churn")]
#[case::a_mistake(&["report", "wrong.churn", "-o", "report.html"], "Did you mean litres?")]
#[case::a_run_that_fails(&["report", "fails.churn", "-o", "report.html"], "litres < 0")]
#[case::its_input(&["report", "chart.churn", "-o", "milk.csv"], "milk.csv is read")]
fn a_report_that_cannot_be_leaves_nothing(#[case] arguments: &[&str], #[case] what: &str) {
    let folder = folder();
    fs::write(folder.path().join("wrong.churn"), "read 'milk.csv'\nsort liters\n").unwrap();
    fs::write(folder.path().join("fails.churn"), "read 'milk.csv'\nrequire litres < 0\n").unwrap();
    let (out, err, code) = told(&folder, arguments);
    assert!(code > 0 && out.is_empty());
    assert!(err.contains(what), "{err}");
    assert!(!folder.path().join("report.html").exists());
    assert!(fs::read_to_string(folder.path().join("milk.csv")).unwrap().starts_with("farm,litres"));
}
