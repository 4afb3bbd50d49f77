//! One file a command.

mod check;
mod convert;
mod demo;
mod draw;
mod help;
mod man;
mod profile;
mod report;
mod run;
mod show;
mod sql;

use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use churn::{CheckedPlan, Flow, Ledger, RunOptions};

use crate::Outcome;
use crate::arguments::{Command, Resources, Trial};
use crate::terminal::{Failure, note};

/// Runs a command.
pub(crate) fn run(command: Command) -> Outcome {
    match command {
        Command::Show(arguments) => show::run(&arguments),
        Command::Profile(arguments) => profile::run(&arguments),
        Command::Do(arguments) => run::chain(&arguments),
        Command::Run(arguments) => run::recipe(&arguments),
        Command::Sql(arguments) => sql::run(&arguments),
        Command::Draw(arguments) => draw::run(&arguments),
        Command::Report(arguments) => report::run(&arguments),
        Command::Check(arguments) => check::check(&arguments),
        Command::Plan(arguments) => check::plan(&arguments),
        Command::Convert(arguments) => convert::run(&arguments),
        Command::Demo(arguments) => demo::run(&arguments),
        Command::Help(arguments) => help::run(&arguments),
        Command::Completions(arguments) => man::completions(&arguments),
        Command::Man(arguments) => man::pages(&arguments),
    }
}

/// Whether the user asked to stop.
pub(crate) fn was_interrupted() -> bool {
    interruption().load(Ordering::Relaxed)
}

/// The flag that Ctrl-C sets; a second one ends the process at once.
fn interruption() -> &'static Arc<AtomicBool> {
    static FLAG: OnceLock<Arc<AtomicBool>> = OnceLock::new();
    FLAG.get_or_init(|| {
        let flag = Arc::new(AtomicBool::new(false));
        let set = flag.clone();
        let _ = ctrlc::set_handler(move || {
            if set.swap(true, Ordering::Relaxed) {
                churn::abandon_temporary_files();
                std::process::exit(130);
            }
        });
        flag
    })
}

/// The start of a chain: a path, or a whole `read` or `values` step.
fn input(text: &str) -> Flow {
    if is_step(text) { Flow::steps(text) } else { Flow::read(text) }
}

/// Whether an input is a whole step, not a path.
fn is_step(text: &str) -> bool {
    let word = text.split_whitespace().next().unwrap_or_default();
    churn::step(word).is_some() && text.trim_start().len() > word.len()
}

/// A chain over an input. Arguments that declare something, as a recipe does before its steps, stand before it.
fn chain_of(start: &str, steps: &[String]) -> Flow {
    let declares = |step: &&String| {
        let word = step.split_whitespace().next().unwrap_or_default();
        ["given", "define", "table"].contains(&word)
    };
    let (declarations, steps): (Vec<&String>, Vec<&String>) = steps.iter().partition(declares);
    let chain = steps.into_iter().fold(input(start), |flow, step| flow.then(step));
    if declarations.is_empty() {
        return chain;
    }
    let declared: String = declarations.iter().map(|text| format!("{text}\n")).collect();
    Flow::recipe(&format!("{declared}{chain}"))
}

/// The recipe of a file, or of standard input for `-`.
fn recipe_of(path: &Path) -> Result<Flow, Failure> {
    if is_query_file(path) {
        return Ok(Flow::sql_file(path)?);
    }
    if path.as_os_str() != "-" {
        return Ok(Flow::recipe_file(path)?);
    }
    let mut text = String::new();
    let read = std::io::stdin().read_to_string(&mut text);
    read.map_err(|error| Failure::Request(format!("The recipe on standard input cannot be read: {error}.")))?;
    Ok(Flow::recipe(&text))
}

/// Whether a path is that of a file that holds a query.
fn is_query_file(path: &Path) -> bool {
    path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("sql"))
}

/// A chain with the values that it is given, and the options of its run.
fn of_trial(flow: Flow, trial: &Trial, resources: &Resources) -> (Flow, RunOptions) {
    let flow = trial.given.iter().fold(flow, |flow, (name, value)| flow.given(name, value));
    let options = options(resources);
    match trial.first {
        Some(rows) => (flow, options.first_rows(rows)),
        None => (flow, options),
    }
}

fn options(resources: &Resources) -> RunOptions {
    let mut options = RunOptions::new().cancel(interruption().clone());
    if let Some(threads) = resources.threads {
        options = options.threads(threads);
    }
    if let Some(memory) = resources.memory {
        options = options.memory(memory);
    }
    if let Some(folder) = &resources.temporary {
        options = options.temporary(folder);
    }
    options
}

/// Checks a chain and tells what should be known before its run.
fn prepared(flow: &Flow, options: &RunOptions, resources: &Resources) -> Result<CheckedPlan, Failure> {
    let plan = flow.plan_with(options)?;
    if let Some(path) = resources.ledger.as_ref().filter(|path| path.as_os_str() != "-") {
        plan.may_write(path)?;
    }
    if !resources.quiet {
        plan.notes().iter().for_each(note);
    }
    Ok(plan)
}

/// Tells what became of rows: in full where that was asked for, else what is suspicious, a line each.
fn account(ledger: &Ledger, resources: &Resources) -> Outcome {
    match &resources.ledger {
        Some(path) if path.as_os_str() == "-" => {
            note(format!("\n{}", ledger.view(crate::terminal::width()).to_string().trim_end()))
        }
        Some(path) => {
            let json = serde_json::to_string_pretty(ledger).map_err(|e| Failure::File(e.to_string()))?;
            churn::write_file(path, (json + "\n").as_bytes())?;
        }
        None if !resources.quiet => suspicious(ledger),
        None => {}
    }
    Ok(())
}

fn suspicious(ledger: &Ledger) {
    let mut first = true;
    let mut tell = |what: String| {
        if std::mem::take(&mut first) && crate::terminal::is_terminal() {
            note("");
        }
        note(what);
    };
    ledger.warnings().into_iter().for_each(&mut tell);
    for step in ledger.steps() {
        for (event, count) in &step.events {
            let unknown = match step.nullable.as_slice() {
                [] => "dropped: the condition is unknown, something in it is null".to_owned(),
                names => format!("dropped: the condition is unknown, {} is null", names.join(" or ")),
            };
            let told = match event {
                churn::Event::NotTrue
                | churn::Event::Skipped
                | churn::Event::Repeated
                | churn::Event::NullGroup => continue,
                churn::Event::Unknown => unknown.as_str(),
                churn::Event::RaggedRow => "left out: the wrong number of cells",
                churn::Event::BadCell => "made null: not of the column's type",
                churn::Event::FailedCast => "made null: could not be cast",
                churn::Event::ZeroDivision => "made null: divided by zero",
                churn::Event::NoNumber => "written as null: NaN or infinite, which the format lacks",
                churn::Event::OutOfDomain => "made null: outside the function's domain",
                _ => continue,
            };
            let noun = match event {
                churn::Event::Unknown | churn::Event::RaggedRow => "row",
                churn::Event::BadCell => "cell",
                _ => "value",
            };
            let plural = if *count == 1 { "" } else { "s" };
            let first_line = step.step.lines().next().unwrap_or_default();
            tell(format!("{count} {noun}{plural} {told} ({first_line})"));
        }
    }
}
