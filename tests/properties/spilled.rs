//! Steps that hold rows: past their memory they give what they give within it, whatever the keys are like.

use std::fmt::Write;
use std::fs;

use churn::{Flow, Scalar};
use rstest::rstest;
use tempfile::TempDir;

use crate::columns::{SETTINGS, options, rows};

const ROWS: u64 = 4000;

/// A number that looks random, the same in every run.
fn mixed(row: u64, salt: u64) -> u64 {
    let mut x = row.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ salt.wrapping_mul(0xd1b5_4a32_d192_ed03);
    x ^= x >> 29;
    x = x.wrapping_mul(0xbf58_476d_1ce4_e5b9);
    x ^ x >> 32
}

/// Deliveries whose keys are spread in some way: a farm, a day, litres, and a note that may be long.
fn deliveries(spread: &str) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let mut text = String::from("id,farm,day,litres,note\n");
    for row in 0..ROWS {
        let farm = match spread {
            "all equal" => "F1".to_owned(),
            "all different" => format!("F{row:06}"),
            "mostly one" if !mixed(row, 1).is_multiple_of(10) => "F1".to_owned(),
            "empty and long" => match mixed(row, 1) % 4 {
                0 => String::new(),
                1 => "\"\"".to_owned(),
                2 => "a farm ".repeat(200) + &(mixed(row, 2) % 50).to_string(),
                _ => format!("F{}", mixed(row, 3) % 9),
            },
            _ => format!("F{:03}", mixed(row, 1) % 700),
        };
        let day = mixed(row, 4) % 90;
        let day =
            if day == 0 { String::new() } else { format!("2026-{:02}-{:02}", 1 + day / 28, 1 + day % 28) };
        let litres = match mixed(row, 5) % 50 {
            0 => String::new(),
            1 => "nan".to_owned(),
            litres => (litres * 5).to_string() + ".25",
        };
        writeln!(text, "{row},{farm},{day},{litres},note {}", mixed(row, 6) % 1500).unwrap();
    }
    fs::write(folder.path().join("d.csv"), text).unwrap();
    folder
}

#[rstest]
#[case::group(
    "group by farm: n = count(), s = sum(litres), m = mean(litres), least = min(day), most = max(note)"
)]
#[case::group_by_two("group by farm, day: n = count(), s = stddev(litres), first = first(note)")]
#[case::group_of_sets(
    "group by day: kinds = count_distinct(note), middle = median(litres), often = mode(farm)"
)]
#[case::group_of_lists("group by day: ids = array_agg(id), by = max_by(note, litres)")]
#[case::distinct("distinct by farm, day")]
#[case::distinct_rows("select note, farm\ndistinct")]
#[case::first_per("first 2 per farm")]
#[case::last_per("last 2 per farm, day")]
#[case::sample_per("sample 1 per farm seed 3")]
#[case::sample("sample 500 seed 3")]
#[case::last("last 1700")]
#[case::sort("sort farm, litres desc, day nulls first")]
#[case::sort_by_number("sort litres desc, id")]
#[case::top("sort note, id desc\nfirst 300")]
#[case::per("add share = litres / sum(litres) per farm, n = count() per (farm, day)")]
#[case::window(
    "window by farm order by day\n  before = lag(litres)\n  so_far = sum(litres) over rows so far\n  place = rank()"
)]
#[case::window_of_all("window order by note, id\n  middle = median(litres) over last 9 rows")]
#[case::join("join left (OTHER) on farm, day prefix 'o_'")]
#[case::semi("join semi (OTHER) on note")]
#[case::full("join full (OTHER) on farm, id prefix 'o_'")]
#[case::asof("join asof left (OTHER) on farm, day >= since prefix 'o_'")]
#[case::pivot(
    "add third = id mod 3\nselect farm, third, litres\npivot third in (0, 1, 2) by farm: litres = sum(litres)"
)]
#[case::fill_down("fill litres, day down by farm")]
#[case::used_twice("join semi same on id")]
#[case::densify("group by day: n = count()\nfilter day is not null\ndensify day by interval '1' day")]
fn memory_changes_no_answer(
    #[case] steps: &str,
    #[values("evenly", "all equal", "all different", "mostly one", "empty and long")] spread: &str,
) {
    let folder = deliveries(spread);
    let types = "with (types = (day date, litres float))";
    let other = "table other\n  read 'd.csv' with (types = (day date, litres float))\n  filter id mod 7 = 3\n  select id, farm, day, note, since = day\n";
    let same = "table same\n  read 'd.csv' with (types = (day date, litres float))\n  filter litres > 100\n";
    // One farm has half a million pairs: enough of them are looked at.
    let few = if spread == "all equal" && steps.starts_with("join") { "filter id < 400\n" } else { "" };
    let recipe = format!("{other}{same}read 'd.csv' {types}\n{few}{}\n", steps.replace("(OTHER)", "other"));
    let flow = Flow::recipe(&recipe).in_folder(folder.path());
    let run = |setting| {
        let table = flow.run_with(&options(setting)).unwrap_or_else(|e| panic!("{recipe}\n{e}"));
        (rows(&table), table.ledger().clone())
    };
    let (expected, ledger) = run(SETTINGS[0]);
    assert!(!expected.is_empty(), "{recipe}");
    for setting in &SETTINGS[1..] {
        let (found, told) = run(*setting);
        let differs = expected.iter().zip(&found).find(|(a, b)| !near(a, b));
        assert!(found.len() == expected.len() && differs.is_none(), "{}: {recipe}\n{differs:?}", setting.0);
        assert_eq!(told, ledger, "{}: {recipe}", setting.0);
    }
}

/// Whether two rows are the same; batches of other lengths may round a sum otherwise.
fn near(a: &[Scalar], b: &[Scalar]) -> bool {
    a.len() == b.len()
        && a.iter().zip(b).all(|(a, b)| match (a, b) {
            (Scalar::Float(a), Scalar::Float(b)) => {
                a == b || a.is_nan() && b.is_nan() || (a - b).abs() <= 1e-12 * a.abs().max(b.abs())
            }
            _ => a == b,
        })
}

/// The first of two repeated rows is told of at every budget.
#[rstest]
fn a_repeated_key_is_told(#[values(1, 700, 3999)] at: u64) {
    let folder = tempfile::tempdir().unwrap();
    let row = |row: u64| format!("{}\n", if row == at { 0 } else { row });
    let text: String = (0..ROWS).map(row).collect();
    fs::write(folder.path().join("d.csv"), format!("id\n{text}999\n")).unwrap();
    let flow = Flow::steps("read 'd.csv'\nrequire unique by id").in_folder(folder.path());
    for setting in SETTINGS {
        let error = flow.run_with(&options(setting)).unwrap_err().to_string();
        assert!(error.contains("id = 0"), "{}: {error}", setting.0);
    }
}
