//! A format of one's own: text whose columns have fixed widths, told on its first line: `farm:6,litres:10`.

use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use churn::arrow_array::{ArrayRef, RecordBatch, StringArray};
use churn::arrow_schema::{DataType, Field, Schema, SchemaRef};
use churn::extend::{Batches, Catalogue, Format, Source};
use churn::{Error, ErrorKind, Flow, Scalar};

fn failed(error: impl std::fmt::Display) -> Error {
    Error::new(ErrorKind::Data, format!("It is no text of fixed widths: {error}."))
}

/// A file, its columns, and where each begins and ends in a line.
#[derive(Debug)]
struct FixedFile(PathBuf, Schema, Vec<(usize, usize)>);

fn open(path: &Path) -> churn::Result<FixedFile> {
    let mut heading = String::new();
    BufReader::new(File::open(path).map_err(failed)?).read_line(&mut heading).map_err(failed)?;
    let (mut columns, mut places, mut at) = (Vec::new(), Vec::new(), 0);
    for column in heading.trim_end().split(',') {
        let (name, width) = column.split_once(':').ok_or_else(|| failed("a name lacks its width"))?;
        columns.push(Field::new(name, DataType::Utf8, true));
        let end = at + width.parse::<usize>().map_err(failed)?;
        places.push((std::mem::replace(&mut at, end), end));
    }
    Ok(FixedFile(path.to_owned(), Schema::new(columns), places))
}

impl Source for FixedFile {
    fn schema(&self) -> SchemaRef {
        Arc::new(self.1.clone())
    }

    fn read(&self, columns: &[usize]) -> churn::Result<Batches> {
        let schema = Arc::new(self.1.project(columns).map_err(failed)?);
        let places: Vec<(usize, usize)> = columns.iter().map(|column| self.2[*column]).collect();
        let mut lines = BufReader::new(File::open(&self.0).map_err(failed)?).lines().skip(1);
        Ok(Box::new(std::iter::from_fn(move || {
            let next: std::io::Result<Vec<String>> = lines.by_ref().take(1000).collect();
            let batch = next.map_err(failed).and_then(|lines| {
                let cells = |(from, to): &(usize, usize)| -> ArrayRef {
                    let cells = lines.iter().map(|line| line.get(*from..*to).map(str::trim));
                    Arc::new(cells.collect::<StringArray>())
                };
                RecordBatch::try_new(schema.clone(), places.iter().map(cells).collect()).map_err(failed)
            });
            batch.map(|batch| (batch.num_rows() > 0).then_some(batch)).transpose()
        })))
    }
}

/// The format, by the ending `.fixed`; it is written with every column twelve characters wide.
pub fn fixed() -> Format {
    Format::new("fixed").read_by(open).written_by(|schema, mut out| {
        let names = schema.fields().iter().map(|field| field.name().clone() + ":12");
        writeln!(out, "{}", names.collect::<Vec<_>>().join(",")).map_err(failed)?;
        Ok(move |batch: &RecordBatch| {
            (0..batch.num_rows()).try_for_each(|row| {
                let mut cells = batch.columns().iter().map(|cell| Scalar::from_array(cell, row).plain());
                cells.try_for_each(|cell| write!(out, "{cell:12}")).map_err(failed)?;
                writeln!(out).map_err(failed)
            })
        })
    })
}

/// Writes a file of the format, and reads it.
pub fn main() -> churn::Result<()> {
    let catalogue = Catalogue::new().with_format(fixed())?;
    let path = std::env::temp_dir().join("milk.fixed");
    Flow::steps("values farm, n: ('F001', 1), ('F002', 2)").extended(&catalogue).write(&path)?;
    println!("{}", Flow::read(&path).extended(&catalogue).filter("cast(n as int) > 1").run()?);
    Ok(())
}
