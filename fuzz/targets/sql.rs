//! Any text as a query: it is answered or refused, and its recipe reads back.

#![no_main]

use churn::{ErrorKind, Flow};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let milk = Flow::steps("values farm, litres, day: ('F001', 120.5, date '2026-01-01'), ('F002', null, null)");
    let farms = Flow::steps("values farm, district: ('F001', 'Lakes'), ('F003', null)");
    let flow = Flow::sql(text).with_table("milk", &milk).with_table("farms", &farms);
    match flow.expanded() {
        Ok(recipe) => {
            let printed = recipe.to_string();
            assert_eq!(Flow::recipe(&printed).to_string(), printed);
        }
        Err(error) => assert_ne!(error.kind(), ErrorKind::Internal, "{error}"),
    }
});
