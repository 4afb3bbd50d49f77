//! A source of one's own: readings of a cooling tank, made as they are read, and a table of recipes by its name.

use std::sync::Arc;

use churn::arrow_array::{ArrayRef, Float64Array, Int64Array, RecordBatch};
use churn::arrow_schema::{DataType, Field, Schema, SchemaRef};
use churn::extend::{Batches, Catalogue, Source};
use churn::{Error, ErrorKind, Flow};

/// So many readings, one a minute.
#[derive(Debug)]
pub struct Readings(pub i64);

impl Source for Readings {
    fn schema(&self) -> SchemaRef {
        let minute = Field::new("minute", DataType::Int64, false);
        Arc::new(Schema::new(vec![minute, Field::new("temp_c", DataType::Float64, false)]))
    }

    fn rows(&self) -> Option<u64> {
        self.0.try_into().ok()
    }

    /// Only the columns that the run needs are made, a thousand rows at a time: the table is never in memory as a whole.
    fn read(&self, columns: &[usize]) -> churn::Result<Batches> {
        let failed = |e: &dyn std::fmt::Display| Error::new(ErrorKind::Input, e.to_string());
        let schema = Arc::new(self.schema().project(columns).map_err(|e| failed(&e))?);
        let (columns, rows) = (columns.to_vec(), self.0);
        Ok(Box::new((0..rows).step_by(1000).map(move |from| {
            let minutes = from..rows.min(from + 1000);
            let made = |column: &usize| -> ArrayRef {
                match column {
                    0 => Arc::new(Int64Array::from_iter_values(minutes.clone())),
                    _ => Arc::new(Float64Array::from_iter_values(
                        minutes.clone().map(|minute| 4.0 + (minute % 60) as f64 / 20.0),
                    )),
                }
            };
            let made = columns.iter().map(made).collect();
            RecordBatch::try_new(schema.clone(), made).map_err(|e| failed(&e))
        })))
    }
}

/// The readings by name, and what is said of a mistyped one.
pub fn main() -> churn::Result<()> {
    let catalogue = Catalogue::new().with_table("readings", Readings(100_000))?;
    let recipe = "read readings\nfilter temp_c > 6\ntotal minutes = count(), last = max(minute)";
    println!("{}", Flow::recipe(recipe).extended(&catalogue).run()?);

    if let Err(error) = Flow::steps("read redings").extended(&catalogue).check() {
        println!("{error}");
    }
    Ok(())
}
