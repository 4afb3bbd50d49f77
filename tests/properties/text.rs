//! Functions of text, against the standard library.

use churn::{Flow, ReadOptions, Scalar, Type};
use proptest::prelude::*;

use crate::columns::{Values, evaluated, flow, text, texts};

/// Holds an expression over the column `t` to a function of each text; null gives null.
fn holds(texts: &[Option<String>], expression: &str, by: impl Fn(&str) -> Scalar) {
    let found = evaluated(&flow(&[("t", Values::Text(texts.to_vec()))]), expression);
    let expected: Vec<Scalar> = texts.iter().map(|text| text.as_deref().map_or(Scalar::Null, &by)).collect();
    assert_eq!(found, expected, "{expression} of {texts:?}");
}

fn of(text: impl Into<String>) -> Scalar {
    Scalar::Text(text.into())
}

fn literal(text: &str) -> String {
    of(text).to_string()
}

/// Whether a text is like a pattern: `%` any text, `_` one character, `!` in front of what stands for itself.
fn is_like(text: &[char], pattern: &[char]) -> bool {
    match pattern {
        [] => text.is_empty(),
        ['!', c, rest @ ..] => text.first() == Some(c) && is_like(&text[1..], rest),
        ['%', rest @ ..] => (0..=text.len()).any(|skipped| is_like(&text[skipped..], rest)),
        ['_', rest @ ..] => !text.is_empty() && is_like(&text[1..], rest),
        [c, rest @ ..] => text.first() == Some(c) && is_like(&text[1..], rest),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn lengths_and_cases(texts in texts()) {
        holds(&texts, "length(t)", |t| Scalar::Int(t.chars().count() as i64));
        holds(&texts, "upper(t)", |t| of(t.to_uppercase()));
        holds(&texts, "lower(t)", |t| of(t.to_lowercase()));
        holds(&texts, "reverse(t)", |t| of(t.chars().rev().collect::<String>()));
        holds(&texts, "t || '-' || t", |t| of(format!("{t}-{t}")));
        holds(&texts, "nullif(t is null, true)", |_| Scalar::Bool(false));
        holds(&texts, "nullif(coalesce(t, 'none'), 'none')", |t| of(t));
    }

    #[test]
    fn parts_by_position(texts in texts(), from in -3i64..12, count in -1i64..9) {
        holds(&texts, &format!("substring(t, {from}, {count})"), |t| {
            // Positions before the first count, though nothing stands there.
            let end = from + count.max(0);
            let stands = |place: i64| place >= from && place < end;
            of(t.chars().zip(1..).filter(|(_, place)| stands(*place)).map(|(c, _)| c).collect::<String>())
        });
        holds(&texts, &format!("substring(t, {from})"), |t| {
            of(t.chars().zip(1..).filter(|(_, place)| *place >= from).map(|(c, _)| c).collect::<String>())
        });
        holds(&texts, &format!("repeat_text(t, {count})"), |t| of(t.repeat(count.max(0) as usize)));
    }

    #[test]
    fn what_is_found_in_a_text(texts in texts(), needle in text(), to in text()) {
        let (quoted, other) = (literal(&needle), literal(&to));
        holds(&texts, &format!("contains(t, {quoted})"), |t| Scalar::Bool(t.contains(&needle)));
        holds(&texts, &format!("starts_with(t, {quoted})"), |t| Scalar::Bool(t.starts_with(&needle)));
        holds(&texts, &format!("ends_with(t, {quoted})"), |t| Scalar::Bool(t.ends_with(&needle)));
        holds(&texts, &format!("position(t, {quoted})"), |t| {
            Scalar::Int(t.find(&needle).map_or(0, |at| t[..at].chars().count() as i64 + 1))
        });
        holds(&texts, &format!("t = {quoted}"), |t| Scalar::Bool(t == needle));
        holds(&texts, &format!("t < {quoted}"), |t| Scalar::Bool(t < needle.as_str()));
        holds(&texts, &format!("t >= {quoted}"), |t| Scalar::Bool(t >= needle.as_str()));
        holds(&texts, &format!("t in ({quoted}, {other})"), |t| Scalar::Bool(t == needle || t == to));
        holds(&texts, &format!("nullif(t, {quoted})"), |t| if t == needle { Scalar::Null } else { of(t) });
        holds(&texts, &format!("greatest(t, {quoted})"), |t| of(t.max(needle.as_str())));
        if !needle.is_empty() {
            holds(&texts, &format!("replace(t, {quoted}, {other})"), |t| of(t.replace(&needle, &to)));
            holds(&texts, &format!("length(parts(t, {quoted}))"), |t| {
                Scalar::Int(t.split(needle.as_str()).count() as i64)
            });
            holds(&texts, &format!("element(parts(t, {quoted}), 2)"), |t| {
                t.split(needle.as_str()).nth(1).map_or(Scalar::Null, of)
            });
            holds(&texts, &format!("element(parts(t, {quoted}), -1)"), |t| {
                t.rsplit(needle.as_str()).next().map_or(Scalar::Null, of)
            });
        }
    }

    #[test]
    fn what_stands_at_the_ends(texts in texts(), width in 0usize..12) {
        let padding = |t: &str, with: char| -> String {
            std::iter::repeat_n(with, width.saturating_sub(t.chars().count())).collect()
        };
        holds(&texts, &format!("pad_left(t, {width}, '0')"), |t| of(padding(t, '0') + t));
        holds(&texts, &format!("pad_right(t, {width}, '.')"), |t| of(t.to_owned() + &padding(t, '.')));
        holds(&texts, "trim(t, 'ab')", |t| of(t.trim_matches(['a', 'b'])));
        holds(&texts, "trim_left(t, '0')", |t| of(t.trim_start_matches('0')));
        holds(&texts, "trim_right(t, 'ß ')", |t| of(t.trim_end_matches(['ß', ' '])));
    }

    #[test]
    fn patterns(texts in texts(), pattern in "[ab%_!]{0,6}") {
        // An escape stands before a character.
        let pattern = pattern.trim_end_matches('!').replace("!a", "!%").replace("!b", "!_");
        let chars: Vec<char> = pattern.chars().collect();
        let like = |t: &str| is_like(&t.chars().collect::<Vec<_>>(), &chars);
        let quoted = literal(&pattern);
        holds(&texts, &format!("t like {quoted} escape '!'"), |t| Scalar::Bool(like(t)));
        holds(&texts, &format!("t not like {quoted} escape '!'"), |t| Scalar::Bool(!like(t)));
    }

    #[test]
    fn texts_that_are_numbers(numbers in prop::collection::vec(any::<i64>(), 1..30)) {
        let texts: Vec<Option<String>> = numbers.iter().map(|n| Some(n.to_string())).collect();
        holds(&texts, "cast(t as int)", |t| Scalar::Int(t.parse().unwrap()));
        holds(&texts, "cast(cast(t as int) as text)", |t| of(t));
        holds(&texts, "try_cast(t || 'x' as int)", |_| Scalar::Null);
    }

    /// Texts of a file, next to cells that hold the same, some of them quoted.
    #[test]
    fn what_is_looked_for_in_a_file(
        notes in prop::collection::vec("[ab]{0,3}[ab\"\n,]{0,30}", 1..60),
        wanted in "[ab\"\n]{1,14}",
        like in "[ab%_]{1,6}",
        regex in "(a|b|a[ab]|b\\+|(ab)?|\\(ba\\)|\\^|\\$){1,4}".prop_filter("a regular expression", |regex| regex::Regex::new(regex).is_ok()),
    ) {
        let file = tempfile::NamedTempFile::with_suffix(".csv").unwrap();
        let mut writer = csv::Writer::from_path(file.path()).unwrap();
        writer.write_record(["before", "t", "behind"]).unwrap();
        for note in &notes {
            writer.write_record([note, note, note]).unwrap();
        }
        drop(writer);
        let flow = Flow::read_with(file.path(), ReadOptions::new().type_of("t", Type::Text));
        let holds = |condition: &str, by: &dyn Fn(&str) -> bool| {
            let table = flow.clone().filter(condition).select("t").run().unwrap();
            let expected: Vec<&str> =
                notes.iter().map(String::as_str).filter(|note| !note.is_empty() && by(note)).collect();
            assert_eq!(table.values("t").unwrap(), expected.into_iter().map(of).collect::<Vec<_>>(), "{condition}");
        };
        holds(&format!("contains(t, {})", literal(&wanted)), &|t| t.contains(&wanted));
        holds(&format!("t like {}", literal(&format!("%{wanted}%"))), &|t| t.contains(&wanted));
        let chars: Vec<char> = like.chars().collect();
        holds(&format!("t like {}", literal(&like)), &|t| is_like(&t.chars().collect::<Vec<_>>(), &chars));
        let plain = regex::Regex::new(&regex).unwrap();
        holds(&format!("matches(t, {})", literal(&regex)), &|t| plain.is_match(t));
    }
}
