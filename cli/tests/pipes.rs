//! Inputs that can be read only once: standard input, pipes, files that the system makes.

#![cfg(unix)]
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use rstest::rstest;

/// Runs the tool with bytes on standard input.
fn piped(folder: &Path, arguments: &[&str], bytes: &[u8]) -> Output {
    let mut child = Command::new(assert_cmd::cargo::cargo_bin("churn"))
        .current_dir(folder)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut input = child.stdin.take().unwrap();
    let bytes = bytes.to_vec();
    let writer = std::thread::spawn(move || input.write_all(&bytes));
    let output = child.wait_with_output().unwrap();
    let _ = writer.join().unwrap();
    output
}

/// Runs a line of the shell, in which `churn` is the tool.
fn shell(folder: &Path, line: &str) -> Output {
    let tool = assert_cmd::cargo::cargo_bin("churn");
    let script = format!("churn() {{ '{}' \"$@\"; }}; {line}", tool.display());
    let mut command = Command::new("timeout");
    command.args(["20", "bash", "-c", &script]).current_dir(folder).stdin(Stdio::null()).output().unwrap()
}

fn told(output: &Output) -> String {
    String::from_utf8_lossy(&[output.stdout.as_slice(), output.stderr.as_slice()].concat()).into_owned()
}

/// A table of two rows in some format, as a file's bytes.
fn written(folder: &Path, name: &str) -> Vec<u8> {
    let write = format!("write '{name}'");
    let output = piped(folder, &["do", "values farm, litres: ('F1', 20), ('F2', 30)", &write], b"");
    assert!(output.status.success(), "{}", told(&output));
    fs::read(folder.join(name)).unwrap()
}

#[rstest]
#[case::csv("t.csv", "")]
#[case::compressed("t.csv.gz", "")]
#[case::lines_of_json("t.ndjson", "")]
#[case::json("t.json", "")]
#[case::compressed_json("t.ndjson.zst", "")]
#[case::parquet("t.parquet", "")]
#[case::arrow("t.arrow", "")]
#[case::workbook("t.xlsx", "")]
#[case::tabs_by_name("t.tsv", " with (format = tsv)")]
#[case::parquet_by_name("t.parquet", " with (format = parquet)")]
fn a_format_is_told_by_the_first_bytes(#[case] name: &str, #[case] with: &str) {
    let folder = tempfile::tempdir().unwrap();
    let bytes = written(folder.path(), name);
    let output = piped(folder.path(), &["do", &format!("read '-'{with}")], &bytes);
    assert_eq!(told(&output), "farm,litres\nF1,20\nF2,30\n");
    fs::create_dir(folder.path().join("kept")).unwrap();
    let arguments = ["do", &format!("read '-'{with}"), "--temporary", "kept"];
    assert_eq!(told(&piped(folder.path(), &arguments, &bytes)), "farm,litres\nF1,20\nF2,30\n");
    assert_eq!(fs::read_dir(folder.path().join("kept")).unwrap().count(), 0, "nothing is left behind");
}

#[rstest]
#[case::substitution("churn do <(printf 'farm,litres\\nF1,20\\n')")]
#[case::standard_input_by_path("printf 'farm,litres\\nF1,20\\n' | churn do /dev/stdin")]
#[case::a_descriptor("printf 'farm,litres\\nF1,20\\n' | churn do /proc/self/fd/0")]
#[case::a_fifo("mkfifo f; (printf 'farm,litres\\nF1,20\\n' > f &); churn do f")]
#[case::a_fifo_of_a_format("mkfifo f.csv; (printf 'farm,litres\\nF1,20\\n' > f.csv &); churn do f.csv")]
#[case::json("mkfifo f; (printf '{\"farm\":\"F1\",\"litres\":20}\\n' > f &); churn do f")]
#[case::a_file_as_standard_input("printf 'farm,litres\\nF1,20\\n' > t.csv; churn do /dev/stdin < t.csv")]
fn pipes_are_streamed(#[case] line: &str) {
    let folder = tempfile::tempdir().unwrap();
    let output = shell(folder.path(), line);
    assert_eq!((told(&output).as_str(), output.status.code()), ("farm,litres\nF1,20\n", Some(0)));
}

#[test]
fn files_that_the_system_makes_are_read() {
    let folder = tempfile::tempdir().unwrap();
    let read = "churn do \"read '/proc/meminfo' with (header = false, separator = ':')\" 'first 1'";
    let output = shell(folder.path(), read);
    assert!(told(&output).contains("MemTotal,"), "{}", told(&output));
}

#[rstest]
#[case("churn do - 'join \"-\" on farm'", "no table")]
#[case("mkfifo f; (printf 'farm\\nF1\\n' > f &); churn do f \"join 'f' on farm\"", "can be read only once")]
#[case("printf 'farm\\nF1\\n' | churn do - \"join '-' on farm\"", "can be read only once")]
fn a_stream_is_not_read_twice(#[case] line: &str, #[case] what: &str) {
    let folder = tempfile::tempdir().unwrap();
    let output = shell(folder.path(), line);
    assert!(told(&output).contains(what), "{}", told(&output));
    assert_eq!(output.status.code(), Some(2));
}
