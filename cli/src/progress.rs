//! A bar on standard error for anything over a second, on a terminal only.

use std::io::IsTerminal;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use churn::{Progress, RunOptions};
use indicatif::{ProgressBar, ProgressStyle};

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
            move_to(bar.get_or_insert_with(made), progress);
        }
    });
    (options, Some(Bar(bar)))
}

fn made() -> ProgressBar {
    let bar = ProgressBar::no_length();
    if let Ok(style) = ProgressStyle::with_template("{wide_bar:.dim} {percent:>3} %  {msg}") {
        bar.set_style(style.progress_chars("── "));
    }
    bar
}

fn move_to(bar: &ProgressBar, progress: Progress) {
    if let Some(total) = progress.total {
        bar.set_length(total);
        bar.set_position(progress.done);
    }
    bar.set_message(format!("{} rows read", churn::readable_count(progress.rows)));
}
