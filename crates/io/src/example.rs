//! How a format that is written is added: this file, its names in `format::NAMES`, and its line where `format` makes
//! encoders. It is compiled as a test, and not among the formats. A format that is read has a [`Source`](crate::source), of
//! which [`crate::memory`] is the smallest.
//!
//! An encoder sees whole batches, on many threads at once; the bytes are written in the order of the rows.

use arrow_array::BinaryViewArray;
use churn_core::{Batch, Field, Result, Scalar};

use crate::format::Encoder;

/// Each row as lines of a name and a value, and a blank line behind it.
struct LinesOfNames {
    names: Vec<String>,
}

impl LinesOfNames {
    fn new(fields: &[Field]) -> LinesOfNames {
        LinesOfNames { names: fields.iter().map(|field| field.name.clone()).collect() }
    }
}

impl Encoder for LinesOfNames {
    fn start(&self) -> Vec<u8> {
        Vec::new()
    }

    fn rows(&self, batch: &Batch, _: Option<&BinaryViewArray>) -> Result<Vec<u8>> {
        let mut out = Vec::new();
        for row in 0..batch.rows {
            for (name, column) in self.names.iter().zip(&batch.columns) {
                let value = Scalar::from_array(column, row);
                if !value.is_null() {
                    out.extend_from_slice(format!("{name}: {}\n", value.plain()).as_bytes());
                }
            }
            out.push(b'\n');
        }
        Ok(out)
    }
}

#[test]
fn the_example_works() -> Result<()> {
    use arrow_array::{Int64Array, StringViewArray};
    use churn_core::Type;
    use std::sync::Arc;

    let encoder = LinesOfNames::new(&[Field::new(0, "farm", Type::Text), Field::new(1, "litres", Type::Int)]);
    let farms = Arc::new(StringViewArray::from(vec!["F001", "F002"]));
    let litres = Arc::new(Int64Array::from(vec![Some(10), None]));
    let written = encoder.rows(&Batch { columns: vec![farms, litres], rows: 2 }, None)?;
    assert_eq!(String::from_utf8_lossy(&written), "farm: F001\nlitres: 10\n\nfarm: F002\n\n");
    assert!(encoder.start().is_empty() && encoder.end().is_empty());
    Ok(())
}
