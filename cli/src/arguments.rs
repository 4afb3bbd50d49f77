//! What may stand on the command line.

use std::path::PathBuf;

use clap::{Args, CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};

/// Reshapes large tables: filter, join, group, pivot, window.
#[derive(Debug, Parser)]
#[command(name = "churn", version, disable_help_subcommand = true, arg_required_else_help = true)]
#[command(after_help = "churn demo writes sample data and shows what can be done with it.\n\
    churn help steps, functions, clauses and options list the language;\n\
    churn help NAME tells of one of them, and churn help WORDS searches.")]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
    /// Ask nothing of the web and of buckets: addresses are mistakes
    #[arg(long, global = true)]
    pub(crate) offline: bool,
}

impl Arguments {
    /// Those of the process; help that they ask for is as wide as the terminal.
    pub(crate) fn read() -> Result<Arguments, clap::Error> {
        let command = Arguments::command().term_width(crate::terminal::help_width());
        Arguments::from_arg_matches(&command.try_get_matches()?)
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Show the columns, the first rows and the size of an input
    Show(Show),
    /// Tell what every column holds: missing, distinct, min, quartiles, max, mean, stddev, frequent values
    Profile(Profile),
    /// Run a chain of steps, one argument a step
    Do(Do),
    /// Run a recipe
    Run(Run),
    /// Run a query of the SQL standard over files
    Sql(Sql),
    /// Draw a chart of an input or of steps over it
    Draw(Draw),
    /// Run a recipe and write a report of the run as a page
    Report(Report),
    /// Find every mistake without reading the data
    Check(Check),
    /// Show a chain as written beside as it will run
    Plan(Plan),
    /// Write an input in another format
    Convert(Convert),
    /// Write sample data and show a tour of it
    Demo(Demo),
    /// List what the language has, explain one of it, or search it
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
    /// Rows to show of the end as well: all of the input is read for them
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub(crate) last: usize,
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
    /// Steps of the language, "filter litres > 0" "group by farm: n = count()", and what a recipe declares before them:
    /// "given least = 0", "define …", "table …"
    pub(crate) steps: Vec<String>,
    #[command(flatten)]
    pub(crate) trial: Trial,
    #[command(flatten)]
    pub(crate) running: Running,
}

#[derive(Args, Debug)]
pub(crate) struct Run {
    /// A recipe file, or - for a recipe on standard input; or a file of a query (*.sql)
    pub(crate) recipe: PathBuf,
    #[command(flatten)]
    pub(crate) trial: Trial,
    #[command(flatten)]
    pub(crate) running: Running,
}

#[derive(Args, Debug)]
pub(crate) struct Sql {
    /// A query, "select … from 'deliveries-2026.csv'", or a file of one (*.sql); --as recipe prints the steps that it means
    pub(crate) query: String,
    /// Inputs that the query names by their files' names without an ending: farms.csv is farms
    pub(crate) inputs: Vec<String>,
    /// A table that the query names: farms=farms.csv, or "milk=read 'milk.csv' with (separator = ';')"
    #[arg(long = "table", value_name = "NAME=INPUT", value_parser = name_and_value)]
    pub(crate) tables: Vec<(String, String)>,
    #[command(flatten)]
    pub(crate) trial: Trial,
    #[command(flatten)]
    pub(crate) running: Running,
}

#[derive(Args, Debug)]
pub(crate) struct Draw {
    /// A path, a glob, a folder, '-', or a read step
    pub(crate) input: String,
    /// Steps over the input, and last the chart: "histogram litres by grade", "lines litres over month by district"
    #[arg(required = true)]
    pub(crate) steps: Vec<String>,
    /// Write the chart to a file: .svg or .png
    #[arg(short, long, value_name = "OUT")]
    pub(crate) output: Option<PathBuf>,
    /// How to show the chart, or its figures as a table; without it in characters on a terminal, SVG in a pipe
    #[arg(long = "as", value_name = "FORMAT")]
    pub(crate) format: Option<ChartShape>,
    /// How large it is, in pixels: 1280x800
    #[arg(long, value_name = "WIDTHxHEIGHT", value_parser = pixels)]
    pub(crate) size: Option<(u32, u32)>,
    /// Light marks on dark ground
    #[arg(long)]
    pub(crate) dark: bool,
    #[command(flatten)]
    pub(crate) trial: Trial,
    #[command(flatten)]
    pub(crate) resources: Resources,
}

/// What a run is given, and how much of its inputs it reads.
#[derive(Args, Debug)]
pub(crate) struct Trial {
    /// Set a parameter of the recipe: since=2026-01-01
    #[arg(long = "given", value_name = "NAME=VALUE", value_parser = name_and_value)]
    pub(crate) given: Vec<(String, String)>,
    /// Read only the first rows of each source
    #[arg(long, value_name = "N")]
    pub(crate) first: Option<usize>,
}

#[derive(Args, Debug)]
pub(crate) struct Check {
    /// A recipe file (*.churn), a query file (*.sql), - for a recipe on standard input, or an input
    pub(crate) input: String,
    /// Steps over the input
    pub(crate) steps: Vec<String>,
    /// Set a parameter of the recipe: since=2026-01-01
    #[arg(long = "given", value_name = "NAME=VALUE", value_parser = name_and_value)]
    pub(crate) given: Vec<(String, String)>,
}

#[derive(Args, Debug)]
pub(crate) struct Plan {
    #[command(flatten)]
    pub(crate) chain: Check,
    /// How to show it; without it as text
    #[arg(long = "as", value_name = "FORMAT")]
    pub(crate) format: Option<PlanShape>,
}

#[derive(Args, Debug)]
pub(crate) struct Report {
    /// A recipe file, - for a recipe on standard input, or a file of a query (*.sql)
    pub(crate) recipe: PathBuf,
    /// The page to write; without it to standard output
    #[arg(short, long, value_name = "OUT")]
    pub(crate) output: Option<PathBuf>,
    /// The report as data instead of a page
    #[arg(long)]
    pub(crate) json: bool,
    /// What stands above it; else the recipe's name
    #[arg(long)]
    pub(crate) title: Option<String>,
    /// The day that it is of; else today, in UTC
    #[arg(long)]
    pub(crate) date: Option<String>,
    /// Tell the SHA-256 digest of each file that is read; each is read once more
    #[arg(long)]
    pub(crate) digests: bool,
    #[command(flatten)]
    pub(crate) trial: Trial,
    #[command(flatten)]
    pub(crate) resources: Resources,
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
    /// A command, step, function, clause or option, words to search for, or a list: steps, functions, clauses, options
    pub(crate) topic: Vec<String>,
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
    #[arg(long, value_parser = threads)]
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
    /// The steps, a query's in place of the query, and nothing is run
    Recipe,
}

/// How a profile is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ProfileShape {
    Text,
    Json,
}

/// How a plan is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum PlanShape {
    Text,
    /// A picture
    Svg,
}

/// How a chart is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ChartShape {
    /// In characters
    Text,
    Svg,
    /// The figures that are drawn, as text
    Csv,
    /// The figures, as an aligned table
    Table,
}

/// Reads a size: 1280x800.
fn pixels(text: &str) -> Result<(u32, u32), String> {
    let parts = text.split_once(['x', 'X']);
    let size =
        parts.and_then(|(width, height)| Some((width.trim().parse().ok()?, height.trim().parse().ok()?)));
    size.filter(|(width, height)| (240..=8000).contains(width) && (180..=8000).contains(height))
        .ok_or_else(|| "write a size from 240x180 to 8000x8000, such as 1280x800".into())
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
    let bytes = (number * factor) as u64;
    if bytes < LEAST_MEMORY {
        return Err("that is too little for any step: give 1MB or more".into());
    }
    Ok(bytes)
}

/// Less memory than this holds no batch of rows.
const LEAST_MEMORY: u64 = 1_000_000;

/// Reads a number of threads.
fn threads(text: &str) -> Result<usize, String> {
    let threads: usize = text.parse().map_err(|_| "write a whole number, such as 4")?;
    if threads == 0 { Err("a run needs one thread at least".to_owned()) } else { Ok(threads) }
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
    #[case("100", Err(()))]
    #[case("much", Err(()))]
    fn sizes(#[case] text: &str, #[case] expected: Result<u64, ()>) {
        assert_eq!(size(text).map_err(|_| ()), expected);
    }
}
