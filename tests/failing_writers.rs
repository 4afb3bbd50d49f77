//! A writer that fails at its n-th call, for all n: the run fails with it, whatever the format, and never panics.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::io::{Error, ErrorKind as IoKind, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use churn::{ErrorKind, Flow, RunOptions};
use rstest::rstest;

/// Writes until its n-th call.
struct Failing {
    calls: Arc<AtomicUsize>,
    fails_at: usize,
    kind: IoKind,
}

impl Failing {
    fn call(&self) -> std::io::Result<()> {
        if self.calls.fetch_add(1, Ordering::Relaxed) >= self.fails_at {
            return Err(Error::new(self.kind, "the disk is full"));
        }
        Ok(())
    }
}

impl Write for Failing {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.call()?;
        // Never all at once: whoever writes must go on with the rest.
        Ok(bytes.len().div_ceil(2))
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.call()
    }
}

#[rstest]
fn each_call_of_a_writer_may_fail(
    #[values("csv", "tsv", "json", "ndjson", "markdown", "parquet", "arrow", "avro", "orc", "xlsx")]
    format: &str,
    #[values(IoKind::StorageFull, IoKind::BrokenPipe)] kind: IoKind,
    #[values(1, 2)] threads: usize,
) {
    let rows: Vec<String> = (0..200).map(|i| format!("({i}, 'farm {}', {}.5)", i % 7, i)).collect();
    let flow = Flow::steps(&format!("values id, farm, litres: {}", rows.join(", ")));
    let plan = flow.plan().unwrap();
    let options = RunOptions::new().threads(threads).batch_rows(40);
    let mut failed = 0;
    for fails_at in 0.. {
        let calls = Arc::new(AtomicUsize::new(0));
        let out = Failing { calls: calls.clone(), fails_at, kind };
        match plan.write_to(out, format, &options) {
            Ok(_) => {
                assert_eq!(calls.load(Ordering::Relaxed), fails_at, "the last call was its last");
                break;
            }
            Err(error) => {
                let expected =
                    if kind == IoKind::BrokenPipe { ErrorKind::Interrupted } else { ErrorKind::Output };
                assert_eq!(error.kind(), expected, "call {fails_at}: {error}");
                failed += 1;
            }
        }
        assert!(fails_at < 5_000, "it never ends");
    }
    assert!(failed > 2, "{failed}");
}
