//! A bar on standard error for anything over a second, on a terminal only.

use std::io::IsTerminal;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use churn::{Progress, RunOptions, readable_bytes, readable_count, readable_plural};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// The bar of a run; it goes when this is dropped.
pub(crate) struct Bar(Arc<Mutex<Option<ProgressBar>>>);

impl Drop for Bar {
    fn drop(&mut self) {
        if let Ok(mut bar) = self.0.lock()
            && let Some(bar) = bar.take()
        {
            bar.finish_and_clear();
        }
    }
}

/// Options that show a bar once the run takes longer than a second.
pub(crate) fn shown(options: RunOptions, quiet: bool) -> (RunOptions, Option<Bar>) {
    if quiet || !std::io::stderr().is_terminal() {
        return (options, None);
    }
    let bar: Arc<Mutex<Option<ProgressBar>>> = Arc::default();
    let start = Instant::now();
    let shown = bar.clone();
    let options = options.on_progress(move |progress| {
        if start.elapsed() < Duration::from_secs(1) {
            return;
        }
        if let Ok(mut bar) = shown.lock() {
            let is_new = bar.is_none();
            let bar = bar.get_or_insert_with(made);
            move_to(bar, progress, start.elapsed());
            if is_new {
                bar.set_draw_target(ProgressDrawTarget::stderr());
            }
        }
    });
    (options, Some(Bar(bar)))
}

/// A bar that is not seen yet, so that it is not drawn before it has something to tell.
fn made() -> ProgressBar {
    ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden())
}

/// With a bar where it is known how much there is, else without.
fn style(has_total: bool) -> Option<ProgressStyle> {
    let template = if has_total { "{wide_bar:.dim} {percent:>3} %  {msg}" } else { "{msg}" };
    ProgressStyle::with_template(template).ok().map(|style| style.progress_chars("── "))
}

fn move_to(bar: &ProgressBar, progress: Progress, elapsed: Duration) {
    if let Some(style) = style(progress.total.is_some()) {
        bar.set_style(style);
    }
    bar.set_message(message(progress, elapsed));
    if let Some(total) = progress.total {
        bar.set_length(total);
        bar.set_position(progress.done);
    }
}

/// What is done, in words: how much, at what rate, how long it will still take, and what is held.
fn message(progress: Progress, elapsed: Duration) -> String {
    let rows = readable_plural(progress.rows, "row");
    let done = match (progress.reads, progress.total) {
        (true, Some(total)) if progress.done >= total => format!("all read, {rows}"),
        (true, Some(total)) => {
            format!("{} of {} read, {rows}", readable_bytes(progress.done), readable_bytes(total))
        }
        (true, None) => format!("{} read, {rows}", readable_bytes(progress.done)),
        (false, Some(total)) => {
            format!("{} of {} passed on", readable_count(progress.done), readable_plural(total, "row"))
        }
        (false, None) => format!("{rows} passed on"),
    };
    let mut told = vec![done];
    let seconds = elapsed.as_secs_f64();
    if progress.reads && seconds > 0.0 {
        told.push(format!("{}/s", readable_bytes((progress.done as f64 / seconds) as u64)));
    }
    // Of a source that is read from its start on; what follows is not known yet.
    let left = progress.total.filter(|total| progress.reads && progress.done > 0 && progress.done < *total);
    if let Some(total) = left {
        let seconds = seconds * (total - progress.done) as f64 / progress.done as f64;
        told.push(format!("about {} left", time(seconds)));
    }
    if progress.held >= LEAST_HELD {
        told.push(format!("{} held", readable_bytes(progress.held)));
    }
    told.join(", ")
}

/// Bytes that are held from which on they are told.
const LEAST_HELD: u64 = 1_000_000;

/// A time in whole seconds or minutes.
fn time(seconds: f64) -> String {
    match seconds {
        seconds if seconds < 90.0 => format!("{} s", seconds.ceil()),
        seconds if seconds < 5400.0 => format!("{} min", (seconds / 60.0).ceil()),
        seconds => format!("{:.1} h", seconds / 3600.0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case((true, 1_500_000, Some(3_000_000), 20_000, 0), 2.0, "1.5 MB of 3.0 MB read, 20\u{a0}000 rows, 750 kB/s, about 2 s left")]
    #[case((true, 3_000_000, Some(3_000_000), 1, 5_000_000), 3.0, "all read, 1 row, 1.0 MB/s, 5.0 MB held")]
    #[case((true, 1_500_000, None, 7, 10), 1.5, "1.5 MB read, 7 rows, 1.0 MB/s")]
    #[case((true, 10, Some(100_010), 7, 0), 1.0, "10 bytes of 100 kB read, 7 rows, 10 bytes/s, about 2.8 h left")]
    #[case((false, 10, Some(20), 10, 2_000_000), 9.0, "10 of 20 rows passed on, 2.0 MB held")]
    #[case((false, 0, None, 3, 0), 9.0, "3 rows passed on")]
    fn what_is_done_is_told_in_words(
        #[case] (reads, done, total, rows, held): (bool, u64, Option<u64>, u64, u64),
        #[case] seconds: f64,
        #[case] text: &str,
    ) {
        let told = message(Progress { reads, done, total, rows, held }, Duration::from_secs_f64(seconds));
        assert_eq!(told, text);
    }
}
