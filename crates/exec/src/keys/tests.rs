//! Whatever form a table gives its keys, rows have equal numbers where their keys are equal, and keys come back as they were.

use arrow_array::{Float64Array, StringViewArray};
use churn_core::{Scalar, scalar};
use proptest::prelude::*;
use proptest::sample::select;

use super::*;

fn texts(values: &[Option<&str>]) -> ArrayRef {
    Arc::new(StringViewArray::from(values.to_vec()))
}

/// A text of no, few, 12, 13, 15, 16, 253 to 255 or 70,000 bytes.
fn some_text() -> impl Strategy<Value = String> {
    let lengths = select(vec![0usize, 1, 3, 12, 13, 14, 15, 16, 31, 253, 254, 255, 256, 70_000]);
    (lengths, select(vec!["a", "b", "\0"])).prop_map(|(length, of)| of.repeat(length))
}

/// A value of a type, among them those at its ends.
fn some_value(kind: &Type) -> BoxedStrategy<Scalar> {
    let whole = || select(vec![0, 1, -1, 127, 128, 255, 256, 65_536, -40_000, i64::MAX, i64::MIN]);
    let value = match kind {
        Type::Bool => any::<bool>().prop_map(Scalar::Bool).boxed(),
        Type::Int => whole().prop_map(Scalar::Int).boxed(),
        Type::Date => select(vec![0, 1, -1, 19_800, i32::MAX, i32::MIN]).prop_map(Scalar::Date).boxed(),
        Type::Time => (0..86_400_000_000i64).prop_map(Scalar::Time).boxed(),
        Type::Timestamp => whole().prop_map(Scalar::Timestamp).boxed(),
        Type::Float => {
            select(vec![0.0, 1.0, -1.5, f64::MAX, 5e-324, f64::INFINITY, 0.1]).prop_map(Scalar::Float).boxed()
        }
        Type::Decimal(precision, scale) => {
            let (precision, scale) = (*precision, *scale);
            let value = select(vec![0, 5, -5, 10i128.pow(37), -10i128.pow(37)]);
            value.prop_map(move |value| Scalar::Decimal(value, precision, scale)).boxed()
        }
        Type::Binary => some_text().prop_map(|text| Scalar::Binary(text.into_bytes())).boxed(),
        Type::List(item) => {
            let item_kind = (**item).clone();
            let values = prop::collection::vec(some_value(item), 0..4);
            values.prop_map(move |values| Scalar::List(values, item_kind.clone())).boxed()
        }
        _ => some_text().prop_map(Scalar::Text).boxed(),
    };
    prop_oneof![1 => Just(Scalar::Null), 6 => value].boxed()
}

fn some_type() -> impl Strategy<Value = Type> {
    select(vec![
        Type::Bool,
        Type::Int,
        Type::Date,
        Type::Time,
        Type::Timestamp,
        Type::Float,
        Type::Decimal(38, 2),
        Type::Text,
        Type::Binary,
        Type::List(Box::new(Type::Int)),
        Type::List(Box::new(Type::Text)),
    ])
}

/// Types, and rows of values of them: as many values as there are types.
fn some_rows() -> impl Strategy<Value = (Vec<Type>, Vec<Vec<Scalar>>)> {
    prop::collection::vec(some_type(), 1..6).prop_flat_map(|kinds| {
        let row: Vec<_> = kinds.iter().map(some_value).collect();
        (Just(kinds), prop::collection::vec(row, 0..60))
    })
}

fn columns(kinds: &[Type], rows: &[Vec<Scalar>]) -> Vec<ArrayRef> {
    let column = |(i, kind): (usize, &Type)| {
        scalar::array_of(&rows.iter().filter_map(|row| row.get(i)).collect::<Vec<_>>(), kind)
    };
    kinds.iter().enumerate().map(column).collect()
}

/// Rows as values again.
fn rows_of(columns: &[ArrayRef], rows: usize) -> Vec<Vec<Scalar>> {
    (0..rows).map(|row| columns.iter().map(|column| Scalar::from_array(column, row)).collect()).collect()
}

proptest! {
    #[test]
    fn every_form_numbers_alike((kinds, rows) in some_rows(), cut in 0usize..60) {
        let (first, second) = rows.split_at(cut.min(rows.len()));
        let mut different: Vec<&Vec<Scalar>> = Vec::new();
        let mut expected = Vec::new();
        for row in &rows {
            let place = different.iter().position(|known| *known == row);
            expected.push(place.unwrap_or(different.len()) as u32);
            if place.is_none() {
                different.push(row);
            }
        }
        let all: Vec<u32> = (0..different.len() as u32).collect();
        let mut partitions = Vec::new();
        for mut table in [KeyTable::new(kinds.clone()), KeyTable::of_many(kinds.clone())] {
            let mut numbers = Vec::new();
            table.numbers(&columns(&kinds, first), first.len(), &mut numbers)?;
            table.numbers(&columns(&kinds, second), second.len(), &mut numbers)?;
            prop_assert_eq!(&numbers, &expected);
            prop_assert_eq!(table.len(), different.len());
            let has_null = |row: &&&Vec<Scalar>| row.contains(&Scalar::Null);
            prop_assert_eq!(table.null_keys(), different.iter().filter(has_null).count());
            let mut found = Vec::new();
            table.find(&columns(&kinds, &rows), rows.len(), &mut found)?;
            prop_assert_eq!(&found, &expected);
            let back = rows_of(&table.arrays(&all)?, all.len());
            prop_assert!(back.iter().eq(different.iter().copied()), "{:?}", back);
            partitions.push(table.partition(7)?);
        }
        // Equal keys of two tables come to the same part, and a third numbers them again.
        let (joint, whole): (Vec<_>, Vec<_>) = (partitions.remove(0), partitions.remove(0));
        let mut again = KeyTable::of_many(kinds.clone());
        for ((ours, our_numbers), (theirs, their_numbers)) in joint.iter().zip(&whole) {
            prop_assert_eq!(our_numbers, their_numbers);
            let (mut one, mut two) = (Vec::new(), Vec::new());
            again.absorb(ours, &mut one)?;
            again.absorb(theirs, &mut two)?;
            prop_assert_eq!(one, two);
        }
        prop_assert_eq!(again.len(), different.len());
    }

    #[test]
    fn a_packed_key_is_the_key_as_bytes((kinds, rows) in some_rows()) {
        let columns = columns(&kinds, &rows);
        let bytes = encoding::encode(&columns, rows.len());
        let packed = encoding::pack(&columns, rows.len(), Some(LONG)).unwrap_or_default();
        for (key, packed) in bytes.iter().zip(packed) {
            if key.len() > 16 {
                prop_assert_eq!(packed, LONG);
                continue;
            }
            let (unpacked, length) = encoding::unpacked(packed, kinds.len());
            prop_assert_eq!(unpacked.get(..length), Some(key));
            prop_assert_eq!(encoding::hash_of(key, Seed::FIXED), Seed::FIXED.of_u128(packed));
        }
    }
}

#[test]
fn numbers_stay_when_a_long_text_comes() -> Result<()> {
    let mut table = KeyTable::new(vec![Type::Text]);
    let mut numbers = Vec::new();
    table.numbers(&[texts(&[Some("b"), None, Some("a"), Some("b")])], 4, &mut numbers)?;
    let long = "a text of more than twelve bytes";
    table.numbers(&[texts(&[Some(long), Some("a"), None, Some("")])], 4, &mut numbers)?;
    assert_eq!(numbers, [0, 1, 2, 0, 3, 2, 1, 4]);
    let keys = table.arrays(&[0, 1, 2, 3, 4])?;
    let keys: Vec<_> = keys.first().map(|k| k.as_string_view().iter().collect()).unwrap_or_default();
    assert_eq!(keys, [Some("b"), None, Some("a"), Some(long), Some("")]);
    Ok(())
}

#[test]
fn one_zero_and_one_nan() -> Result<()> {
    for kinds in [vec![Type::Float], vec![Type::Float, Type::Float]] {
        let mut table = KeyTable::new(kinds.clone());
        let mut numbers = Vec::new();
        let floats: ArrayRef = Arc::new(Float64Array::from(vec![0.0, -0.0, f64::NAN, -f64::NAN, 1.0]));
        table.numbers(&vec![floats; kinds.len()], 5, &mut numbers)?;
        assert_eq!(numbers, [0, 0, 1, 1, 2]);
    }
    Ok(())
}

/// Past so many joint keys a table keeps each whole; their numbers stay.
#[test]
fn many_joint_keys_become_whole() -> Result<()> {
    let kinds = vec![Type::Int, Type::Text];
    let mut table = KeyTable::new(kinds.clone());
    let row = |n: i64| vec![Scalar::Int(n % 977), Scalar::Text(format!("tanker {}", n / 977))];
    let mut numbers = Vec::new();
    for block in 0..20 {
        let rows: Vec<Vec<Scalar>> = (block * 10_000..(block + 1) * 10_000).map(row).collect();
        table.numbers(&columns(&kinds, &rows), rows.len(), &mut numbers)?;
    }
    assert!(numbers.iter().copied().eq(0..200_000));
    assert!(matches!(table.keys, TableKeys::Bytes(_) | TableKeys::Packed(_)));
    let back = rows_of(&table.arrays(&[0, 150_000, 199_999])?, 3);
    assert_eq!(back, [row(0), row(150_000), row(199_999)]);
    Ok(())
}
