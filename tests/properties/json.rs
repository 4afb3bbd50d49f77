//! Records of JSON, against the values that another crate wrote.

use std::fs;

use churn::{Flow, Scalar};
use proptest::prelude::*;
use serde_json::{Map, Value, json};

use crate::columns::{SETTINGS, options, rows};

/// What a field of a record is: absent, null, or a value.
fn field(value: impl Strategy<Value = Value> + 'static) -> impl Strategy<Value = Option<Value>> {
    prop_oneof![1 => Just(None), 1 => Just(Some(Value::Null)), 4 => value.prop_map(Some)]
}

fn texts() -> impl Strategy<Value = Value> {
    prop_oneof![
        3 => "[a-zA-Z \"\\\\/\u{8}\u{c}\n\r\t{}\\[\\],:]{0,12}",
        1 => "[äß€日🐄\u{1}\u{7f}]{0,6}",
    ]
    .prop_map(Value::from)
}

/// A record, with fields in some order.
fn record() -> impl Strategy<Value = Value> {
    let int = any::<i64>().prop_map(Value::from);
    let float = prop_oneof![(-1e9..1e9f64), Just(1e300), Just(-0.25), Just(1e-7)].prop_map(|f| json!(f));
    let flag = any::<bool>().prop_map(Value::from);
    let list =
        prop::collection::vec(prop::option::weighted(0.8, -9..9i64), 0..4).prop_map(|list| json!(list));
    let inner = (field(any::<i32>().prop_map(Value::from)), field(texts())).prop_map(|(x, y)| {
        let fields = [("x", x), ("y", y)];
        Value::Object(fields.into_iter().filter_map(|(name, value)| Some((name.into(), value?))).collect())
    });
    let fields = (field(int), field(texts()), field(float), field(flag), field(list), field(inner));
    (fields, any::<bool>()).prop_map(|((a, b, c, d, e, n), turned)| {
        let mut fields = vec![("a", a), ("b", b), ("c", c), ("d", d), ("list", e), ("n", n)];
        if turned {
            fields.reverse();
        }
        Value::Object(fields.into_iter().filter_map(|(name, value)| Some((name.into(), value?))).collect())
    })
}

/// A record that shows the type of each column.
fn whole() -> Value {
    json!({"a": 1, "b": "text", "c": 0.5, "d": true, "list": [1], "n": {"x": 1, "y": "text"}})
}

fn scalar(value: &Value, name: &str) -> Scalar {
    match (value, name) {
        (Value::Null, _) => Scalar::Null,
        (Value::Bool(value), _) => Scalar::Bool(*value),
        (Value::Number(value), "c") => Scalar::Float(value.as_f64().unwrap()),
        (Value::Number(value), _) => Scalar::Int(value.as_i64().unwrap()),
        (Value::String(value), _) => Scalar::Text(value.clone()),
        (Value::Array(values), _) => {
            Scalar::List(values.iter().map(|value| scalar(value, "")).collect(), churn::Type::Int)
        }
        (Value::Object(_), _) => panic!("records are columns"),
    }
}

/// The cells of a record, nested fields by their paths.
fn cells(record: &Value) -> Vec<Scalar> {
    let of = |path: &[&str]| {
        let found = path.iter().try_fold(record, |value, name| value.get(name));
        found.map_or(Scalar::Null, |value| scalar(value, path[0]))
    };
    vec![of(&["a"]), of(&["b"]), of(&["c"]), of(&["d"]), of(&["list"]), of(&["n", "x"]), of(&["n", "y"])]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn records_are_read_as_they_were_written(records in prop::collection::vec(record(), 0..30), form in 0..3usize) {
        let folder = tempfile::tempdir().unwrap();
        let records: Vec<Value> = std::iter::once(whole()).chain(records).collect();
        let (name, text) = match form {
            0 => {
                let lines: Vec<String> = records.iter().map(Value::to_string).collect();
                ("r.ndjson", lines.join("\n"))
            }
            1 => ("r.json", serde_json::to_string(&records).unwrap()),
            _ => ("r.json", serde_json::to_string_pretty(&records).unwrap()),
        };
        fs::write(folder.path().join(name), &text).unwrap();
        let expected: Vec<Vec<Scalar>> = records.iter().map(cells).collect();
        let columns = "select a, b, c, d, list, \"n.x\", \"n.y\"";
        let flow = Flow::read(name).then(columns).in_folder(folder.path());
        for setting in SETTINGS {
            for block in [40, 1 << 16] {
                let table = flow.run_with(&options(setting).block_bytes(block)).unwrap_or_else(|e| panic!("{text}\n{e}"));
                prop_assert_eq!(&rows(&table), &expected, "{}, {}: {}", setting.0, block, text);
            }
        }
        // Fewer columns, and a condition that is tested while lines are read.
        let some = Flow::read(name).filter("a > 0 and \"n.x\" is not null").select("b, c").in_folder(folder.path());
        let kept: Vec<Vec<Scalar>> = expected
            .iter()
            .filter(|row| matches!(row[0], Scalar::Int(a) if a > 0) && !row[5].is_null())
            .map(|row| vec![row[1].clone(), row[2].clone()])
            .collect();
        prop_assert_eq!(rows(&some.run().unwrap()), kept, "{}", text);
    }

    #[test]
    fn records_are_written_as_another_crate_reads_them(records in prop::collection::vec(record(), 0..30)) {
        let folder = tempfile::tempdir().unwrap();
        let records: Vec<Value> = std::iter::once(whole()).chain(records).collect();
        let lines: Vec<String> = records.iter().map(Value::to_string).collect();
        fs::write(folder.path().join("r.ndjson"), lines.join("\n")).unwrap();
        let flow = Flow::steps("read 'r.ndjson'\nselect a, b, c, d, list").in_folder(folder.path());
        for (name, is_lines) in [("out.ndjson", true), ("out.json", false)] {
            flow.write(folder.path().join(name)).unwrap();
            let text = fs::read_to_string(folder.path().join(name)).unwrap();
            let written: Vec<Map<String, Value>> = if is_lines {
                text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
            } else {
                serde_json::from_str(&text).unwrap()
            };
            prop_assert_eq!(written.len(), records.len());
            for (found, record) in written.iter().zip(&records) {
                for name in ["a", "b", "c", "d", "list"] {
                    let expected = record.get(name).unwrap_or(&Value::Null);
                    prop_assert_eq!(found.get(name).unwrap_or(&Value::Null), expected, "{} in {}", name, text);
                }
            }
        }
    }

    /// A text of JSON that was damaged is told, or is still one: never a crash, never other rows than its own.
    #[test]
    fn damaged_records_are_told(records in prop::collection::vec(record(), 1..8), at in any::<prop::sample::Index>(), by in "[{}\\[\\]\",:0a\\\\]?") {
        let folder = tempfile::tempdir().unwrap();
        let lines: Vec<String> = std::iter::once(whole()).chain(records).map(|record| record.to_string()).collect();
        let text = lines.join("\n");
        let places: Vec<usize> = text.char_indices().map(|(place, _)| place).collect();
        let place = places[at.index(places.len())];
        let rest = &text[place..];
        let after = rest.chars().next().map_or(0, char::len_utf8);
        let damaged = format!("{}{by}{}", &text[..place], &rest[after..]);
        fs::write(folder.path().join("r.ndjson"), &damaged).unwrap();
        let run = Flow::read("r.ndjson").in_folder(folder.path()).run();
        // Records may stand behind one another on a line.
        let whole: Result<Vec<Map<String, Value>>, _> = serde_json::Deserializer::from_str(&damaged).into_iter().collect();
        match run {
            Ok(table) => {
                prop_assert!(whole.is_ok(), "read though damaged: {}", damaged);
                prop_assert_eq!(table.len(), whole.unwrap().len(), "{}", damaged);
            }
            Err(error) => prop_assert!(error.to_string().contains("r.ndjson"), "{}", error),
        }
    }
}
