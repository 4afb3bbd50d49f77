//! Texts that are nearly recipes: read or refused with a place in the text, never a crash; what is read prints to a text
//! that reads as the same.

use std::fs;
use std::path::Path;

use churn::{Error, Flow, Place, STEPS};
use proptest::prelude::*;
use tempfile::TempDir;

/// The recipes of the language page, and an example of each step.
fn recipes() -> Vec<String> {
    let page = include_str!("../../docs/language.md");
    let blocks = page.split("```churn\n").skip(1).filter_map(|rest| rest.split("```").next());
    let examples = STEPS.iter().map(|step| match step.keyword {
        "read" | "values" => step.example.to_owned(),
        _ => format!("read 'deliveries-2026.csv'\n{}", step.example),
    });
    blocks.map(str::to_owned).chain(examples).collect()
}

/// The words and signs of a text, with the spaces and line breaks between them.
fn tokens(text: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    let mut last = None;
    for c in text.chars() {
        let class = if c.is_alphanumeric() || c == '_' {
            0
        } else if c == ' ' {
            1
        } else {
            2
        };
        match found.last_mut() {
            Some(token) if last == Some(class) && class < 2 => token.push(c),
            _ => found.push(c.to_string()),
        }
        last = Some(class);
    }
    found
}

/// Files that the recipes read, each with a few rows.
fn folder() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
    let heading = "delivery_id,farm,collected_on,tanker,litres,fat,protein,temp_c,cells,grade,note";
    for year in ["2024", "2025", "2026"] {
        let row = format!("00042,F001,{year}-03-01,T1,120.5,4.1,3.4,5.0,200,A,note");
        write(&format!("deliveries-{year}.csv"), &format!("{heading}\n{row}\n"));
    }
    write("farms.csv", "farm,name,district,herd,joined_on\nF001,Hill,Lakes,40,2019-01-01\n");
    write("quota.csv", "farm,m_2026_01,m_2026_02\nF001,900,850\n");
    folder
}

/// Holds each place of an error to its text.
fn is_placed(error: &Error) -> bool {
    let inside = match error.place() {
        // What is missing at the end has its place behind the text.
        Some(Place::Text { source, span }) => span.start <= span.end && span.end <= source.text.len() + 1,
        _ => true,
    };
    inside && !error.what().is_empty() && error.others().iter().all(is_placed)
}

fn holds(text: &str, folder: &Path) {
    let flow = Flow::recipe(text).in_folder(folder);
    match flow.check() {
        Ok(()) => {
            let printed = flow.to_string();
            let again = Flow::recipe(&printed).in_folder(folder);
            assert!(again.check().is_ok(), "{text}\nprints as\n{printed}");
            assert_eq!(again.to_string(), printed, "{text}");
        }
        Err(error) => {
            assert!(is_placed(&error), "{text}\n{error}");
            assert!(!error.to_string().is_empty());
        }
    }
}

/// What stands in for a token.
fn other_token() -> impl Strategy<Value = String> {
    let known = [
        "(",
        ")",
        ",",
        ":",
        "'",
        "\"",
        "\n",
        "\n  ",
        "=",
        "per",
        "over",
        "where",
        "by",
        "each",
        "null",
        "-",
        "0.5",
        "$since",
        "date '2026-02-30'",
        "9223372036854775808",
        "case",
        "end",
        "cast(",
        "litres",
        "farm",
        "*",
        "'m_*'",
        "first",
        "sum(",
        "as",
        "#",
        "\t",
        "é",
        "\u{202e}",
        "\0",
    ];
    prop_oneof![
        6 => prop::sample::select(known.map(str::to_owned).to_vec()),
        1 => "\\PC{0,4}",
    ]
}

#[test]
fn recipes_print_as_they_read() {
    let folder = folder();
    recipes().iter().for_each(|recipe| holds(recipe, folder.path()));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn recipes_with_mistakes(
        which in any::<prop::sample::Index>(),
        changes in prop::collection::vec((0..4u8, any::<prop::sample::Index>(), other_token()), 1..4),
    ) {
        let recipes = recipes();
        let mut tokens = tokens(&recipes[which.index(recipes.len())]);
        for (change, at, token) in changes {
            let at = at.index(tokens.len());
            match change {
                0 => drop(tokens.remove(at)),
                1 => tokens.insert(at, token),
                2 => tokens[at] = token,
                _ => {
                    let moved = tokens.remove(at);
                    tokens.insert(at / 2, moved);
                }
            }
            if tokens.is_empty() {
                return Ok(());
            }
        }
        holds(&tokens.concat(), folder().path());
    }

    #[test]
    fn any_text_at_all(text in "\\PC{0,60}") {
        holds(&text, folder().path());
    }

    #[test]
    fn names_of_any_kind(name in "\\PC{1,12}") {
        // A name is quoted where it must be, and stays what it is.
        let quoted = format!("\"{}\"", name.replace('"', "\"\""));
        let flow = Flow::steps(&format!("values {quoted}: (1), (2)")).filter(format!("{quoted} > 1"));
        let Ok(table) = flow.run() else { panic!("{name:?} is no name") };
        prop_assert_eq!(table.columns().next().unwrap().0, &name);
        prop_assert_eq!(table.len(), 1);
        let again = Flow::recipe(&flow.to_string());
        prop_assert_eq!(again.to_string(), flow.to_string());
    }
}
