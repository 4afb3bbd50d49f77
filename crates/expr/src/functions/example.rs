//! How a scalar function is added: this file, and `example::FUNCTIONS` as a line of [`ALL`](super::ALL). It is compiled as a
//! test, and not in the catalogue.
//!
//! `digits` counts the arguments and turns them into the types that the kernel takes, when the recipe is checked; the kernel
//! sees whole columns. A null gives null, as everywhere.

use churn_core::{Events, Scalar, Type};

use super::{Arguments, Bound, Complaint, Family, Function, arg, entry, ints_by_row};

const FUNCTIONS: &[Function] = &[entry(
    Family::Text,
    "digits",
    "digits(x)",
    "How many digits stand in x.",
    ("digits('F00042')", "5"),
    digits,
)];

fn digits(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    args.want(0, &Type::Text)?;
    Ok(args.call(Type::Int, |args, rows, _| {
        let column = arg(args, 0);
        let texts = column.texts();
        let count = |text: &str| text.bytes().filter(u8::is_ascii_digit).count() as i64;
        Ok(ints_by_row(rows, |row| texts.get(row).map(count)))
    }))
}

#[test]
fn the_example_works() {
    let call = |value: Scalar| {
        let [function] = FUNCTIONS else { panic!("one function") };
        let values = vec![Bound::literal(value)];
        let bound = (function.bind)(Arguments { name: function.name, usage: function.usage, values });
        let bound = bound.map_err(|complaint| complaint.what)?;
        let batch = churn_core::Batch { columns: Vec::new(), rows: 1 };
        let array = bound.evaluate_array(&batch, &mut Events::default()).map_err(|e| e.to_string())?;
        Ok::<Scalar, String>(Scalar::from_array(&array, 0))
    };
    assert_eq!(call(Scalar::Text("F00042".into())), Ok(Scalar::Int(5)));
    assert_eq!(call(Scalar::Null), Ok(Scalar::Null));
    assert_eq!(call(Scalar::Bool(true)), Err("digits needs text here, and this is bool.".into()));
}
