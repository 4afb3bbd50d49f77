//! Any bytes as JSON, Parquet and Arrow: an answer or an error that tells of the data, never a fault of churn.

#![no_main]

use churn::{ErrorKind, Flow, RunOptions};
use libfuzzer_sys::fuzz_target;

/// The first byte chooses the format, the rest is the file.
const FORMATS: [&str; 4] = ["json", "ndjson", "parquet", "arrow"];

fuzz_target!(|data: &[u8]| {
    let Some((first, bytes)) = data.split_first() else { return };
    let format = FORMATS[usize::from(*first) % FORMATS.len()];
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join(format!("t.{format}")), bytes).expect("a file");
    let flow = Flow::steps(&format!("read 't.{format}'")).in_folder(folder.path());
    let run = |block: usize| {
        let table = flow.run_with(&RunOptions::new().threads(1).block_bytes(block));
        table.map(|table| table.to_string())
    };
    match (run(1 << 16), run(17)) {
        (Ok(whole), Ok(small)) => assert_eq!(whole, small),
        (Err(error), _) | (_, Err(error)) => assert_ne!(error.kind(), ErrorKind::Internal, "{error}"),
    }
});
