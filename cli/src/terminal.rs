//! What is printed, where, and with which exit code.

use std::borrow::Cow;
use std::fmt::Display;
use std::io::{IsTerminal, Write};
use std::process::ExitCode;

use churn::{Error, ErrorKind, Screen};
use unicode_width::UnicodeWidthStr;

/// Why a command ends early.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The library says so.
    Churn(Error),
    /// The reader of standard output went away: nothing to say.
    Closed,
    /// The user stopped it.
    Interrupted,
    /// A fault of the request that only the tool knows of.
    Request(String),
    /// A file of the tool's own could not be written.
    File(String),
}

impl From<Error> for Failure {
    fn from(error: Error) -> Failure {
        match error.kind() {
            ErrorKind::Interrupted if crate::commands::was_interrupted() => Failure::Interrupted,
            ErrorKind::Interrupted => Failure::Closed,
            _ => Failure::Churn(error),
        }
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Failure {
        if error.kind() == std::io::ErrorKind::BrokenPipe {
            Failure::Closed
        } else {
            Failure::File(format!("Something could not be written: {error}."))
        }
    }
}

/// Prints to standard output what is made for a reader; data goes there by other ways, as it is.
pub(crate) fn out(text: impl Display) -> crate::Outcome {
    write!(std::io::stdout().lock(), "{}", visible(&text.to_string()))?;
    Ok(())
}

/// Prints a chart, whose colours are the only control characters that it has.
pub(crate) fn drawn(chart: String) -> crate::Outcome {
    std::io::stdout().lock().write_all(chart.as_bytes())?;
    Ok(())
}

/// What charts in characters are drawn for: the terminal's size; colours unless it has none or NO_COLOR is set; a dumb one
/// shows ASCII.
pub(crate) fn screen() -> Screen {
    let size = terminal_size::terminal_size();
    let (width, lines) = size.map_or((80, 24), |(width, lines)| (usize::from(width.0), usize::from(lines.0)));
    let is_dumb = std::env::var("TERM").is_ok_and(|terminal| terminal == "dumb");
    let no_colour = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
    Screen {
        width,
        height: (lines * 3 / 5).clamp(10, 30),
        has_colours: is_terminal() && !no_colour && !is_dumb,
        is_ascii: is_dumb,
    }
}

/// Prints a line to standard error.
pub(crate) fn note(text: impl Display) {
    let _ = writeln!(std::io::stderr().lock(), "{}", visible(&text.to_string()));
}

/// The text with pictures in the place of control characters, which a name or a value in a file may hold and a terminal
/// would obey.
fn visible(text: &str) -> Cow<'_, str> {
    let is_kept = |c: char| !c.is_control() || c == '\n' || c == '\t';
    if text.chars().all(is_kept) {
        return Cow::Borrowed(text);
    }
    let picture = |c: char| if is_kept(c) { c } else { churn::control_mark(c) };
    Cow::Owned(text.chars().map(picture).collect())
}

/// Prints why a command failed; gives its exit code.
pub(crate) fn fail(failure: &Failure) -> ExitCode {
    match failure {
        Failure::Closed => ExitCode::SUCCESS,
        Failure::Interrupted => {
            note("Stopped. Nothing was written.");
            ExitCode::from(130)
        }
        Failure::Churn(error) => {
            note(error);
            ExitCode::from(if error.kind().is_request() { 2 } else { 1 })
        }
        Failure::Request(text) => {
            note(text);
            ExitCode::from(2)
        }
        Failure::File(text) => {
            note(text);
            ExitCode::from(1)
        }
    }
}

/// Prints what is wrong with the arguments, or the help that was asked for.
pub(crate) fn explain(error: &clap::Error) -> ExitCode {
    let _ = error.print();
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2))
}

/// Two columns, the second aligned.
pub(crate) fn aligned<'a>(indent: &str, rows: impl IntoIterator<Item = (&'a str, String)>) -> String {
    let rows: Vec<(&str, String)> = rows.into_iter().collect();
    let width = rows.iter().map(|(first, _)| first.width()).max().unwrap_or(0);
    rows.iter().fold(String::new(), |text, (first, second)| {
        let gap = width - first.width();
        format!("{text}{indent}{first}{:gap$}  {second}\n", "")
    })
}

/// Two columns within a width, the second aligned and wrapped; where the first is wide, the second starts below it.
pub(crate) fn entries<'a>(
    indent: &str,
    rows: impl IntoIterator<Item = (&'a str, &'a str)>,
    width: usize,
) -> String {
    let rows: Vec<(&str, &str)> = rows.into_iter().collect();
    let widths = rows.iter().map(|(first, _)| first.width());
    let first_width = widths.filter(|own| *own <= width / 3).max().unwrap_or(0);
    let left = " ".repeat(indent.len() + first_width + 2);
    let mut text = String::new();
    for (first, second) in rows {
        let second =
            wrapped(second, width.saturating_sub(left.len()).max(20), "").replace('\n', &format!("\n{left}"));
        if first.width() <= first_width {
            let gap = " ".repeat(first_width - first.width());
            text.push_str(&format!("{indent}{first}{gap}  {second}\n"));
        } else {
            let first = wrapped(first, width - indent.len(), "  ").replace('\n', &format!("\n{indent}"));
            text.push_str(&format!("{indent}{first}\n{left}{second}\n"));
        }
    }
    text
}

/// A text in lines of at most a width, as far as its words allow; lines after the first are indented.
pub(crate) fn wrapped(text: &str, width: usize, indent: &str) -> String {
    let mut lines = churn::wrapped(text, width).into_iter();
    let first = lines.next().unwrap_or_default();
    let rest: Vec<String> = lines.collect();
    if rest.is_empty() {
        return first;
    }
    // What follows the first line has less room.
    let later = churn::wrapped(&rest.join(" "), width.saturating_sub(indent.len()));
    std::iter::once(first)
        .chain(later.into_iter().map(|line| format!("{indent}{line}")))
        .collect::<Vec<_>>()
        .join("\n")
}

/// The width that help is kept to: the terminal's, or 80 where the output is none.
pub(crate) fn help_width() -> usize {
    terminal_size::terminal_size().map_or(80, |(width, _)| usize::from(width.0)).clamp(40, 120)
}

/// The width of the terminal, or of a page.
pub(crate) fn width() -> usize {
    terminal_size::terminal_size().map_or(80, |(width, _)| usize::from(width.0))
}

/// Whether standard output is a terminal.
pub(crate) fn is_terminal() -> bool {
    std::io::stdout().is_terminal()
}
