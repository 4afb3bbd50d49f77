//! Every example of the docs runs, and every function's example gives what it says.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::path::Path;

use churn::{Flow, Scalar};
use rstest::rstest;

/// The blocks of a Markdown text with this language, with the line they start at.
fn blocks(text: &str, language: &str) -> Vec<(usize, String)> {
    let mut found = Vec::new();
    let mut open: Option<(usize, String)> = None;
    for (number, line) in text.lines().enumerate() {
        match (&mut open, line.strip_prefix("```")) {
            (None, Some(l)) if l == language => open = Some((number + 1, String::new())),
            (Some(_), Some(_)) => found.extend(open.take()),
            (Some((_, block)), None) => {
                block.push_str(line);
                block.push('\n');
            }
            _ => {}
        }
    }
    found
}

fn write_sample(folder: &Path) {
    let heading = "delivery_id,farm,collected_on,tanker,litres,fat,protein,temp_c,cells,grade,note";
    for year in [2024, 2025, 2026] {
        let mut text = heading.replace("protein,", if year == 2024 { "" } else { "protein," }) + "\n";
        for i in 0..300 {
            let day = if i == 299 {
                "31.12.2026".into()
            } else {
                format!("{year}-{:02}-{:02}", 1 + i / 30, 1 + i % 28)
            };
            let protein = if year == 2024 {
                String::new()
            } else if i % 9 == 0 {
                ",".into()
            } else {
                format!("3.{},", i % 7 + 1)
            };
            let temperature = if i % 11 == 0 { String::new() } else { format!("{}.5", i % 8) };
            text += &format!(
                "{i:05},F{:03},{day},T{:02},{}.5,4.{},{protein}{temperature},{},{},{}\n",
                i % 17,
                i % 5,
                100 + i,
                i % 10,
                50 + i % 400,
                ["A", "A", "B", "C", "reject"][i % 5],
                if i % 20 == 0 { "\"gate, closed\"" } else { "" },
            );
        }
        fs::write(folder.join(format!("deliveries-{year}.csv")), text).expect("a file");
    }
    let farms: String =
        (0..20).map(|i| format!("F{i:03},Oak Farm,North Vale,{},2010-01-01\n", 20 + i)).collect();
    fs::write(folder.join("farms.csv"), format!("farm,name,district,herd,joined_on\n{farms}"))
        .expect("a file");
    let sample = |i: usize| {
        let results = format!("{{\"urea\": {}, \"bacteria\": {{\"count\": {}}}}}", 20 + i, 9000 * i);
        let bottles = "[{\"number\": 1, \"cells\": 210}, {\"number\": 2, \"cells\": 190, \"fat\": 4.1}]";
        format!(
            "{{\"farm\": \"F{i:03}\", \"day\": \"2026-01-13\", \"bottles\": {bottles}, \"results\": {results}}}\n"
        )
    };
    fs::write(folder.join("lab.ndjson"), (0..20).map(sample).collect::<String>()).expect("a file");
    write_prices(folder).expect("a workbook");
}

/// What a litre is worth: months over grades, a row a district.
fn write_prices(folder: &Path) -> Result<(), rust_xlsxwriter::XlsxError> {
    let mut book = rust_xlsxwriter::Workbook::new();
    let sheet = book.add_worksheet();
    sheet.write(1, 0, "district")?;
    for (column, month) in (0u16..).zip(1..=6) {
        sheet.write(0, column * 2 + 1, format!("2026-{month:02}"))?;
        for (grade, place) in [("A", 1), ("B", 2)] {
            sheet.write(1, column * 2 + place, grade)?;
            for (row, district) in (2u32..).zip(["North Vale", "South Vale"]) {
                sheet.write(row, 0, district)?;
                sheet.write(row, column * 2 + place, 0.4 + f64::from(month) / 100.0)?;
            }
        }
    }
    book.save(folder.join("prices.xlsx"))
}

#[rstest]
#[case("docs/language.md")]
#[case("README.md")]
#[case("docs/guide/read.md")]
#[case("docs/guide/look.md")]
#[case("docs/guide/choose.md")]
#[case("docs/guide/combine.md")]
#[case("docs/guide/group.md")]
#[case("docs/guide/windows.md")]
#[case("docs/guide/wide-and-long.md")]
#[case("docs/guide/charts.md")]
#[case("docs/guide/write.md")]
#[case("docs/guide/large.md")]
#[case("docs/guide/recipes.md")]
#[case("docs/guide/sql.md")]
fn recipes_run(#[case] path: &str) {
    let folder = tempfile::tempdir().expect("a folder");
    write_sample(folder.path());
    let text = fs::read_to_string(path).expect("the page");
    for (line, recipe) in blocks(&text, "churn") {
        let flow = Flow::recipe(&recipe).in_folder(folder.path());
        let table = flow.run().unwrap_or_else(|e| panic!("{path}, line {line}:\n{e}"));
        let printed = flow.to_string();
        assert_eq!(Flow::recipe(&printed).to_string(), printed, "{path}, line {line}");
        assert!(!table.ledger().steps().is_empty());
    }
}

/// The short answers: each runs behind the same source.
#[test]
fn answers_run() {
    let folder = tempfile::tempdir().expect("a folder");
    write_sample(folder.path());
    let answers = blocks(include_str!("../docs/guide/how-to.md"), "steps");
    assert!(answers.len() >= 50, "{} answers", answers.len());
    for (line, steps) in answers {
        let read = "read 'deliveries-2026.csv' with (types = (collected_on date), bad_cells = null)";
        let flow = Flow::recipe(&format!("{read}\n{steps}")).in_folder(folder.path());
        flow.run().unwrap_or_else(|e| panic!("how-to.md, line {line}:\n{e}"));
    }
}

/// The pages of the guide are all in its index, and the links of the index lead somewhere.
#[test]
fn the_index_of_the_guide_is_whole() {
    let index = include_str!("../docs/guide/README.md");
    let pages = fs::read_dir("docs/guide").expect("the guide");
    for page in pages.map(|page| page.expect("a page").file_name().into_string().expect("a name")) {
        assert!(page == "README.md" || index.contains(&format!("]({page})")), "{page} is not in the index");
    }
    let links = index.split("](").skip(1).filter_map(|rest| rest.split_once(')')).map(|(link, _)| link);
    for link in links {
        assert!(Path::new("docs/guide").join(link).exists(), "there is no {link}");
    }
}

/// The value of an expression without columns, as text; null is `null`.
fn value(expression: &str) -> String {
    let table = Flow::steps("values one: (1)").select(format!("x = {expression}")).run();
    match table.and_then(|t| t.value(0, "x")) {
        Ok(Scalar::Null) => "null".into(),
        Ok(value) => value.plain(),
        Err(error) => panic!("{expression}\n{error}"),
    }
}

#[test]
fn expressions_of_the_language_page_give_what_it_says() {
    let text = fs::read_to_string("docs/language.md").expect("the page");
    let lines: Vec<String> = blocks(&text, "values")
        .iter()
        .flat_map(|(_, b)| b.lines().map(str::to_owned).collect::<Vec<_>>())
        .collect();
    assert!(lines.len() > 30);
    for line in lines {
        let (expression, expected) = line.rsplit_once(" is ").expect("an expression is a value");
        assert_eq!(value(expression), expected, "{expression}");
    }
}

#[test]
fn functions_give_what_their_examples_say() {
    for function in churn::functions() {
        let (expression, expected) = function.example;
        assert_eq!(value(expression), expected, "{}: {expression}", function.name);
        assert!(function.usage.starts_with(function.name));
    }
}

#[test]
fn steps_have_examples_that_read() {
    for step in churn::STEPS {
        let chain = if ["read", "values", "sql"].contains(&step.keyword) {
            Flow::steps(step.example)
        } else {
            Flow::steps("values a: (1)").then(step.example)
        };
        let text = chain.to_string();
        assert!(text.contains(step.keyword), "{}", step.keyword);
        assert_eq!(Flow::steps(&text).to_string(), text);
    }
}

#[rstest]
#[case("blank", "fill")]
#[case("Missing", "missing")]
#[case("moving average", "window")]
#[case("vlookup", "join")]
#[case("regex", "matches")]
#[case("spreadsheet", "sheet")]
#[case("chart", "draw")]
#[case("diagonal", "")]
fn searches_find_what_is_meant(#[case] text: &str, #[case] first: &str) {
    let found = churn::search_topics(text);
    assert_eq!(found.first().map_or("", |topic| topic.name), first, "{found:?}");
    assert!(found.len() <= 15);
}

/// The places of the glossary: each is a file or a folder, in a crate or in the library.
#[test]
fn terms_live_where_the_glossary_says() {
    let page = include_str!("../docs/architecture.md");
    let glossary = page.split("## Glossary").nth(1).unwrap().split("\n## ").next().unwrap();
    let rows: Vec<&str> = glossary.lines().filter(|line| line.starts_with("| ")).skip(2).collect();
    assert!(rows.len() > 30, "the glossary has {} terms", rows.len());
    for row in rows {
        let cells: Vec<&str> = row.trim_matches('|').split(" | ").collect();
        let [term, _, places] = cells.as_slice() else { panic!("three cells are wanted: {row}") };
        let named: Vec<&str> =
            places.split('`').skip(1).step_by(2).filter(|place| place.contains('/')).collect();
        assert!(!named.is_empty() || places.contains("::"), "{term} lives nowhere");
        for place in named {
            let (first, rest) = place.split_once('/').unwrap();
            let roots = [format!("crates/{first}/src/{rest}"), format!("src/{place}")];
            let is_there =
                |root: &String| Path::new(&format!("{root}.rs")).is_file() || Path::new(root).is_dir();
            assert!(roots.iter().any(is_there), "{term}: there is no {place}");
        }
    }
}
