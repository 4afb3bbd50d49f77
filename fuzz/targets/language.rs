//! Any text as a recipe: no panic in reading, checking or running it, and its canonical form is stable.

#![no_main]

use churn::{ErrorKind, Flow, RunOptions};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    // Files are out of reach: a recipe of the fuzzer's writes nothing.
    if text.contains("write") || text.contains("read") || text.contains("rejects") || text.len() > 4096 {
        return;
    }
    let flow = Flow::recipe(text);
    if let Err(error) = flow.check() {
        assert_ne!(error.kind(), ErrorKind::Internal, "{error}");
        let _ = error.to_string();
        return;
    }
    let printed = flow.to_string();
    let again = Flow::recipe(&printed);
    assert_eq!(again.to_string(), printed);
    again.check().expect("the canonical form is right, too");
    if let Err(error) = flow.run_with(&RunOptions::new().threads(1).memory(64 << 20)) {
        assert_ne!(error.kind(), ErrorKind::Internal, "{error}");
    }
});
