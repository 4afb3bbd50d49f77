//! How a format is added: this file, and its line in `format::OURS`. It is compiled as a test, and not among the formats. A
//! format that is read has a [`Source`](crate::source), of which [`crate::memory`] is the smallest; this one is written.
//!
//! An encoder sees whole batches, on many threads at once; the bytes are written in the order of the rows.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::BinaryViewArray;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Scalar};

use crate::format::{Encoder, FileFormat, Format, Formats, Opening, WriteOptions};
use crate::source::Source;

/// Names and values, a line each.
#[derive(Debug)]
struct NamesAndValues;

impl FileFormat for NamesAndValues {
    fn title(&self) -> &str {
        "names and values"
    }

    fn names(&self) -> Vec<&str> {
        vec!["names"]
    }

    fn is_text(&self) -> bool {
        true
    }

    fn open(&self, _: &[PathBuf], _: Opening) -> Result<Arc<dyn Source>> {
        Err(Error::new(ErrorKind::Input, "Names and values are written, not read."))
    }

    fn encoder(&self, fields: &[Field], _: &WriteOptions) -> Option<Box<dyn Encoder>> {
        Some(Box::new(LinesOfNames::new(fields)))
    }
}

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

    let formats = Formats::default().with(Format::new(NamesAndValues))?;
    let format = formats.of(Path::new("milk.names.gz")).unwrap();
    let fields = [Field::new(0, "farm", Type::Text), Field::new(1, "litres", Type::Int)];
    let encoder = format.encoder(&fields, &WriteOptions::default()).unwrap();
    let farms = Arc::new(StringViewArray::from(vec!["F001", "F002"]));
    let litres = Arc::new(Int64Array::from(vec![Some(10), None]));
    let written = encoder.rows(&Batch { columns: vec![farms, litres], rows: 2 }, None)?;
    assert_eq!(String::from_utf8_lossy(&written), "farm: F001\nlitres: 10\n\nfarm: F002\n\n");
    assert!(encoder.start().is_empty() && encoder.end().is_empty());
    assert!(formats.named("nams").unwrap_err().advice().iter().any(|next| next == "Did you mean names?"));
    Ok(())
}
