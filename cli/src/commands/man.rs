//! Completions and manual pages, made from the arguments.

use clap::CommandFactory;

use crate::Outcome;
use crate::arguments::{Arguments, Completions, Man};
use crate::terminal::Failure;

pub(crate) fn completions(arguments: &Completions) -> Outcome {
    let mut text = Vec::new();
    clap_complete::generate(arguments.shell, &mut Arguments::command(), "churn", &mut text);
    crate::terminal::out(String::from_utf8_lossy(&text))
}

pub(crate) fn pages(arguments: &Man) -> Outcome {
    let failed = |e: std::io::Error| {
        Failure::File(format!("The pages cannot be written to {}: {e}.", arguments.folder.display()))
    };
    std::fs::create_dir_all(&arguments.folder).map_err(failed)?;
    clap_mangen::generate_to(Arguments::command(), &arguments.folder).map_err(failed)
}
