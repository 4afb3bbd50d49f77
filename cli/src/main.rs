//! The `churn` command: arguments, terminal, messages. The only place of the workspace that prints.

#![forbid(unsafe_code)]

mod arguments;
mod commands;
mod demo;
mod progress;
mod terminal;

use std::process::ExitCode;

use arguments::Arguments;
use terminal::Failure;

fn main() -> ExitCode {
    churn_kernels::memory::give_back_large_blocks();
    allow_many_files();
    let arguments = match Arguments::read() {
        Ok(arguments) => arguments,
        Err(error) => return terminal::explain(&error),
    };
    if arguments.offline {
        churn::go_offline();
    }
    match commands::run(arguments.command) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => terminal::fail(&failure),
    }
}

/// Lets the process have as many files open as it is allowed to: the usual first limit is 1,024, and thousands of files
/// may be read as one table.
fn allow_many_files() {
    #[cfg(unix)]
    {
        use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
        let limit = getrlimit(Resource::Nofile);
        let _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, ..limit });
    }
}

/// What a command gives: nothing, or why not.
type Outcome = Result<(), Failure>;
