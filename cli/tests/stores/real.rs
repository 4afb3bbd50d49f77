//! Stores as they are run here: one that speaks S3's protocol, which is that of `gs://` too as far as it is used, but for keys; and the
//! emulator of Azure's blobs. `.ci/stores` installs and starts them and says where they are in `CHURN_S3` and `CHURN_AZ`; without
//! these variables the tests are skipped, and say so.

use std::fs;

use rstest::rstest;

use crate::{churn, deliveries, done, run};

/// The key that the emulator has by its documentation.
const EMULATED: &str =
    "Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw==";

/// The settings of a store that runs here; `None`, told, if it does not.
fn settings(scheme: &str) -> Option<Vec<(&'static str, String)>> {
    let name = if scheme == "az" { "CHURN_AZ" } else { "CHURN_S3" };
    let Ok(address) = std::env::var(name) else {
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
        "gs" => vec![("STORAGE_EMULATOR_HOST", address)],
        _ => vec![
            ("AWS_ENDPOINT_URL", address),
            ("AWS_ACCESS_KEY_ID", text("dairy")),
            ("AWS_SECRET_ACCESS_KEY", text("MilkAndWhey")),
        ],
    })
}

fn pairs<'a>(settings: &'a [(&'static str, String)]) -> Vec<(&'a str, &'a str)> {
    settings.iter().map(|(name, value)| (*name, value.as_str())).collect()
}

/// Deliveries of so many bytes that they are sent in parts, and read by ranges.
fn large() -> String {
    let note = "delivered as agreed in the early morning at the gate behind the old dairy";
    let text = deliveries(180_000).replacen("day\n", "day,note\r", 1);
    let text = text.replace('\n', &format!(",{note} number two\n")).replace('\r', "\n");
    assert!(text.len() > 17 << 20, "{}", text.len());
    text
}

/// Objects of every format, small and of several parts, are written and read back as files are; patterns and folders find them.
#[rstest]
fn a_real_store_is_read_and_written(#[values("s3", "az")] scheme: &str) {
    let Some(settings) = settings(scheme) else { return };
    let with = pairs(&settings);
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("milk.csv"), large()).unwrap();
    let sums = "group by farm: s = sum(litres), d = max(day)";
    let expected = done(folder.path(), &with, &["milk.csv", sums]);
    let below = format!("{scheme}://dairy/{}", std::process::id());
    for name in ["year=2025/milk.csv", "year=2026/milk.csv", "milk.parquet", "milk.arrow", "milk.ndjson.gz"] {
        let address = format!("{below}/{name}");
        done(folder.path(), &with, &["milk.csv", "-o", &address]);
        assert_eq!(done(folder.path(), &with, &[&address, sums]), expected, "{name}");
    }
    // A text so large that it is sent in parts, and read by ranges.
    fs::write(folder.path().join("large.csv"), deliveries(900_000)).unwrap();
    let large = format!("{below}/large.csv");
    done(folder.path(), &with, &["large.csv", "-o", &large]);
    assert_eq!(done(folder.path(), &with, &[&large, sums]), done(folder.path(), &with, &["large.csv", sums]));
    let count = "total: n = count()";
    assert_eq!(done(folder.path(), &with, &[&format!("{below}/year=*/milk.csv"), count]), "n\n360000\n");
    let one_year = "filter year = 2026\ntotal: n = count(), y = max(year)";
    assert_eq!(done(folder.path(), &with, &[&format!("{below}/year=*/*"), one_year]), "n,y\n180000,2026\n");
    // What is read of a columnar file is told.
    let parquet = format!("{below}/milk.parquet");
    let (_, text) =
        run(churn(folder.path(), &with).args(["do", &parquet, "total: s = sum(litres)", "--ledger"]));
    assert!(text.contains("fetched") && text.contains("1 of 4 columns"), "{text}");
}

/// What is written as of one scheme is read as of the other: the store takes nothing that is not signed by a key of its own kind.
#[test]
fn a_real_store_is_read_under_another_scheme() {
    let (Some(written), Some(read)) = (settings("s3"), settings("gs")) else { return };
    let (written, read) = (pairs(&written), pairs(&read));
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("milk.csv"), deliveries(30_000)).unwrap();
    let sums = "group by farm: s = sum(litres), d = max(day)";
    let expected = done(folder.path(), &[], &["milk.csv", sums]);
    let below = format!("dairy/{}-gs", std::process::id());
    for name in ["year=2025/milk.csv", "year=2026/milk.csv", "milk.parquet", "milk.ndjson.gz"] {
        done(folder.path(), &written, &["milk.csv", "-o", &format!("s3://{below}/{name}")]);
        assert_eq!(done(folder.path(), &read, &[&format!("gs://{below}/{name}"), sums]), expected, "{name}");
    }
    let count = "total: n = count()";
    assert_eq!(done(folder.path(), &read, &[&format!("gs://{below}/year=*/milk.csv"), count]), "n\n60000\n");
    for (address, told) in [
        ("gs://dairy/no.parquet", "there is no such object"),
        ("gs://no-such-bucket/no.csv", "there is no such bucket"),
    ] {
        let (is_well, text) = run(churn(folder.path(), &read).args(["do", address]));
        assert!(!is_well && text.contains(told), "{text}");
    }
}

#[rstest]
fn what_a_real_store_lacks_is_told(#[values("s3", "az")] scheme: &str) {
    let Some(settings) = settings(scheme) else { return };
    let with = pairs(&settings);
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
