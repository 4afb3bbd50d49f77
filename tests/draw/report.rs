//! Reports of runs: what they tell is what the run did, and every text in them stays a text.

use churn::{Flow, RunOptions};
use rstest::rstest;

use super::milk;

fn report(flow: &Flow) -> churn::Report {
    flow.report(&RunOptions::new().threads(2)).unwrap_or_else(|e| panic!("{e}"))
}

#[test]
fn a_report_tells_the_result_and_what_became_of_rows() {
    let flow = milk().filter("litres > 100").sort("litres desc");
    let report = report(&flow);
    let table = flow.run().unwrap();
    let result = report.result.unwrap();
    assert_eq!((result.total, result.rows.len()), (table.len() as u64, 10));
    assert_eq!(
        result.columns.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>(),
        table.columns().map(|(n, _)| n).collect::<Vec<_>>()
    );
    let told: Vec<_> =
        report.steps.iter().map(|step| (step.step.as_str(), step.rows_in, step.rows_out)).collect();
    let ledger: Vec<_> =
        table.ledger().steps().iter().map(|step| (step.step.as_str(), step.rows_in, step.rows_out)).collect();
    assert_eq!(told, ledger);
    let profile = report.profile.unwrap();
    assert_eq!(profile.rows, table.len() as u64);
    assert_eq!(profile.columns.len(), 6);
    assert!(report.seconds > 0.0 && report.threads == 2 && report.most_held > 0);
    assert!(report.steps.iter().all(|step| step.seconds >= 0.0 && step.seconds < 60.0));
}

#[test]
fn a_report_has_what_is_written_and_drawn() {
    let folder = tempfile::tempdir().unwrap();
    milk().write(folder.path().join("milk.csv")).unwrap();
    let recipe = "table farms\n  read 'milk.csv'\n  group by farm: litres = sum(litres)\n  write 'farms.csv'\n\n\
                  read 'milk.csv'\ndraw histogram litres to 'litres.svg' with (title = 'Litres')\nwrite 'all.tsv'\n";
    std::fs::write(folder.path().join("milk.churn"), recipe).unwrap();
    let flow = Flow::recipe_file(folder.path().join("milk.churn")).unwrap();
    let report = report(&flow).with_digests().unwrap();
    let written: Vec<_> = report
        .written
        .iter()
        .map(|output| (output.path.as_str(), output.rows.as_ref().map(|rows| rows.total)))
        .collect();
    assert_eq!(written, [("farms.csv", Some(3)), ("litres.svg", None), ("all.tsv", Some(18))]);
    assert!(report.written.iter().all(|output| output.bytes.is_some_and(|bytes| bytes > 0)));
    let [chart] = report.charts.as_slice() else { panic!("one chart is drawn") };
    assert_eq!((chart.title.as_str(), chart.file.as_deref()), ("Litres", Some("litres.svg")));
    assert_eq!(chart.svg[0], std::fs::read_to_string(folder.path().join("litres.svg")).unwrap());
    assert!(report.result.is_none());
    assert_eq!(report.profile.as_ref().map(|profile| profile.rows), Some(18), "of the last file");
    let [input] = report.inputs.as_slice() else { panic!("one file is read") };
    assert!(
        input.path.ends_with("milk.csv") && input.digest.as_ref().is_some_and(|digest| digest.len() == 64)
    );
    let json: serde_json::Value = serde_json::from_str(&report.json().unwrap()).unwrap();
    assert_eq!(json["steps"].as_array().map(Vec::len), Some(report.steps.len()));
}

/// The first bad cells and rows are shown, in the order of rows, whatever the blocks and threads.
#[rstest]
fn examples_of_what_was_lost(#[values(1, 3)] threads: usize, #[values(64, 1 << 20)] bytes: usize) {
    let folder = tempfile::tempdir().unwrap();
    let rows: String = (0..200)
        .map(|i| {
            if i % 50 == 7 {
                format!("F{i},bad {i},1\n")
            } else if i % 60 == 3 {
                format!("F{i},1\n")
            } else {
                format!("F{i},{i},2\n")
            }
        })
        .collect();
    std::fs::write(folder.path().join("milk.csv"), format!("farm,litres,n\n{rows}")).unwrap();
    let with = "with (types = (litres int), bad_cells = null, bad_rows = skip)";
    let flow = Flow::steps(&format!("read 'milk.csv' {with}")).in_folder(folder.path());
    let report = flow.report(&RunOptions::new().threads(threads).block_bytes(bytes)).unwrap();
    assert_eq!(
        report.steps[0].examples.iter().filter(|example| example.starts_with('\'')).collect::<Vec<_>>(),
        [
            "'bad 7' of litres in milk.csv",
            "'bad 57' of litres in milk.csv",
            "'bad 107' of litres in milk.csv"
        ]
    );
    assert_eq!(
        report.steps[0].examples.iter().filter(|example| example.contains("cells in")).collect::<Vec<_>>(),
        ["2 cells in milk.csv: F3,1", "2 cells in milk.csv: F63,1", "2 cells in milk.csv: F123,1"]
    );
    assert!(report.html().contains("such as &#39;bad 7&#39; of litres in milk.csv"));
}

#[test]
fn digests_are_of_the_bytes() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("a.csv"), "a\n1\n").unwrap();
    let report = report(&Flow::read("a.csv").in_folder(folder.path())).with_digests().unwrap();
    let digest = report.inputs[0].digest.as_deref().unwrap();
    assert_eq!(digest, "309b0e45a73d3fc5325e2b6ed0a01ef8b9cde6b05a5633c1f893f970d52bfddc");
    std::fs::write(folder.path().join("a.csv"), "a\n2\n").unwrap();
    let other = report.clone().with_digests().unwrap();
    assert_ne!(other.inputs[0].digest, report.inputs[0].digest);
}

/// A cell, a name, a title that hold markup are shown as they are, and the page is well formed.
#[rstest]
#[case("</td><script>alert(1)</script>")]
#[case("\" onload=\"x")]
#[case("<!-- & --> ]]>")]
fn texts_cannot_become_markup(#[case] text: &str) {
    let flow = Flow::steps("values n: (1), (2)")
        .add(churn::lit(text).named(text))
        .draw(churn::steps::Draw::bars(["n"]).over(churn::column(text)).by("n"));
    let page = report(&flow).titled(text).dated(text).html();
    assert!(!page.contains("<script") && !page.contains("onload=\"x"), "{page}");
    let flow = Flow::recipe("given p = 'x'\n\nvalues n: (1)\nadd p = $p\n").given("p", text);
    let page = report(&flow).html();
    assert!(!page.contains("<script") && !page.contains("onload=\"x"), "{page}");
}

#[test]
fn a_plan_is_a_picture_of_its_chains() {
    let recipe = "table farms\n  values farm, district: ('F0', 'Lakes'), ('F1', 'Vale')\n\n\
                  values farm, litres: ('F0', 1), ('F1', 2)\njoin farms on farm\nsort litres\n";
    let svg = Flow::recipe(recipe).plan().unwrap().svg(false);
    for text in ["table farms", "the result", "join farms on farm", "sort litres"] {
        assert!(svg.contains(text), "{text}: {svg}");
    }
    // Two steps below another, one from the table: arrows.
    assert_eq!(svg.matches("fill-opacity").count(), 3, "{svg}");
}
