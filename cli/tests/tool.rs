//! The tool, driven as a process: what it prints, where, and its exit codes.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::process::{Command, Output, Stdio};

use assert_cmd::cargo::CommandCargoExt;
use rstest::rstest;
use tempfile::TempDir;

/// A folder with a small demo.
fn demo() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let output = churn(&folder, &["demo", ".", "--rows", "2000", "--no-tour"]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    folder
}

fn churn(folder: &TempDir, arguments: &[&str]) -> Output {
    let mut command = Command::cargo_bin("churn").unwrap();
    command.current_dir(folder.path()).args(arguments).stdin(Stdio::null()).output().unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// Both outputs and the exit code, as a reader sees them.
fn told(output: &Output) -> String {
    format!(
        "{}--- stderr\n{}--- exit {}",
        text(&output.stdout),
        text(&output.stderr),
        output.status.code().unwrap_or(-1)
    )
}

const READ: &str = "read 'deliveries-*.csv' with (types = (collected_on date), bad_cells = null)";

#[rstest]
#[case::show("show", &["show", "deliveries-2026.csv", "--rows", "3"])]
#[case::profile("profile", &["profile", READ, "--pairs"])]
#[case::profile_in_full("profile_full", &["profile", "deliveries-2026.csv", "litres", "grade"])]
#[case::profile_json("profile_json", &["profile", "farms.csv", "district", "--as", "json"])]
#[case::profile_mistake("profile_mistake", &["profile", "farms.csv", "heard"])]
#[case::table("do_table", &["do", READ, "filter temp_c > 6", "group by grade: n = count(), litres = sum(litres)", "sort grade", "--as", "table"])]
#[case::csv("do_csv", &["do", "farms.csv", "first 3"])]
#[case::json("do_json", &["do", "farms.csv", "first 2", "--as", "json"])]
#[case::ndjson("do_ndjson", &["do", "farms.csv", "first 2", "select farm, herd", "--as", "ndjson"])]
#[case::markdown("do_markdown", &["do", "farms.csv", "first 3", "--as", "markdown"])]
#[case::run("run", &["run", "by-farm.churn", "--as", "table", "--ledger"])]
#[case::given("run_given", &["run", "by-farm.churn", "--given", "since=2026-08-01", "--as", "table", "--rows", "2", "--quiet"])]
#[case::bad_given("run_bad_given", &["run", "by-farm.churn", "--given", "sinse=2026-08-01"])]
#[case::plan("plan", &["plan", "by-farm.churn"])]
#[case::check("check", &["check", "by-farm.churn"])]
#[case::mistake("mistake", &["do", "farms.csv", "filter heard > 10"])]
#[case::data("data", &["do", "read 'deliveries-2026.csv' with (types = (cells date))", "total: max(cells)"])]
#[case::help_round("help_round", &["help", "round"])]
#[case::help_nothing("help_nothing", &["help", "rond"])]
#[case::values("values", &["do", "values a, b: (1, 'x'), (2, null)", "--as", "table"])]
fn prints(#[case] name: &str, #[case] arguments: &[&str]) {
    let folder = demo();
    insta::assert_snapshot!(name, told(&churn(&folder, arguments)));
}

#[test]
fn the_demo_is_the_same_to_the_byte() {
    let (a, b) = (demo(), demo());
    for file in [
        "deliveries-2024.csv",
        "deliveries-2025.csv",
        "deliveries-2026.csv",
        "farms.csv",
        "lab.ndjson",
        "tankers.json",
    ] {
        let bytes = |f: &TempDir| fs::read(f.path().join(file)).unwrap();
        assert!(!bytes(&a).is_empty());
        assert_eq!(bytes(&a), bytes(&b), "{file}");
    }
    for line in text(&fs::read(a.path().join("lab.ndjson")).unwrap()).lines() {
        serde_json::from_str::<serde_json::Value>(line).unwrap();
    }
}

#[test]
fn the_tour_runs() {
    let folder = tempfile::tempdir().unwrap();
    let output = churn(&folder, &["demo", "here", "--rows", "20000"]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    assert_eq!(text(&output.stdout).matches("\n$ churn ").count(), 24);
    assert!(text(&output.stdout).contains("delivers  farms"), "a step reads an address");
    assert!(text(&output.stderr).contains("Did you mean litres?"));
}

#[test]
fn results_are_written_and_the_ledger_is_json() {
    let folder = demo();
    let arguments = ["do", "farms.csv", "filter herd > 100", "-o", "large.csv.gz", "--ledger", "ledger.json"];
    let output = churn(&folder, &arguments);
    assert_eq!(told(&output), "--- stderr\n--- exit 0");
    let back = churn(&folder, &["do", "large.csv.gz", "total: n = count(), least = min(herd)"]);
    assert!(text(&back.stdout).starts_with("n,least\n"));
    let ledger: serde_json::Value =
        serde_json::from_slice(&fs::read(folder.path().join("ledger.json")).unwrap()).unwrap();
    let step = &ledger["steps"][1];
    assert_eq!(step["step"], "filter herd > 100");
    assert_eq!(
        step["rows_in"].as_u64().unwrap(),
        step["rows_out"].as_u64().unwrap()
            + step["not_true"].as_u64().unwrap()
            + step["unknown"].as_u64().unwrap()
    );
}

#[rstest]
#[case("group by farm: litres = sum(litres)", "farm,litres\nF1,2.5\nF2,2.0\n")]
// It is read once, also where columns must be found first.
#[case("pivot farm by grade: litres = sum(litres)", "grade,F1,F2\nA,1.5,2.0\nB,1.0,\n")]
fn standard_input_is_a_table(#[case] step: &str, #[case] expected: &str) {
    let folder = tempfile::tempdir().unwrap();
    let mut command = Command::cargo_bin("churn").unwrap();
    let mut child = command
        .current_dir(folder.path())
        .args(["do", "-", step])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let rows = b"farm,grade,litres\nF1,A,1.5\nF2,A,2\nF1,B,1\n";
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), rows).unwrap();
    assert_eq!(text(&child.wait_with_output().unwrap().stdout), expected);
}

#[test]
fn a_join_that_loses_rows_is_told_without_being_asked() {
    let folder = demo();
    std::fs::write(folder.path().join("some.csv"), "farm,size\nF0001,1\nF0001,2\n").unwrap();
    let output =
        churn(&folder, &["do", "deliveries-2026.csv", "join 'some.csv' on farm", "total: n = count()"]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let told = text(&output.stderr);
    assert!(told.contains("matched several rows, so that 700 rows became"), "{told}");
    assert!(told.contains("matched none and were left out."), "{told}");
}

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let folder = demo();
    let mut command = Command::cargo_bin("churn").unwrap();
    let mut child = command
        .current_dir(folder.path())
        .args(["do", "values a: (1)", "add b = pad_left('x', 1000000)", "select b, c = b"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), text(&output.stderr)), (Some(0), String::new()));
}

#[test]
fn completions_and_manual_pages() {
    let folder = tempfile::tempdir().unwrap();
    assert!(text(&churn(&folder, &["completions", "bash"]).stdout).contains("convert"));
    assert!(churn(&folder, &["man", "pages"]).status.success());
    assert!(fs::read_to_string(folder.path().join("pages/churn-run.1")).unwrap().contains("given"));
}

#[rstest]
#[case::no_command(&["nothing"], 2)]
#[case::no_file(&["show", "nowhere.csv"], 2)]
#[case::bad_memory(&["do", "farms.csv", "--memory", "much"], 2)]
#[case::too_little_memory(&["do", "deliveries-2026.csv", "add n = count() per farm", "--memory", "1kB"], 2)]
#[case::no_threads(&["do", "farms.csv", "--threads", "0"], 2)]
#[case::little_memory(&["do", "deliveries-2026.csv", "sort litres", "--memory", "1MB"], 0)]
#[case::version(&["--version"], 0)]
fn exit_codes(#[case] arguments: &[&str], #[case] code: i32) {
    let folder = demo();
    assert_eq!(churn(&folder, arguments).status.code(), Some(code));
}

#[test]
fn control_characters_do_not_reach_the_terminal() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), "a\u{1b}[31mb,n\n\u{1b}[2Jx\u{7f},1\ny,bad\n").unwrap();
    for arguments in [
        &["show", "t.csv"][..],
        &["check", "t.csv"],
        &["do", "t.csv", "filter \"a\u{1b}[31mc\" = 1"],
        &["do", "t.csv", "require \"a\u{1b}[31mb\" = 'y'"],
        &["do", "read 't.csv' with (types = (n int))", "total: s = sum(n)"],
        &["do", "t.csv", "--as", "table"],
    ] {
        let mut output = churn(&folder, arguments);
        if arguments[0] == "do" && !arguments.contains(&"--as") {
            output.stdout.clear();
        }
        let told = told(&output);
        assert!(!told.contains('\u{1b}') && !told.contains('\u{7f}'), "{told:?}");
    }
    // Data in a pipe is as it is.
    assert!(text(&churn(&folder, &["do", "t.csv"]).stdout).contains("\u{1b}[2Jx"));
}

#[test]
fn files_of_several_formats_are_told() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("a.csv"), "a\n1\n").unwrap();
    assert!(churn(&folder, &["convert", "a.csv", "b.parquet"]).status.success());
    let output = churn(&folder, &["do", "*"]);
    assert!(
        told(&output).contains("several formats") && told(&output).contains("b.parquet (Parquet)"),
        "{}",
        told(&output)
    );
    assert_eq!(output.status.code(), Some(2));
}

/// Help is no wider than a terminal of 80 columns, whatever is asked for.
#[test]
fn help_is_narrow() {
    let folder = tempfile::tempdir().unwrap();
    let asked =
        ["", "steps", "functions", "clauses", "options", "blank", "moving average", "run", "do", "profile"];
    let names: Vec<String> = churn::topics().map(|topic| topic.name.to_owned()).collect();
    for topic in asked.into_iter().map(str::to_owned).chain(names) {
        let output = churn(&folder, &[&["help"][..], &topic.split(' ').collect::<Vec<_>>()].concat());
        let text = String::from_utf8(output.stdout).unwrap();
        assert!(output.status.success() && !text.is_empty(), "{topic}");
        for line in text.lines() {
            assert!(line.chars().count() <= 80, "{topic}: {line}");
        }
    }
    let output = churn(&folder, &["run", "--help"]);
    assert!(String::from_utf8(output.stdout).unwrap().lines().all(|line| line.chars().count() <= 80));
}

/// Every step of the help runs over the sample data, and every option and clause.
#[test]
fn examples_of_the_help_run() {
    use churn::TopicKind as K;
    let folder = demo();
    let read = "read 'deliveries-2025.csv' with (bad_cells = null, types = (collected_on date))";
    let mut wrong = Vec::new();
    for topic in churn::topics().filter(|topic| topic.kind != K::Function) {
        let starts = topic.kind == K::ReadOption
            || ["read", "values", "sql", "given", "define", "table"].contains(&topic.name);
        let recipe = match (topic.kind, topic.name) {
            (K::Clause, "given" | "define" | "table") => format!("{}\n\n{read}", topic.example),
            _ if starts => topic.example.to_owned(),
            (K::Step, "paste") => format!("read 'quota.csv'\nselect own = farm\n{}", topic.example),
            (K::Step, "unpivot") => format!("read 'quota.csv'\n{}", topic.example),
            (K::Step, "unnest") => format!("{read}\nadd word = parts(note, ' ')\n{}", topic.example),
            _ => format!("{read}\n{}", topic.example),
        };
        let flow = churn::Flow::recipe(&recipe).in_folder(folder.path());
        let run = flow.plan().and_then(|plan| plan.run_for_effect(&churn::RunOptions::new()));
        if let Err(error) = run {
            wrong.push(format!("{} {}:\n{error}", topic.kind.title(), topic.name));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

/// Recipes come on standard input too, and a chain may declare what a recipe may.
#[test]
fn recipes_without_a_file() {
    use std::io::Write;
    let folder = demo();
    let recipe =
        "given least = 790\n\nread 'deliveries-2026.csv'\nfilter litres > $least\ntotal: n = count()\n";
    let piped = |arguments: &[&str]| {
        let mut command = Command::cargo_bin("churn").unwrap();
        command.current_dir(folder.path()).args(arguments);
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(recipe.as_bytes()).unwrap();
        text(&child.wait_with_output().unwrap().stdout)
    };
    let expected = piped(&["run", "-"]);
    assert!(expected.starts_with("n\n"), "{expected}");
    assert!(piped(&["check", "-"]).starts_with("No mistakes in 3 steps."));
    let steps =
        ["given least = 1", "define more(x) = x > $least", "filter more(litres)", "total: n = count()"];
    let chain = [&["do", "deliveries-2026.csv"][..], &steps, &["--given", "least=790"]].concat();
    assert_eq!(text(&churn(&folder, &chain).stdout), expected);
}

/// The end of an input is shown on request; names with control characters and line breaks stay on their lines.
#[test]
fn the_last_rows_are_shown() {
    let folder = tempfile::tempdir().unwrap();
    let rows: String = (0..3000).map(|i| format!("F{i},{i}\n")).collect();
    fs::write(folder.path().join("t.csv"), format!("\"fa\nrm\",\"lit\u{1b}[31mres\"\n{rows}")).unwrap();
    let shown = text(&churn(&folder, &["show", "t.csv", "--rows", "2", "--last", "2"]).stdout);
    assert!(shown.contains("the first rows") && shown.contains("the last rows"), "{shown}");
    assert!(shown.contains("\nF2998         2998\nF2999         2999\n"), "{shown}");
    assert!(!shown.contains('\u{1b}') && shown.contains("fa↵rm"), "{shown}");
    let output = churn(&folder, &["show", "-", "--last", "2"]);
    assert_eq!(output.status.code(), Some(2));
}

#[test]
fn nothing_is_read_from_the_web_offline() {
    let output = std::process::Command::new(assert_cmd::cargo::cargo_bin("churn"))
        .args(["do", "http://127.0.0.1:1/milk.csv", "first 1", "--offline"])
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(told.contains("nothing is read from addresses in this run (--offline)"), "{told}");
    assert_eq!(output.status.code(), Some(2));
}
