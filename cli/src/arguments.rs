//! What may stand on the command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

/// Reshapes large tables: filter, join, group, pivot, window.
#[derive(Debug, Parser)]
#[command(name = "churn", version, disable_help_subcommand = true, arg_required_else_help = true)]
#[command(after_help = "churn demo writes sample data and shows what can be done with it.\n\
    churn help steps and churn help functions list the language.")]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Show the columns, the first rows and the size of an input
    Show(Show),
    /// Tell what every column holds: missing, different, least, quartiles, most, mean, frequent values
    Profile(Profile),
    /// Run a chain of steps, one argument a step
    Do(Do),
    /// Run a recipe
    Run(Run),
    /// Find every mistake without reading the data
    Check(Check),
    /// Show a chain as written beside as it will run
    Plan(Check),
    /// Write an input in another format
    Convert(Convert),
    /// Write sample data and show a tour of it
    Demo(Demo),
    /// List steps or functions, or explain one of them
    Help(Help),
    /// Print the completions of a shell
    Completions(Completions),
    /// Write the manual pages into a folder
    Man(Man),
}

/// An input is a path, a glob, a folder, - for standard input, or a whole read step.
#[derive(Args, Debug)]
pub(crate) struct Show {
    /// A path, a glob, a folder, '-', or a read step: "read 'a.csv' with (separator = ';')"
    pub(crate) input: String,
    /// Rows to show
    #[arg(long, default_value_t = 10)]
    pub(crate) rows: usize,
}

#[derive(Args, Debug)]
pub(crate) struct Profile {
    /// A path, a glob, a folder, '-', or a read step
    pub(crate) input: String,
    /// Columns to show in full, as in select: litres fat, or: each number, or: "each 'temp*'"
    pub(crate) columns: Vec<String>,
    /// Tell the correlation of each two number columns, too
    #[arg(long)]
    pub(crate) pairs: bool,
    /// How to show it; without it as text
    #[arg(long = "as", value_name = "FORMAT")]
    pub(crate) format: Option<ProfileShape>,
    #[command(flatten)]
    pub(crate) resources: Resources,
}

#[derive(Args, Debug)]
pub(crate) struct Do {
    /// A path, a glob, a folder, '-', or a read step
    pub(crate) input: String,
    /// Steps of the language: "filter litres > 0" "group by farm: n = count()"
    pub(crate) steps: Vec<String>,
    #[command(flatten)]
    pub(crate) running: Running,
}

#[derive(Args, Debug)]
pub(crate) struct Run {
    /// A recipe file
    pub(crate) recipe: PathBuf,
    /// Set a parameter of the recipe: since=2026-01-01
    #[arg(long = "given", value_name = "NAME=VALUE", value_parser = name_and_value)]
    pub(crate) given: Vec<(String, String)>,
    /// Read only the first rows of each source
    #[arg(long, value_name = "N")]
    pub(crate) first: Option<usize>,
    #[command(flatten)]
    pub(crate) running: Running,
}

#[derive(Args, Debug)]
pub(crate) struct Check {
    /// A recipe file (*.churn), or an input
    pub(crate) input: String,
    /// Steps over the input
    pub(crate) steps: Vec<String>,
    /// Set a parameter of the recipe: since=2026-01-01
    #[arg(long = "given", value_name = "NAME=VALUE", value_parser = name_and_value)]
    pub(crate) given: Vec<(String, String)>,
}

#[derive(Args, Debug)]
pub(crate) struct Convert {
    /// A path, a glob, a folder, '-', or a read step
    pub(crate) input: String,
    /// The file to write; its ending tells the format: .csv .tsv .json .ndjson, and .gz .zst .bz2 on them
    pub(crate) output: PathBuf,
    #[command(flatten)]
    pub(crate) running: Resources,
}

#[derive(Args, Debug)]
pub(crate) struct Demo {
    /// The folder to write into
    #[arg(default_value = "churn-demo")]
    pub(crate) folder: PathBuf,
    /// Deliveries to write, over three years
    #[arg(long, default_value_t = 200_000)]
    pub(crate) rows: u64,
    /// Another seed gives other data
    #[arg(long, default_value_t = 1)]
    pub(crate) seed: u64,
    /// Write the data and leave the tour out
    #[arg(long)]
    pub(crate) no_tour: bool,
}

#[derive(Args, Debug)]
pub(crate) struct Help {
    /// steps, functions, or the name of one of them
    pub(crate) topic: Option<String>,
}

#[derive(Args, Debug)]
pub(crate) struct Completions {
    pub(crate) shell: clap_complete::Shell,
}

#[derive(Args, Debug)]
pub(crate) struct Man {
    /// The folder to write into
    pub(crate) folder: PathBuf,
}

/// Options of all that run and print.
#[derive(Args, Debug)]
pub(crate) struct Running {
    /// Write the result to a file instead of showing it
    #[arg(short, long, value_name = "OUT")]
    pub(crate) output: Option<PathBuf>,
    /// How to show the result; without it a table on a terminal, CSV in a pipe
    #[arg(long = "as", value_name = "FORMAT")]
    pub(crate) format: Option<Shape>,
    /// Rows to show of a table
    #[arg(long, default_value_t = 20)]
    pub(crate) rows: usize,
    #[command(flatten)]
    pub(crate) resources: Resources,
}

/// Options of all that run.
#[derive(Args, Debug)]
pub(crate) struct Resources {
    /// Threads to use; one for each core if not said
    #[arg(long)]
    pub(crate) threads: Option<usize>,
    /// Memory that held rows may take, such as 512MB or 2GB; more goes to disk
    #[arg(long, value_parser = size)]
    pub(crate) memory: Option<u64>,
    /// The folder for what does not fit in memory; nothing is left there
    #[arg(long, value_name = "FOLDER")]
    pub(crate) temporary: Option<PathBuf>,
    /// Tell what became of every row: on standard error, or as JSON into a file
    #[arg(long, value_name = "FILE", num_args = 0..=1, default_missing_value = "-")]
    pub(crate) ledger: Option<PathBuf>,
    /// Print nothing but the result and errors
    #[arg(long)]
    pub(crate) quiet: bool,
}

/// How a result is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Shape {
    Table,
    Csv,
    Tsv,
    Json,
    Ndjson,
    Markdown,
}

/// How a profile is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ProfileShape {
    Text,
    Json,
}

fn name_and_value(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("write NAME=VALUE")?;
    Ok((name.trim().trim_start_matches('$').to_owned(), value.to_owned()))
}

/// Reads a size: 512MB, 2GB, 1.5GiB, or a number of bytes.
fn size(text: &str) -> Result<u64, String> {
    let lower = text.trim().to_ascii_lowercase();
    let split = lower.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(lower.len());
    let (number, unit) = lower.split_at(split);
    let factor = match unit.trim() {
        "" | "b" => 1.0,
        "k" | "kb" => 1e3,
        "m" | "mb" => 1e6,
        "g" | "gb" => 1e9,
        "kib" => 1024.0,
        "mib" => 1024.0 * 1024.0,
        "gib" => 1024.0 * 1024.0 * 1024.0,
        _ => return Err("write a number with a unit, such as 512MB or 2GB".into()),
    };
    let number: f64 = number.parse().map_err(|_| "write a number with a unit, such as 512MB or 2GB")?;
    Ok((number * factor) as u64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;
    use rstest::rstest;

    #[test]
    fn arguments_are_well_formed() {
        Arguments::command().debug_assert();
    }

    #[rstest]
    #[case("512MB", Ok(512_000_000))]
    #[case("1.5 GiB", Ok(1_610_612_736))]
    #[case("100", Ok(100))]
    #[case("much", Err(()))]
    fn sizes(#[case] text: &str, #[case] expected: Result<u64, ()>) {
        assert_eq!(size(text).map_err(|_| ()), expected);
    }
}
