//! Disks that fill up, driven through the tool: the error says so, and nothing is left behind.

#![cfg(unix)]
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::process::{Command, Output};

use rstest::rstest;

/// Runs the tool where no file may grow beyond some kilobytes, as on a disk that is full.
fn cramped(folder: &std::path::Path, kilobytes: usize, arguments: &[&str]) -> Output {
    let tool = assert_cmd::cargo::cargo_bin("churn");
    // The signal for files that grow too large is ignored, so that writing fails as it does on a full disk.
    let script = format!("trap '' XFSZ; ulimit -f {kilobytes}; exec \"$0\" \"$@\"");
    Command::new("bash").arg("-c").arg(script).arg(tool).args(arguments).current_dir(folder).output().unwrap()
}

fn table() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let rows: String =
        (0..60_000).map(|i| format!("{i},F{},a note that takes its room {i}\n", i % 97)).collect();
    fs::write(folder.path().join("t.csv"), format!("id,farm,note\n{rows}")).unwrap();
    fs::write(folder.path().join("out.csv"), "old\n").unwrap();
    folder
}

#[rstest]
#[case::csv("out.csv")]
#[case::compressed("out.csv.gz")]
#[case::parquet("out.parquet")]
#[case::arrow("out.arrow")]
fn a_full_disk_at_the_target(#[case] target: &str) {
    let folder = table();
    let write = format!("write '{target}'");
    let output = cramped(folder.path(), 64, &["do", "t.csv", "sort note", &write]);
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(1), "{told}");
    assert!(told.contains("cannot be written") && told.contains("too large"), "{told}");
    assert_eq!(fs::read_to_string(folder.path().join("out.csv")).unwrap(), "old\n");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2, "nothing is left behind");
}

#[test]
fn a_full_disk_in_the_temporary_folder() {
    let folder = table();
    fs::create_dir(folder.path().join("temporary")).unwrap();
    let arguments =
        ["do", "t.csv", "sort note", "first 3 after 70000", "--memory", "1MB", "--temporary", "temporary"];
    let output = cramped(folder.path(), 64, &arguments);
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(1), "{told}");
    assert!(told.contains("do not fit in memory cannot be put into temporary"), "{told}");
    assert_eq!(fs::read_dir(folder.path().join("temporary")).unwrap().count(), 0);
}

/// Runs the tool with a limit of the shell's `ulimit`.
fn limited(folder: &std::path::Path, limit: &str, arguments: &[&str]) -> Output {
    let tool = assert_cmd::cargo::cargo_bin("churn");
    let script = format!("ulimit {limit}; exec \"$0\" \"$@\"");
    Command::new("bash").arg("-c").arg(script).arg(tool).args(arguments).current_dir(folder).output().unwrap()
}

#[rstest]
#[case::text("csv")]
#[case::parquet("parquet")]
fn a_folder_of_more_files_than_may_be_open(#[case] format: &str) {
    let folder = tempfile::tempdir().unwrap();
    let rows: String = (0..1800).map(|i| format!("{},{i}\n", i % 600)).collect();
    fs::write(folder.path().join("t.csv"), format!("farm,x\n{rows}")).unwrap();
    let write = format!("write 'out' with (format = {format}, split_by = farm)");
    let output = limited(folder.path(), "-n 64", &["do", "t.csv", &write]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let output = limited(folder.path(), "-n 2000", &["do", "read 'out'", "total: n = count(), x = sum(x)"]);
    assert_eq!(String::from_utf8_lossy(&output.stdout), "n,x\n1800,1619100\n");
}

#[test]
fn the_tool_takes_the_files_that_it_is_allowed() {
    let folder = tempfile::tempdir().unwrap();
    for i in 0..1200 {
        fs::write(folder.path().join(format!("t{i}.csv")), format!("x\n{i}\n")).unwrap();
    }
    let output = limited(folder.path(), "-S -n 256", &["do", "t*.csv", "total: n = count()"]);
    assert_eq!(String::from_utf8_lossy(&output.stdout), "n\n1200\n");
}

#[test]
fn too_few_files_are_told_as_such() {
    let folder = table();
    let output = limited(
        folder.path(),
        "-n 12",
        &["do", "t.csv", "group by id, note: n = count()", "--memory", "1MB", "-o", "o.csv"],
    );
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success() || told.contains("More files are open than the system allows"), "{told}");
}

#[test]
fn a_bound_of_the_address_space_is_a_bound_of_the_budget() {
    let folder = tempfile::tempdir().unwrap();
    let rows: String = (0..400_000).map(|i| format!("{i},a text of some length {i}\n")).collect();
    fs::write(folder.path().join("t.csv"), format!("id,note\n{rows}")).unwrap();
    let arguments = ["do", "t.csv", "sort note desc", "-o", "out.csv", "--threads", "1"];
    let output = limited(folder.path(), "-v 400000", &arguments);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}
