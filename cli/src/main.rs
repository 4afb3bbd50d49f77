//! The `churn` command: arguments, terminal, messages. The only place of the workspace that prints.

#![forbid(unsafe_code)]

mod arguments;
mod commands;
mod demo;
mod progress;
mod terminal;

use std::process::ExitCode;

use clap::Parser;

use arguments::Arguments;
use terminal::Failure;

fn main() -> ExitCode {
    churn_kernels::memory::give_back_large_blocks();
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => return terminal::explain(&error),
    };
    match commands::run(arguments.command) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => terminal::fail(&failure),
    }
}

/// What a command gives: nothing, or why not.
type Outcome = Result<(), Failure>;
