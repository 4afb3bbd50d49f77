//! Ctrl-C: every phase of a run stops soon, nothing is written, and nothing is left behind.

#![cfg(unix)]
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rstest::rstest;

fn tool() -> std::path::PathBuf {
    assert_cmd::cargo::cargo_bin("churn")
}

fn start(folder: &Path, arguments: &[&str]) -> Child {
    fs::create_dir_all(folder.join("temporary")).unwrap();
    let mut command = Command::new(tool());
    command.current_dir(folder).args(arguments).args(["--temporary", "temporary"]);
    command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
}

/// Waits until the process handles SIGINT itself, where the system tells: before that the signal ends it at once, and no
/// phase of a run is tried.
fn handles_interrupts(child: &Child) {
    let status = format!("/proc/{}/status", child.id());
    let start = Instant::now();
    while start.elapsed() < Duration::from_secs(30) {
        let Ok(text) = fs::read_to_string(&status) else { return };
        let caught = text.lines().find_map(|line| line.strip_prefix("SigCgt:"));
        let mask = caught.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok());
        if mask.is_none_or(|mask| mask & 0b10 != 0) {
            return;
        }
        std::thread::sleep(Duration::from_millis(2));
    }
}

fn signal(child: &Child) {
    handles_interrupts(child);
    Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
}

/// Waits for the end, for much longer than it takes to stop; gives the exit code.
fn ended(child: &mut Child) -> Option<i32> {
    let start = Instant::now();
    while start.elapsed() < Duration::from_secs(60) {
        if let Some(status) = child.try_wait().unwrap() {
            return status.code();
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    child.kill().unwrap();
    panic!("the run did not stop");
}

fn rows(count: usize) -> String {
    let row = |i: usize| format!("{i},F{},{},{}\n", i % 997, i.wrapping_mul(7919) % 100_003, i % 13);
    (0..count).fold("id,farm,litres,grade\n".to_owned(), |all, i| all + &row(i))
}

// What is held here is that each phase stops and leaves nothing; how soon it does is measured and told in
// docs/reliability.md.
#[rstest]
#[case::cross_join(&["do", "t.csv", "join cross 't.csv' prefix 'o_'", "filter litres + o_litres = -1"])]
#[case::sort_on_disk(&["do", "t.csv", "sort litres, farm", "--memory", "1MB", "-o", "out.csv"])]
#[case::group_on_disk(&["do", "t.csv", "group by id, farm: n = count(), m = median(litres)", "--memory", "1MB", "-o", "out.csv"])]
#[case::join_on_disk(&["do", "t.csv", "join 't.csv' on grade prefix 'o_'", "total: n = count()", "--memory", "1MB", "-o", "out.csv"])]
#[case::window_on_disk(&["do", "t.csv", "window by grade order by litres: m = median(litres) over last 5000 rows", "--memory", "1MB", "-o", "out.csv"])]
#[case::distinct_on_disk(&["do", "t.csv", "distinct by id, litres", "--memory", "1MB", "-o", "out.csv"])]
#[case::pivot(&["do", "t.csv", "pivot grade by id: n = sum(litres)", "--memory", "1MB", "-o", "out.csv"])]
#[case::columnar(&["do", "t.csv", "join 't.csv' on grade prefix 'o_'", "-o", "out.parquet"])]
fn each_phase_stops(#[case] arguments: &[&str], #[values(150, 900)] after: u64) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), rows(150_000)).unwrap();
    let mut run = start(folder.path(), arguments);
    std::thread::sleep(Duration::from_millis(after));
    signal(&run);
    let code = ended(&mut run);
    // A run that was done before the signal came is no fault.
    assert!(code == Some(130) || code == Some(0), "{code:?}");
    if code == Some(130) {
        assert!(!folder.path().join("out.csv").exists() && !folder.path().join("out.parquet").exists());
    }
    assert_eq!(fs::read_dir(folder.path().join("temporary")).unwrap().count(), 0);
    let hidden = fs::read_dir(folder.path())
        .unwrap()
        .flatten()
        .filter(|e| e.file_name().to_string_lossy().starts_with('.'));
    assert_eq!(hidden.count(), 0);
}

#[rstest]
#[case::before_any_byte("")]
#[case::after_some_rows("farm,litres\nF1,20\n")]
fn a_run_that_waits_for_standard_input_stops(#[case] given: &str) {
    use std::io::Write;
    let folder = tempfile::tempdir().unwrap();
    let mut run = start(folder.path(), &["do", "-", "total: n = count()"]);
    let mut input = run.stdin.take().unwrap();
    input.write_all(given.as_bytes()).unwrap();
    std::thread::sleep(Duration::from_millis(300));
    signal(&run);
    let code = ended(&mut run);
    assert_eq!(code, Some(130));
    drop(input);
}

/// A server that begins its answer, and then says nothing more.
#[rstest]
#[case::before_any_byte("")]
#[case::after_some_rows("farm,litres\nF1,20\n")]
fn a_run_that_waits_for_a_server_stops(#[case] sent: &'static str) {
    use std::io::Write;
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/milk.csv", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        let mut held = Vec::new();
        for mut stream in listener.incoming().flatten() {
            let head = "HTTP/1.1 200 OK\r\nContent-Length: 100000\r\n\r\n";
            stream.write_all(format!("{head}{sent}").as_bytes()).unwrap();
            held.push(stream);
        }
    });
    let folder = tempfile::tempdir().unwrap();
    let mut run = start(folder.path(), &["do", &address, "total: n = count()"]);
    std::thread::sleep(Duration::from_millis(400));
    signal(&run);
    let asked = Instant::now();
    assert_eq!(ended(&mut run), Some(130));
    // A server may be silent for a minute; nobody waits for that.
    assert!(asked.elapsed() < Duration::from_secs(30));
}

#[test]
fn a_run_that_waits_for_a_pipe_without_a_writer_stops() {
    let folder = tempfile::tempdir().unwrap();
    Command::new("mkfifo").arg(folder.path().join("f.csv")).status().unwrap();
    let mut run = start(folder.path(), &["do", "f.csv", "total: n = count()"]);
    std::thread::sleep(Duration::from_millis(300));
    signal(&run);
    assert_eq!(ended(&mut run), Some(130));
}

#[test]
fn two_signals_in_a_row_leave_nothing() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), rows(150_000)).unwrap();
    let write = "write 'out' with (format = csv, split_by = grade)";
    let mut run = start(folder.path(), &["do", "t.csv", "sort litres", write]);
    std::thread::sleep(Duration::from_millis(600));
    signal(&run);
    signal(&run);
    ended(&mut run);
    let names: Vec<String> = fs::read_dir(folder.path())
        .unwrap()
        .flatten()
        .map(|e| e.file_name().to_string_lossy().into_owned())
        .collect();
    assert!(names.iter().all(|name| ["t.csv", "temporary", "out"].contains(&name.as_str())), "{names:?}");
}
