//! Buckets of object stores, read and written by the tool: those of a server of these tests, which fails where it shall, and real
//! ones, which `.ci/stores` installs and starts.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod bucket;
mod faults;
mod real;

use std::path::Path;
use std::process::{Command, Output};

/// The tool, with no other settings of stores than these.
fn churn(folder: &Path, settings: &[(&str, &str)]) -> Command {
    let mut command = Command::new(assert_cmd::cargo::cargo_bin("churn"));
    command.current_dir(folder).env_clear().env("HOME", folder).env("AWS_EC2_METADATA_DISABLED", "true");
    command.envs(settings.iter().copied());
    // Where the tool counts which of its lines are reached, it is told where to.
    command.envs(std::env::var_os("LLVM_PROFILE_FILE").map(|file| ("LLVM_PROFILE_FILE", file)));
    command
}

/// The settings of a bucket of these tests, under a scheme.
fn settings<'a>(scheme: &str, address: &'a str) -> Vec<(&'a str, &'a str)> {
    match scheme {
        "gs" => vec![("STORAGE_EMULATOR_HOST", address)],
        _ => vec![
            ("AWS_ENDPOINT_URL", address),
            ("AWS_ACCESS_KEY_ID", "dairy"),
            ("AWS_SECRET_ACCESS_KEY", "MilkAndWhey"),
        ],
    }
}

/// What a command says.
fn run(command: &mut Command) -> (bool, String) {
    let Output { status, stdout, stderr } = command.output().unwrap();
    let text = String::from_utf8([stdout, stderr].concat()).unwrap();
    assert!(!text.contains("MilkAndWhey"), "{text}");
    (status.success(), text)
}

/// Runs a chain; gives what it writes to standard output and to standard error.
fn done(folder: &Path, settings: &[(&str, &str)], chain: &[&str]) -> String {
    let (is_well, text) = run(churn(folder, settings).arg("do").args(chain));
    assert!(is_well, "{chain:?}: {text}");
    text
}

/// Deliveries, some bytes a row.
fn deliveries(rows: usize) -> String {
    let row = |n: usize| format!("F{:03},{n},2026-01-{:02}\n", n % 7, 1 + n % 28);
    format!("farm,litres,day\n{}", (0..rows).map(row).collect::<String>())
}
