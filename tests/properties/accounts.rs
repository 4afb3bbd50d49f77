//! Every row is accounted for: what came into a step went out of it, or the ledger says why not.

use std::fs;

use churn::{Event, Flow, LedgerStep, Scalar};
use proptest::prelude::*;
use tempfile::TempDir;

use crate::columns::{SETTINGS, options};

/// Deliveries with gaps, drawn.
#[derive(Clone, Debug)]
struct Deliveries(Vec<(Option<u8>, Option<i16>)>);

fn deliveries() -> impl Strategy<Value = Deliveries> {
    let farm = prop::option::weighted(0.9, 0..6u8);
    let litres = prop::option::weighted(0.85, -20..60i16);
    prop::collection::vec((farm, litres), 1..80).prop_map(Deliveries)
}

impl Deliveries {
    /// A folder with them as a text file.
    fn folder(&self) -> TempDir {
        let folder = tempfile::tempdir().unwrap();
        let shown = |value: Option<i16>| value.map_or(String::new(), |value| value.to_string());
        let row = |(farm, litres): &(Option<u8>, Option<i16>)| {
            format!("{},{},x\n", farm.map_or(String::new(), |farm| format!("F{farm}")), shown(*litres))
        };
        let text: String = self.0.iter().map(row).collect();
        fs::write(folder.path().join("d.csv"), format!("farm,litres,note\n{text}")).unwrap();
        folder
    }

    fn flow(&self, folder: &TempDir) -> Flow {
        // A file without a number in it has a column of text.
        Flow::steps("read 'd.csv' with (types = (farm text, litres int))").in_folder(folder.path())
    }
}

/// Steps that pass some of their rows.
const STEPS: [&str; 9] = [
    "filter litres > 10",
    "filter farm <> 'F2' or litres < 0",
    "distinct by farm, litres",
    "add doubled = litres * 2",
    "sort litres desc",
    "unpivot value for which in farm, note skip nulls\nadd farm = value, litres = 4, note = which\nselect farm, litres, note",
    "fill litres with 0",
    "filter not (litres between 0 and 30)",
    "last 40",
];

/// Rows that did not go on, by the ledger.
fn left_out(step: &LedgerStep) -> u64 {
    [Event::NotTrue, Event::Unknown, Event::Skipped, Event::Repeated, Event::Empty]
        .into_iter()
        .map(|event| step.count(event))
        .sum()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn what_comes_in_goes_out_or_is_told(
        data in deliveries(),
        chain in prop::collection::vec(prop::sample::select(STEPS.to_vec()), 1..6),
    ) {
        let folder = data.folder();
        let flow = chain.iter().fold(data.flow(&folder), |flow, step| flow.then(step));
        for setting in SETTINGS {
            let table = flow.run_with(&options(setting)).unwrap();
            let steps = table.ledger().steps();
            prop_assert_eq!(steps[0].rows_out, Some(data.0.len() as u64));
            for pair in steps.windows(2) {
                let [before, step] = pair else { unreachable!() };
                prop_assert_eq!(step.rows_in, before.rows_out, "{}", table.ledger());
                let (came, went) = (step.rows_in.unwrap(), step.rows_out.unwrap());
                let expected = match step.step.split(' ').next().unwrap() {
                    "unpivot" => came * 2 - left_out(step),
                    "last" => came.min(40),
                    _ => came - left_out(step),
                };
                prop_assert_eq!(went, expected, "{}: {}", setting.0, table.ledger());
            }
            prop_assert_eq!(steps.last().unwrap().rows_out, Some(table.len() as u64));
        }
    }

    #[test]
    fn unknown_rows_are_those_with_a_gap(data in deliveries()) {
        let folder = data.folder();
        let table = data.flow(&folder).filter("litres > 10").run().unwrap();
        let count = |wanted: &dyn Fn(Option<i16>) -> bool| data.0.iter().filter(|(_, litres)| wanted(*litres)).count() as u64;
        let step = &table.ledger().steps()[1];
        prop_assert_eq!(step.count(Event::Unknown), count(&|litres| litres.is_none()));
        prop_assert_eq!(step.count(Event::NotTrue), count(&|litres| litres.is_some_and(|litres| litres <= 10)));
        prop_assert_eq!(table.len() as u64, count(&|litres| litres.is_some_and(|litres| litres > 10)));
    }

    #[test]
    fn groups_hold_every_row(data in deliveries()) {
        let folder = data.folder();
        let groups = data.flow(&folder).group("farm", "n = count(), litres = sum(litres)");
        for setting in SETTINGS {
            let table = groups.run_with(&options(setting)).unwrap();
            let whole = |name: &str| -> i64 {
                let int = |value: Scalar| if let Scalar::Int(value) = value { value } else { 0 };
                table.values(name).unwrap().into_iter().map(int).sum()
            };
            prop_assert_eq!(whole("n"), data.0.len() as i64);
            prop_assert_eq!(whole("litres"), data.0.iter().filter_map(|(_, l)| *l).map(i64::from).sum::<i64>());
            let has_gap = data.0.iter().any(|(farm, _)| farm.is_none());
            prop_assert_eq!(table.ledger().total(Event::NullGroup), u64::from(has_gap));
        }
    }

    /// Groups are counted whether anything reads their keys or not.
    #[test]
    fn groups_are_counted_without_their_keys(data in deliveries()) {
        let folder = data.folder();
        let groups = data.flow(&folder).group("farm, litres", "n = count()");
        let counted = groups.clone().total("rows = sum(n), groups = count()");
        let one_key = groups.group("litres", "rows = sum(n)");
        let different: std::collections::HashSet<_> = data.0.iter().collect();
        let gaps = different.iter().filter(|(farm, litres)| farm.is_none() || litres.is_none()).count() as u64;
        for setting in SETTINGS {
            let table = counted.run_with(&options(setting)).unwrap();
            let int = |name: &str| table.values(name).unwrap().first().cloned();
            let rows = if data.0.is_empty() { Scalar::Null } else { Scalar::Int(data.0.len() as i64) };
            prop_assert_eq!(int("rows"), Some(rows));
            prop_assert_eq!(int("groups"), Some(Scalar::Int(different.len() as i64)));
            prop_assert_eq!(table.ledger().steps()[1].count(Event::NullGroup), gaps);
            prop_assert_eq!(table.ledger().steps()[1].rows_out, Some(different.len() as u64));
        }
        let table = one_key.run().unwrap();
        prop_assert_eq!(table.ledger().steps()[1].count(Event::NullGroup), gaps);
        let litres: std::collections::HashSet<_> = data.0.iter().map(|(_, litres)| litres).collect();
        prop_assert_eq!(table.len(), litres.len());
    }

    #[test]
    fn bad_cells_and_ragged_rows_are_counted(cells in prop::collection::vec(0..4u8, 1..60)) {
        let folder = tempfile::tempdir().unwrap();
        let row = |cell: &u8| match cell {
            0 => "F1,12\n",
            1 => "F1,twelve\n",
            2 => "F1\n",
            _ => "F1,\n",
        };
        let text: String = cells.iter().map(row).collect();
        fs::write(folder.path().join("d.csv"), format!("farm,litres\n{text}")).unwrap();
        let read = "read 'd.csv' with (types = (litres int), bad_cells = null, bad_rows = pad)";
        let flow = Flow::steps(read).in_folder(folder.path());
        let count = |wanted: u8| cells.iter().filter(|cell| **cell == wanted).count() as u64;
        for setting in SETTINGS {
            let table = flow.run_with(&options(setting)).unwrap();
            prop_assert_eq!(table.len(), cells.len());
            prop_assert_eq!(table.ledger().total(Event::BadCell), count(1));
            prop_assert_eq!(table.ledger().total(Event::PaddedRow), count(2));
            let nulls = table.values("litres").unwrap().iter().filter(|litres| litres.is_null()).count() as u64;
            prop_assert_eq!(nulls, cells.len() as u64 - count(0));
        }
    }
}
