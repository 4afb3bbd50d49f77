//! Any bytes as delimited text: no panic, and the same answer whatever the blocks and threads.

#![no_main]

use churn::{ErrorKind, Flow, RunOptions, Table};
use libfuzzer_sys::fuzz_target;

/// The first byte chooses the options, the rest is the file.
const OPTIONS: [&str; 8] = [
    "bad_rows = skip",
    "header = false, bad_rows = skip, bad_cells = null",
    "separator = ';', decimal = ',', thousands = '.', bad_rows = skip, bad_cells = null",
    "quote = none, comment = '#', bad_rows = skip, bad_cells = null",
    "header = 2, skip = 1, bad_rows = skip",
    "encoding = 'latin1', missing = ('', 'a'), bad_rows = skip",
    "encoding = 'utf-16', bad_rows = skip, bad_cells = null",
    "comment = '#', separator = tab",
];

fn cells(table: &Table) -> String {
    let values = table.columns().map(|(name, _)| table.values(name).expect("a column"));
    format!("{:?}", values.collect::<Vec<_>>())
}

fuzz_target!(|data: &[u8]| {
    let Some((first, text)) = data.split_first() else { return };
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join("t.csv"), text).expect("a file");
    let options = OPTIONS[usize::from(*first) % OPTIONS.len()];
    let flow = Flow::steps(&format!("read 't.csv' with ({options})")).in_folder(folder.path());
    let whole = flow.run_with(&RunOptions::new().threads(1));
    if let Err(error) = &whole {
        assert_ne!(error.kind(), ErrorKind::Internal, "{error}");
        return;
    }
    let small = flow.run_with(&RunOptions::new().threads(2).block_bytes(11));
    match (whole, small) {
        (Ok(a), Ok(b)) => assert_eq!(cells(&a), cells(&b)),
        (a, b) => panic!("{a:?} and {b:?}"),
    }
});
