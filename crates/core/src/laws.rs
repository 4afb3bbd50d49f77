//! Laws of values, types, batches and shown texts, over drawn ones.

use std::sync::Arc;

use arrow_array::{Array, ArrayRef, BooleanArray, Int64Array, StringViewArray, UInt32Array};
use proptest::prelude::*;
use rstest::rstest;
use unicode_width::UnicodeWidthStr;

use crate::aligned::{AlignedText, cut, folded, on_one_line, wrapped};
use crate::names::{RESERVED, comma, name};
use crate::readable::{bytes, grouped, plural, shown};
use crate::scalar::{array_of, decimal_text, write_float};
use crate::{Batch, Counters, Error, ErrorKind, Event, Interval, Scalar, SourceText, Span, Type};

fn types() -> impl Strategy<Value = Type> {
    let simple = prop::sample::select(vec![
        Type::Bool,
        Type::Int,
        Type::Float,
        Type::Text,
        Type::Date,
        Type::Time,
        Type::Timestamp,
        Type::Interval,
        Type::Binary,
        Type::Null,
    ]);
    let decimal = (1..=38u8, 0..=10i8).prop_map(|(p, s)| Type::Decimal(p.max(s.unsigned_abs()), s));
    let simple = prop_oneof![4 => simple, 1 => decimal];
    simple.prop_recursive(2, 4, 1, |inner| inner.prop_map(|item| Type::List(Box::new(item))))
}

/// A value of a type, or null.
fn value_of(kind: &Type) -> BoxedStrategy<Scalar> {
    let value = match kind {
        Type::Bool => any::<bool>().prop_map(Scalar::Bool).boxed(),
        Type::Int => any::<i64>().prop_map(Scalar::Int).boxed(),
        Type::Float => (-1e12..1e12f64).prop_map(Scalar::Float).boxed(),
        Type::Text => "\\PC{0,20}".prop_map(Scalar::Text).boxed(),
        Type::Date => (-700_000..2_900_000i32).prop_map(Scalar::Date).boxed(),
        Type::Time => (0..86_400_000_000i64).prop_map(Scalar::Time).boxed(),
        Type::Timestamp => any::<i32>().prop_map(|at| Scalar::Timestamp(i64::from(at) * 1_000_003)).boxed(),
        Type::Interval => (any::<i32>(), any::<i32>(), any::<i32>())
            .prop_map(|(months, days, micros)| {
                let (months, days, micros) = (months.into(), days.into(), micros.into());
                Scalar::Interval(Interval { months, days, micros })
            })
            .boxed(),
        Type::Binary => prop::collection::vec(any::<u8>(), 0..20).prop_map(Scalar::Binary).boxed(),
        Type::Decimal(p, s) => {
            let (p, s, most) = (*p, *s, 10i128.pow(u32::from(*p)));
            (1 - most..most).prop_map(move |value| Scalar::Decimal(value, p, s)).boxed()
        }
        Type::List(item) => {
            let item = (**item).clone();
            prop::collection::vec(value_of(&item), 0..4)
                .prop_map(move |items| Scalar::List(items, item.clone()))
                .boxed()
        }
        Type::Null | Type::Unknown => Just(Scalar::Null).boxed(),
    };
    prop_oneof![1 => Just(Scalar::Null), 5 => value].boxed()
}

fn typed_values() -> impl Strategy<Value = (Type, Vec<Scalar>)> {
    types().prop_flat_map(|kind| {
        let values = prop::collection::vec(value_of(&kind), 0..20);
        (Just(kind), values)
    })
}

proptest! {
    #[test]
    fn a_common_type_takes_no_sides(a in types(), b in types(), c in types()) {
        prop_assert_eq!(a.common_type(&b), b.common_type(&a));
        prop_assert_eq!(a.common_type(&a), Some(a.clone()));
        prop_assert_eq!(a.common_type(&Type::Null), Some(a.clone()));
        // What both turn into is reached from either, and is where each of them goes already.
        if let Some(both) = a.common_type(&b) {
            prop_assert_eq!(a.common_type(&both), Some(both.clone()));
        }
        // Three of them meet in one, in whatever order, unless digits of decimals are cut off.
        let is_decimal = |kind: &Type| matches!(kind, Type::Decimal(..));
        if ![&a, &b, &c].into_iter().any(is_decimal) {
            let left = a.common_type(&b).and_then(|ab| ab.common_type(&c));
            let right = b.common_type(&c).and_then(|bc| a.common_type(&bc));
            prop_assert_eq!(left, right);
        }
    }

    #[test]
    fn a_type_comes_back_from_its_array(kind in types()) {
        prop_assert_eq!(Type::of(&kind.arrow()), Some(kind.clone()));
        if !matches!(kind, Type::Decimal(..) | Type::List(_) | Type::Interval | Type::Null) {
            prop_assert_eq!(Type::from_name(&kind.to_string()), Some(kind.clone()));
            prop_assert_eq!(Type::from_name(&kind.to_string().to_uppercase()), Some(kind));
        }
    }

    #[test]
    fn values_come_back_from_a_column((kind, values) in typed_values()) {
        let column = array_of(&values.iter().collect::<Vec<_>>(), &kind);
        prop_assert_eq!(column.data_type(), &kind.arrow());
        prop_assert_eq!(column.len(), values.len());
        for (row, value) in values.iter().enumerate() {
            prop_assert_eq!(&Scalar::from_array(&column, row), value);
            let repeated = value.to_array(&kind, 3);
            prop_assert_eq!(repeated.data_type(), &kind.arrow());
            for row in 0..3 {
                prop_assert_eq!(&Scalar::from_array(&repeated, row), value);
            }
            prop_assert_eq!(Scalar::from_array(&repeated, 3), Scalar::Null);
        }
    }

    #[test]
    fn plain_text_of_numbers_reads_back(int in any::<i64>(), float in any::<f64>(), units in any::<i64>(), scale in 0..12i8) {
        prop_assert_eq!(Scalar::Int(int).plain().parse::<i64>(), Ok(int));
        let mut text = Vec::new();
        write_float(float, &mut text);
        let text = String::from_utf8(text).map_err(|e| TestCaseError::fail(e.to_string()))?;
        let back: f64 = text.parse().map_err(|_| TestCaseError::fail(text.clone()))?;
        prop_assert!(back.to_bits() == float.to_bits() || back.is_nan() && float.is_nan(), "{text} for {float}");
        prop_assert!(text.parse::<i64>().is_err(), "{} is written as a whole number", text);
        // Without its point, a decimal is its units.
        let decimal = decimal_text(i128::from(units), scale);
        prop_assert_eq!(decimal.replace('.', "").parse::<i64>(), Ok(units), "{}", decimal);
        let decimals = decimal.split_once('.').map_or(0, |(_, part)| part.len());
        prop_assert_eq!(decimals, scale.unsigned_abs() as usize);
    }

    #[test]
    fn batches_are_their_rows(rows in prop::collection::vec((any::<Option<i64>>(), "[a-z]{0,20}", any::<bool>()), 1..40), from in 0..40usize) {
        let numbers: ArrayRef = Arc::new(Int64Array::from_iter(rows.iter().map(|row| row.0)));
        let texts: ArrayRef = Arc::new(StringViewArray::from_iter_values(rows.iter().map(|row| &row.1)));
        let batch = Batch { columns: vec![numbers, texts], rows: rows.len() };
        let shown = |batch: &Batch| -> Vec<Vec<Scalar>> {
            (0..batch.rows).map(|row| batch.columns.iter().map(|c| Scalar::from_array(c, row)).collect()).collect()
        };
        let all = shown(&batch);
        let picked = |places: &[usize]| -> Vec<Vec<Scalar>> { places.iter().map(|place| all[*place].clone()).collect() };
        let error = |e: Error| TestCaseError::fail(e.to_string());

        let keep: BooleanArray = rows.iter().map(|row| Some(row.2)).collect();
        let kept: Vec<usize> = (0..rows.len()).filter(|row| rows[*row].2).collect();
        prop_assert_eq!(shown(&batch.filter(&keep).map_err(error)?), picked(&kept));

        let from = from.min(rows.len());
        let part = batch.slice(from, rows.len() - from);
        prop_assert_eq!(shown(&part), picked(&(from..rows.len()).collect::<Vec<_>>()));
        prop_assert_eq!(shown(&part.clone().compacted()), shown(&part));

        let turned: Vec<usize> = (0..rows.len()).rev().chain([0, 0]).collect();
        let places = UInt32Array::from_iter_values(turned.iter().map(|place| *place as u32));
        prop_assert_eq!(shown(&batch.take(&places).map_err(error)?), picked(&turned));
        prop_assert!(part.memory() <= batch.memory() + 64, "{} of {}", part.memory(), batch.memory());
    }

    #[test]
    fn intervals_add_up(parts in prop::collection::vec((-900..900i64, -900..900i64, any::<i32>()), 2), count in -50..50i64) {
        let of = |(months, days, micros): (i64, i64, i32)| Interval { months, days, micros: micros.into() };
        let (a, b) = (of(parts[0]), of(parts[1]));
        prop_assert_eq!(a.plus(b), b.plus(a));
        prop_assert_eq!(a.plus(a), a.times(2));
        prop_assert_eq!(a.plus(a.times(-1).unwrap_or_default()), Some(Interval::default()));
        let both = a.plus(b).and_then(|sum| sum.times(count));
        let each = a.times(count).zip(b.times(count)).and_then(|(a, b)| a.plus(b));
        prop_assert_eq!(both, each);
        prop_assert_eq!(a.arrow().map(Interval::of_arrow), Some(a));
        prop_assert_eq!(Interval { months: i64::MAX, ..a }.plus(Interval { months: 1, ..b }), None);
        prop_assert_eq!(Interval { days: i64::MIN, ..a }.times(-1), None);
    }

    #[test]
    fn counts_add_up_in_any_order(counts in prop::collection::vec((0..4usize, 0..1000usize, 0..3usize), 0..30), cut in 0..30usize) {
        let events = [Event::NotTrue, Event::BadCell, Event::Repeated];
        let counted = |part: &[(usize, usize, usize)]| {
            let mut counters = Counters::new(4);
            for (step, rows, event) in part {
                counters.rows(*step, *rows);
                counters.event(*step, events[*event], rows / 2);
            }
            counters
        };
        let cut = cut.min(counts.len());
        let whole = counted(&counts);
        let (mut first, mut second) = (counted(&counts[..cut]), counted(&counts[cut..]));
        let copy = first.clone();
        first.merge(&second);
        second.merge(&copy);
        prop_assert_eq!(&first, &whole);
        prop_assert_eq!(&second, &whole);
        first.clear(2);
        prop_assert_eq!(first.get(2), Counters::new(4).get(2));
        // A step that is not known has counted nothing.
        prop_assert_eq!(whole.get(9), Counters::new(4).get(0));
    }

    #[test]
    fn counts_are_read_in_threes(count in any::<u64>()) {
        let text = grouped(count);
        prop_assert_eq!(text.replace('\u{a0}', ""), count.to_string());
        let groups: Vec<&str> = text.split('\u{a0}').collect();
        prop_assert!(groups[1..].iter().all(|group| group.len() == 3), "{}", text);
        prop_assert!((1..=3).contains(&groups[0].len()), "{}", text);
        prop_assert_eq!(plural(count, "row").ends_with('s'), count != 1);
    }

    #[test]
    fn sizes_are_short_and_near(size in any::<u64>()) {
        let text = bytes(size);
        let (number, unit) = text.split_once(' ').ok_or_else(|| TestCaseError::fail(text.clone()))?;
        let factor = match unit { "bytes" => 1.0, "kB" => 1e3, "MB" => 1e6, "GB" => 1e9, _ => 1e12 };
        let told = number.parse::<f64>().map_err(|_| TestCaseError::fail(text.clone()))? * factor;
        prop_assert!((told - size as f64).abs() <= 0.05 * size as f64, "{} for {}", text, size);
        prop_assert!(number.len() <= 3 || unit == "TB", "{}", text);
    }

    #[test]
    fn shown_floats_are_near(value in prop_oneof![-1e9..1e9f64, -1.0..1.0f64, any::<f64>()]) {
        let text = shown(value);
        if let Ok(told) = text.parse::<f64>() && value.is_finite() {
            prop_assert!((told - value).abs() <= 1e-5 * value.abs() + 1e-10, "{text} for {value}");
        }
        prop_assert!(text != "-0.0", "{}", value);
    }

    #[test]
    fn names_are_quoted_where_they_must_be(text in "\\PC{0,12}") {
        let written = name(&text);
        match written.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) {
            Some(inside) if written.len() > 1 => prop_assert_eq!(inside.replace("\"\"", "\""), text),
            _ => {
                prop_assert_eq!(&written, &text);
                prop_assert!(!RESERVED.contains(&text.as_str()));
                prop_assert!(text.chars().all(|c| c.is_alphanumeric() || c == '_' || !c.is_ascii()));
            }
        }
    }

    #[test]
    fn lines_keep_their_words(text in "[a-zé漢 ]{0,60}", indent in 0..5usize, width in 12..40usize) {
        let lines = wrapped(&text, width);
        prop_assert_eq!(lines.join(" "), text.clone());
        let is_narrow = |line: &String| line.width() <= width || !line.trim().contains(' ');
        prop_assert!(lines.iter().all(is_narrow), "{lines:?}");

        let line = " ".repeat(indent) + &text;
        let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
        prop_assert_eq!(words(&folded(&line, width).join(" ")), words(&line));

        let short = cut(&text, width);
        prop_assert!(short.width() <= width, "{short}");
        prop_assert!(short == text || short.ends_with('…'));
    }

    #[test]
    fn nothing_steers_a_terminal(text in "[\\x00-\\x1f\\x7f-\\x9fa-c]{0,20}", width in 2..30usize) {
        prop_assert!(!on_one_line(&text).chars().any(char::is_control));
        prop_assert_eq!(on_one_line(&text).chars().count(), text.chars().count());
        prop_assert!(!cut(&text, width).chars().any(char::is_control));
    }

    #[test]
    fn cells_stand_below_each_other(rows in prop::collection::vec(prop::collection::vec("[a-z漢]{0,9}", 3), 1..8), numbers in any::<bool>()) {
        struct Shown(AlignedText);
        impl std::fmt::Display for Shown {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                self.0.write(f, 200)
            }
        }
        let text = Shown(AlignedText { rows: rows.clone(), numbers_first: numbers }).to_string();
        prop_assert_eq!(text.lines().count(), rows.len());
        let widest = |column: usize| rows.iter().map(|row| row[column].width()).max().unwrap_or(0);
        for (line, row) in text.lines().zip(&rows) {
            prop_assert_eq!(line.split_whitespace().collect::<String>(), row.concat());
            // Its last cell begins where the two before it end.
            let start = widest(0) + widest(1) + 6;
            prop_assert_eq!(line.width(), if row[2].is_empty() { line.width() } else { start + row[2].width() });
        }
        prop_assert!(text.lines().all(|line| line.trim_end() == line));
    }

    #[test]
    fn carets_stand_below_their_place(lines in prop::collection::vec("[a-zé漢]{3,12}", 1..5), which in 0..5usize, from in 0..3usize) {
        let which = which.min(lines.len() - 1);
        let text = lines.join("\n");
        let start: usize = lines[..which].iter().map(|line| line.len() + 1).sum();
        let place = |n: usize| start + lines[which].char_indices().nth(n).map_or(lines[which].len(), |(at, _)| at);
        let span = Span { start: place(from), end: place(from + 2) };
        let source = Arc::new(SourceText { name: "recipe".into(), text: text.clone() });
        let error = Error::new(ErrorKind::Syntax, "What is this?").at(&source, span).to_string();
        let told: Vec<&str> = error.lines().collect();
        let carets = told[told.len() - 1];
        prop_assert_eq!(told[told.len() - 2].trim(), &lines[which]);
        let pointed: String = lines[which].chars().skip(from).take(2).collect();
        let before: String = lines[which].chars().take(from).collect();
        prop_assert_eq!(carets.matches('^').count(), pointed.width().max(1), "{}", error);
        prop_assert_eq!(carets.find('^'), Some(4 + before.width()), "{}", error);
        if lines.len() > 1 {
            prop_assert!(error.contains(&format!("recipe, line {}:", which + 1)), "{}", error);
        }
    }

    #[test]
    fn mistakes_are_told_together(count in 0..30usize) {
        let mistakes: Vec<Error> = (0..count).map(|n| Error::new(ErrorKind::Name, format!("Mistake {n}."))).collect();
        match Error::all(mistakes) {
            None => prop_assert_eq!(count, 0),
            Some(error) => {
                prop_assert_eq!(error.others().len(), count - 1);
                let told = error.to_string();
                let shown = told.lines().filter(|line| line.starts_with("Mistake")).count();
                let more = told.lines().find_map(|line| line.strip_prefix("and ")?.split(' ').next()?.parse().ok());
                prop_assert_eq!(shown + more.unwrap_or(0), count, "{}", told);
            }
        }
    }
}

#[rstest]
#[case("liters", &["litres", "fat", "farm"], Some("litres"))]
#[case("farn", &["litres", "farm"], Some("farm"))]
#[case("FARM", &["farm"], Some("farm"))]
#[case("grade", &["litres", "protein"], None)]
#[case("x", &[], None)]
fn the_nearest_name_is_offered(#[case] wrong: &str, #[case] known: &[&str], #[case] near: Option<&str>) {
    assert_eq!(crate::error::nearest(wrong, known.iter().copied()), near);
}

#[rstest]
#[case(Interval::default(), "PT0S")]
#[case(Interval { months: 14, days: 3, micros: 0 }, "P1Y2M3D")]
#[case(Interval { months: 0, days: 0, micros: 5_400_000_000 }, "PT1H30M")]
#[case(Interval { months: -1, days: 0, micros: -1_500_000 }, "P-1MT-1.5S")]
#[case(Interval { months: 0, days: 0, micros: -1 }, "PT-0.000001S")]
fn intervals_as_the_standard_writes_them(#[case] interval: Interval, #[case] text: &str) {
    assert_eq!(interval.iso(), text);
    assert_eq!(Scalar::Interval(interval).plain(), text);
}

#[test]
fn lists_stand_between_commas() {
    assert_eq!(comma(["farm", "litres"]), "farm, litres");
    assert_eq!(comma::<&str>([]), "");
}
