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
            move_to(bar, progress);
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

fn move_to(bar: &ProgressBar, progress: Progress) {
    if let Some(style) = style(progress.total.is_some()) {
        bar.set_style(style);
    }
    bar.set_message(message(progress));
    if let Some(total) = progress.total {
        bar.set_length(total);
        bar.set_position(progress.done);
    }
}

/// What is done, in words.
fn message(progress: Progress) -> String {
    let rows = readable_plural(progress.rows, "row");
    match (progress.reads, progress.total) {
        (true, Some(total)) if progress.done >= total => format!("all read, {rows}"),
        (true, Some(total)) => {
            format!("{} of {} read, {rows}", readable_bytes(progress.done), readable_bytes(total))
        }
        (true, None) => format!("{} read, {rows}", readable_bytes(progress.done)),
        (false, Some(total)) => {
            format!("{} of {} passed on", readable_count(progress.done), readable_plural(total, "row"))
        }
        (false, None) => format!("{rows} passed on"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_done_is_told_in_words() {
        let told = |reads, done, total, rows| message(Progress { reads, done, total, rows });
        assert_eq!(told(true, 1_500_000, Some(3_000_000), 20_000), "1.5 MB of 3.0 MB read, 20\u{a0}000 rows");
        assert_eq!(told(true, 3_000_000, Some(3_000_000), 1), "all read, 1 row");
        assert_eq!(told(true, 1_500_000, None, 7), "1.5 MB read, 7 rows");
        assert_eq!(told(false, 10, Some(20), 10), "10 of 20 rows passed on");
        assert_eq!(told(false, 0, None, 3), "3 rows passed on");
    }
}
