//! What is written, where it stands, and what is never lost.

#![cfg(unix)]
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::{Command, Output, Stdio};
use std::time::Duration;

use rstest::rstest;
use tempfile::TempDir;

fn tool() -> std::path::PathBuf {
    assert_cmd::cargo::cargo_bin("churn")
}

fn churn(folder: &Path, arguments: &[&str]) -> Output {
    Command::new(tool()).current_dir(folder).args(arguments).stdin(Stdio::null()).output().unwrap()
}

fn told(output: &Output) -> String {
    String::from_utf8_lossy(&[output.stdout.as_slice(), output.stderr.as_slice()].concat()).into_owned()
}

const ROWS: &str = "farm,litres\nF1,20\nF2,30\n";

/// A folder with a table, and links to it.
fn folder() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), ROWS).unwrap();
    fs::create_dir(folder.path().join("d")).unwrap();
    symlink("t.csv", folder.path().join("link.csv")).unwrap();
    fs::hard_link(folder.path().join("t.csv"), folder.path().join("hard.csv")).unwrap();
    folder
}

#[rstest]
#[case::output(&["do", "t.csv", "first 1", "-o", "t.csv"])]
#[case::by_another_spelling(&["do", "t.csv", "first 1", "-o", "./d/../t.csv"])]
#[case::by_a_link(&["do", "t.csv", "first 1", "-o", "link.csv"])]
#[case::by_a_hard_link(&["do", "t.csv", "first 1", "-o", "hard.csv"])]
#[case::source_by_a_link(&["do", "link.csv", "first 1", "-o", "t.csv"])]
#[case::a_tap(&["do", "t.csv", "write 't.csv'", "first 1"])]
#[case::appending(&["do", "t.csv", "write 't.csv' with (mode = append)"])]
#[case::converting(&["convert", "t.csv", "hard.csv"])]
#[case::in_a_glob(&["do", "*.csv", "first 1", "-o", "t.csv"])]
#[case::a_joined_file(&["do", "values farm: ('F1')", "join 't.csv' on farm", "-o", "t.csv"])]
#[case::rejects(&["do", "read 't.csv' with (bad_rows = 't.csv')"])]
#[case::rejects_and_output(&["do", "read 't.csv' with (bad_rows = 'r.csv')", "-o", "r.csv"])]
#[case::ledger_and_source(&["do", "t.csv", "--ledger", "link.csv"])]
#[case::ledger_and_output(&["do", "t.csv", "-o", "r.csv", "--ledger", "d/../r.csv"])]
#[case::two_writes(&["do", "t.csv", "write 'r.csv'", "write './r.csv'"])]
#[case::within_a_split_folder(&["do", "read 's/farm=F1/part-1.csv'", "write 's' with (format = csv, split_by = (litres))"])]
#[case::standard_output_twice(&["do", "t.csv", "write '-'", "write '/dev/stdout'"])]
#[case::standard_output_and_result(&["do", "t.csv", "write '-'", "first 1"])]
#[case::a_folder(&["do", "t.csv", "-o", "d", "--quiet"])]
#[case::a_folder_by_format(&["do", "t.csv", "write 'd' with (format = csv)"])]
#[case::no_folder_for_rejects(&["do", "read 't.csv' with (bad_rows = 'none/r.csv')"])]
#[case::no_folder_for_the_ledger(&["do", "t.csv", "--ledger", "none/l.json"])]
fn what_would_lose_something_is_refused_before_the_run(#[case] arguments: &[&str]) {
    let folder = folder();
    fs::create_dir_all(folder.path().join("s/farm=F1")).unwrap();
    fs::write(folder.path().join("s/farm=F1/part-1.csv"), "litres\n20\n").unwrap();
    let output = churn(folder.path(), arguments);
    assert_eq!(output.status.code(), Some(2), "{}", told(&output));
    assert_eq!(fs::read_to_string(folder.path().join("t.csv")).unwrap(), ROWS);
    assert!(!folder.path().join("r.csv").exists());
    assert!(folder.path().join("s/farm=F1/part-1.csv").exists());
}

#[test]
fn links_are_followed_and_the_mode_is_kept() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    fs::write(at("out.csv"), "old\n").unwrap();
    fs::set_permissions(at("out.csv"), fs::Permissions::from_mode(0o600)).unwrap();
    symlink("out.csv", at("to-out.csv")).unwrap();
    let output = churn(folder.path(), &["do", "t.csv", "first 1", "-o", "to-out.csv"]);
    assert!(output.status.success(), "{}", told(&output));
    assert_eq!(fs::read_to_string(at("out.csv")).unwrap(), "farm,litres\nF1,20\n");
    assert_eq!(fs::metadata(at("out.csv")).unwrap().mode() & 0o777, 0o600);
    assert!(fs::symlink_metadata(at("to-out.csv")).unwrap().is_symlink());
}

#[rstest]
#[case::fifo(
    "mkfifo f.csv; (cat f.csv > got &); churn do t.csv -o f.csv; sleep 0.2; test -p f.csv; cat got",
    ROWS
)]
#[case::compressed(
    "mkfifo f.csv.gz; (cat f.csv.gz > got.gz &); churn do t.csv -o f.csv.gz; sleep 0.2; gunzip -c got.gz",
    ROWS
)]
#[case::nothing(
    "churn do t.csv \"write '/dev/null' with (format = csv)\"; test -c /dev/null && echo kept",
    "kept\n"
)]
#[case::standard_output(
    "churn do t.csv \"write '/dev/stdout' with (format = csv)\" | cat; test -L /dev/stdout && echo kept",
    "farm,litres\nF1,20\nF2,30\nkept\n"
)]
fn what_is_no_regular_file_is_written_into(#[case] line: &str, #[case] expected: &str) {
    let folder = folder();
    let script = format!("churn() {{ '{}' \"$@\"; }}; {line}", tool().display());
    let mut command = Command::new("timeout");
    let output =
        command.args(["20", "bash", "-c", &script]).current_dir(folder.path()).stdin(Stdio::null()).output();
    assert_eq!(told(&output.unwrap()), expected);
}

#[rstest]
#[case::another_file("notes.txt")]
#[case::a_file_at_a_key("farm=F1/notes.txt")]
#[case::a_hidden_file(".keep")]
#[case::another_key("grade=A/part-1.csv")]
#[case::a_folder_within("farm=F1/grade=A/part-1.csv")]
fn a_folder_is_replaced_only_if_all_in_it_is_its_own(#[case] other: &str) {
    let folder = folder();
    let split = ["do", "t.csv", "write 'out' with (format = csv, split_by = farm)"];
    assert!(churn(folder.path(), &split).status.success());
    assert!(churn(folder.path(), &split).status.success(), "what a step wrote is replaced");
    let other = folder.path().join("out").join(other);
    fs::create_dir_all(other.parent().unwrap()).unwrap();
    fs::write(&other, "mine").unwrap();
    let output = churn(folder.path(), &split);
    assert_eq!(output.status.code(), Some(2), "{}", told(&output));
    assert_eq!(fs::read_to_string(other).unwrap(), "mine");
}

#[test]
fn files_are_added_to_a_split_folder_all_at_once() {
    let folder = folder();
    let split = "write 'out' with (format = csv, split_by = farm, mode = append)";
    assert!(churn(folder.path(), &["do", "t.csv", split]).status.success());
    assert!(churn(folder.path(), &["do", "t.csv", "first 1", split]).status.success());
    let output =
        churn(folder.path(), &["do", "read 'out'", "group by farm: n = count(), litres = sum(litres)"]);
    assert_eq!(told(&output), "farm,n,litres\nF1,2,40\nF2,1,30\n");
    let names: Vec<_> = fs::read_dir(folder.path()).unwrap().flatten().map(|e| e.file_name()).collect();
    assert!(names.iter().all(|name| !name.to_string_lossy().starts_with(".churn")), "{names:?}");
}

#[test]
fn a_split_folder_without_rows_is_read_back() {
    let folder = folder();
    let split = "write 'out' with (format = csv, split_by = farm)";
    assert!(churn(folder.path(), &["do", "t.csv", "filter litres > 99", split]).status.success());
    let output = churn(folder.path(), &["do", "read 'out'"]);
    assert_eq!(told(&output), "litres,farm\n");
}

/// Starts a run that appends slowly, as its rows come from a pipe.
fn slow(folder: &Path, write: &str) -> std::process::Child {
    let mut command = Command::new(tool());
    command.current_dir(folder).args(["do", "-", write]).stdin(Stdio::piped()).stdout(Stdio::null());
    command.stderr(Stdio::piped()).spawn().unwrap()
}

#[rstest]
#[case::append_to_a_file("t.csv", "mode = append", "Another run is appending")]
#[case::append_to_none("new.csv", "mode = append", "is there already")]
#[case::new("new.csv", "mode = new", "is there already")]
fn of_two_runs_at_once_none_loses_rows(#[case] target: &str, #[case] mode: &str, #[case] what: &str) {
    use std::io::Write;
    let folder = folder();
    let write = format!("write '{target}' with ({mode})");
    let mut first = slow(folder.path(), &write);
    let mut input = first.stdin.take().unwrap();
    // More than a stream is looked at before its run, so that the run has begun.
    let rows: String = (0..200_000).map(|i| format!("F{i},{i}\n")).collect();
    input.write_all(format!("farm,litres\n{rows}").as_bytes()).unwrap();
    std::thread::sleep(Duration::from_millis(300));
    let second = churn(folder.path(), &["do", "values farm, litres: ('other', 9)", &write]);
    input.write_all(b"last,1\n").unwrap();
    drop(input);
    let first = first.wait_with_output().unwrap();
    let (first_is_there, second_is_there) = (first.status.success(), second.status.success());
    assert!(first_is_there || second_is_there, "{}{}", told(&first), told(&second));
    // Where the first had not begun yet, it may have appended to what the second wrote.
    if !(first_is_there && second_is_there) {
        let failed = if first_is_there { &second } else { &first };
        assert!(told(failed).contains(what), "{}", told(failed));
    }
    let text = fs::read_to_string(folder.path().join(target)).unwrap();
    assert_eq!(text.contains("last,1"), first.status.success());
    assert_eq!(text.contains("other,9"), second.status.success());
    assert_eq!(text.contains("F2,30"), target == "t.csv");
}

#[rstest]
#[case::csv("out.csv")]
#[case::compressed("out.csv.zst")]
#[case::parquet("out.parquet")]
#[case::split("out")]
fn a_run_that_is_killed_leaves_nothing_that_stays(#[case] target: &str) {
    use std::io::Write;
    let folder = folder();
    let with = if target == "out" { " with (format = csv, split_by = farm)" } else { "" };
    let mut run = slow(folder.path(), &format!("write '{target}'{with}"));
    let mut input = run.stdin.take().unwrap();
    let rows: String = (0..200_000).map(|i| format!("F{},{i}\n", i % 7)).collect();
    input.write_all(format!("farm,litres\n{rows}").as_bytes()).unwrap();
    std::thread::sleep(Duration::from_millis(300));
    run.kill().unwrap();
    run.wait().unwrap();
    let parts = || -> Vec<std::path::PathBuf> {
        let entries = fs::read_dir(folder.path()).unwrap().flatten();
        entries
            .map(|e| e.path())
            .filter(|p| p.file_name().unwrap().to_string_lossy().starts_with(".churn"))
            .collect()
    };
    if target != "out" {
        assert_eq!(parts(), Vec::<std::path::PathBuf>::new());
    }
    // What a killed run left is taken away by a later one, once it is old.
    for part in parts() {
        let old = std::time::SystemTime::now() - Duration::from_secs(600);
        fs::File::open(part).unwrap().set_modified(old).unwrap();
    }
    assert!(churn(folder.path(), &["do", "t.csv", &format!("write '{target}'{with}")]).status.success());
    assert_eq!(parts(), Vec::<std::path::PathBuf>::new());
}

#[rstest]
#[case::a_file("write 'second.csv' with (mode = new)")]
#[case::a_folder("write 'second.csv'")]
fn of_several_targets_the_message_says_which_were_written(#[case] second: &str) {
    use std::io::Write;
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    assert!(Command::new("mkfifo").arg(at("p")).status().unwrap().success());
    fs::write(at("first.csv"), "old\n").unwrap();
    let child = Command::new(tool())
        .current_dir(folder.path())
        .args(["do", "p", "write 'first.csv'", second])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut rows = fs::File::options().write(true).open(at("p")).unwrap();
    rows.write_all(b"farm,litres\n").unwrap();
    // A check looks at the first 256 kB, and a pipe holds 64: once more was taken, the run goes on.
    (0..100_000).for_each(|i| rows.write_all(format!("F{},{i}\n", i % 7).as_bytes()).unwrap());
    if second.contains("new") {
        fs::write(at("second.csv"), "x\n").unwrap();
    } else {
        fs::create_dir(at("second.csv")).unwrap();
    }
    drop(rows);
    let output = child.wait_with_output().unwrap();
    let told = told(&output);
    assert_eq!(output.status.code(), Some(1), "{told}");
    assert!(told.contains("second.csv") && told.contains("first.csv"), "{told}");
    assert_eq!(fs::read_to_string(at("first.csv")).unwrap().lines().count(), 100_001, "{told}");
    if second.contains("new") {
        assert_eq!(fs::read_to_string(at("second.csv")).unwrap(), "x\n");
    }
}

#[test]
fn the_demo_never_overwrites() {
    let folder = tempfile::tempdir().unwrap();
    let demo = ["demo", ".", "--rows", "300", "--no-tour"];
    assert!(churn(folder.path(), &demo).status.success());
    assert!(churn(folder.path(), &demo).status.success(), "the same files may be there");
    fs::write(folder.path().join("farms.csv"), "mine\n").unwrap();
    fs::remove_file(folder.path().join("quota.csv")).unwrap();
    let output = churn(folder.path(), &demo);
    assert!(
        !output.status.success() && told(&output).contains("farms.csv is there already"),
        "{}",
        told(&output)
    );
    assert_eq!(fs::read_to_string(folder.path().join("farms.csv")).unwrap(), "mine\n");
    assert!(!folder.path().join("quota.csv").exists());
}

#[rstest]
#[case("write 'o.csv' with (compression = zstd)", "compression is for columnar files")]
#[case("write 'o.arrow' with (compression = brotli)", "are not compressed with brotli")]
#[case("write 'o.parquet' with (compression = zstd, level = 99)", "from 1 to 22")]
#[case("write 'o.parquet' with (level = 3)", "level is for the compressions")]
#[case("write 'o.csv' with (separator = '\"')", "A quote cannot separate cells.")]
#[case("write 'o.json' with (separator = ';')", "separator is for delimited text.")]
#[case("append 'u.csv'", "no file u.csv")]
fn options_that_a_format_lacks(#[case] step: &str, #[case] what: &str) {
    let folder = folder();
    let output = churn(folder.path(), &["check", "t.csv", step]);
    assert!(told(&output).contains(what), "{}", told(&output));
    assert_eq!(output.status.code(), Some(2));
}

#[rstest]
#[case("read 't.csv' with (separator = '\"')", "separator and quote are the same")]
#[case("read 't.csv' with (thousands = '.')", "decimal and thousands are the same")]
#[case("read 't.csv' with (comment = ',')", "separator and comment are the same")]
fn bytes_that_cannot_be_told_apart(#[case] read: &str, #[case] what: &str) {
    let folder = folder();
    let output = churn(folder.path(), &["check", read]);
    assert!(told(&output).contains(what) && output.status.code() == Some(2), "{}", told(&output));
}

#[rstest]
#[case("t.csv", "t.csv is no recipe: its first line starts with farm,litres")]
#[case("t.parquet", "t.parquet is no recipe: it holds Parquet data")]
#[case("t.txt", "is no recipe")]
fn data_in_place_of_a_recipe(#[case] name: &str, #[case] what: &str) {
    let folder = folder();
    let rows: String = (0..100_000).map(|i| format!("F{i},{i}\n")).collect();
    fs::write(folder.path().join("t.txt"), rows).unwrap();
    assert!(churn(folder.path(), &["convert", "t.csv", "t.parquet"]).status.success());
    let output = churn(folder.path(), &["run", name]);
    assert!(told(&output).contains(what) && told(&output).lines().count() <= 3, "{}", told(&output));
    assert_eq!(output.status.code(), Some(2));
}

#[test]
fn a_recipe_as_data_and_many_mistakes() {
    let folder = folder();
    let lines: String = (0..500).map(|i| format!("filtr x{i}\n")).collect();
    fs::write(folder.path().join("r.churn"), format!("read 't.csv'\n{lines}")).unwrap();
    fs::write(folder.path().join("first.churn"), "read 't.csv'\nfirst 1\n").unwrap();
    for (command, shown) in [("show", "a recipe over 1 file"), ("do", "F1,"), ("profile", "1 row")] {
        let output = churn(folder.path(), &[command, "first.churn"]);
        let found = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success() && found.contains(shown), "{found} {}", told(&output));
        let output = churn(folder.path(), &[command, "r.churn"]);
        assert!(told(&output).contains("There is no step filtr"), "{}", told(&output));
        let output = churn(folder.path(), &[command, "read '*.churn'"]);
        assert!(told(&output).contains("is a recipe, not data"), "{}", told(&output));
    }
    let output = churn(folder.path(), &["check", "r.churn"]);
    assert!(told(&output).ends_with("and 480 more mistakes.\n"), "{}", told(&output));
}
