//! Stores as they are run here: one that speaks S3's protocol, and the emulator of Azure's blobs. `.ci/stores` installs and starts
//! them and says where they are in `CHURN_S3` and `CHURN_AZ`; without these variables the tests are skipped, and say so.

use std::fs;

use rstest::rstest;

use crate::{churn, deliveries, done, run};

/// The key that the emulator has by its documentation.
const EMULATED: &str =
    "Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw==";

/// The settings of a store that runs here; `None`, told, if it does not.
fn settings(scheme: &str) -> Option<Vec<(&'static str, String)>> {
    let name = format!("CHURN_{}", scheme.to_ascii_uppercase());
    let Ok(address) = std::env::var(&name) else {
        eprintln!("skipped: {name} is not set, see .ci/stores");
        return None;
    };
    let text = str::to_owned;
    Some(match scheme {
        "az" => {
            let pairs = [
                text("DefaultEndpointsProtocol=http;AccountName=devstoreaccount1"),
                format!("AccountKey={EMULATED};BlobEndpoint={address}/devstoreaccount1"),
            ];
            vec![("AZURE_STORAGE_CONNECTION_STRING", pairs.join(";"))]
        }
        _ => vec![
            ("AWS_ENDPOINT_URL", address),
            ("AWS_ACCESS_KEY_ID", text("dairy")),
            ("AWS_SECRET_ACCESS_KEY", text("MilkAndWhey")),
        ],
    })
}

/// Objects of every format, small and of several parts, are written and read back as files are; patterns and folders find them.
#[rstest]
fn a_real_store_is_read_and_written(#[values("s3", "az")] scheme: &str) {
    let Some(settings) = settings(scheme) else { return };
    let with: Vec<(&str, &str)> = settings.iter().map(|(name, value)| (*name, value.as_str())).collect();
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("milk.csv"), deliveries(450_000)).unwrap();
    let sums = "group by farm: s = sum(litres), d = max(day)";
    let expected = done(folder.path(), &with, &["milk.csv", sums]);
    let below = format!("{scheme}://dairy/{}", std::process::id());
    for name in ["year=2025/milk.csv", "year=2026/milk.csv", "milk.parquet", "milk.arrow", "milk.ndjson.gz"] {
        let address = format!("{below}/{name}");
        done(folder.path(), &with, &["milk.csv", "-o", &address]);
        assert_eq!(done(folder.path(), &with, &[&address, sums]), expected, "{name}");
    }
    let count = "total: n = count()";
    assert_eq!(done(folder.path(), &with, &[&format!("{below}/year=*/milk.csv"), count]), "n\n900000\n");
    let one_year = "filter year = 2026\ntotal: n = count(), y = max(year)";
    assert_eq!(done(folder.path(), &with, &[&format!("{below}/year=*/*"), one_year]), "n,y\n450000,2026\n");
    // What is read of a columnar file is told.
    let parquet = format!("{below}/milk.parquet");
    let (_, text) =
        run(churn(folder.path(), &with).args(["do", &parquet, "total: s = sum(litres)", "--ledger"]));
    assert!(text.contains("fetched") && text.contains("1 of 3 columns"), "{text}");
}

#[rstest]
fn what_a_real_store_lacks_is_told(#[values("s3", "az")] scheme: &str) {
    let Some(settings) = settings(scheme) else { return };
    let with: Vec<(&str, &str)> = settings.iter().map(|(name, value)| (*name, value.as_str())).collect();
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("a.csv"), "a\n1\n").unwrap();
    for (chain, told) in [
        (vec![format!("{scheme}://dairy/no.parquet")], "there is no such object"),
        (vec![format!("{scheme}://no-such-bucket/no.csv")], "there is no such bucket"),
        (
            vec!["a.csv".to_owned(), "-o".to_owned(), format!("{scheme}://no-such-bucket/a.csv")],
            "there is no such bucket",
        ),
    ] {
        let (is_well, text) = run(churn(folder.path(), &with).arg("do").args(&chain));
        assert!(!is_well && text.contains(told), "{chain:?}: {text}");
    }
}
