//! Charts as a format that is written: rows come in order, and at their end the picture is written as a whole.

use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError};

use churn_core::{Batch, Error, ErrorKind, Field, Result};
use churn_io::binary::{Out, RowWriter, WriterResources, failed};
use churn_io::format::{FileFormat, Format, Opening, WriteOptions};
use churn_io::source::Source;

use super::{Chart, Collector, Drawing, Drawn};

/// What a picture is written as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Svg,
    Png,
}

impl Kind {
    /// By a file's name.
    ///
    /// # Errors
    /// Its ending is that of no picture that can be drawn.
    pub(super) fn of(path: &Path) -> Result<Kind> {
        let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
        match ending.to_ascii_lowercase().as_str() {
            "svg" => Ok(Kind::Svg),
            "png" => Ok(Kind::Png),
            _ => {
                let what = format!("The name {} tells no picture that can be drawn.", path.display());
                Err(Error::new(ErrorKind::Check, what).next("Charts are written as .svg or .png."))
            }
        }
    }

    /// The bytes of a chart's file.
    ///
    /// # Errors
    /// The picture is too large to be held.
    pub(super) fn encode(self, chart: &Chart) -> Result<Vec<u8>> {
        match self {
            Kind::Svg => Ok(chart.svg().into_bytes()),
            Kind::Png => chart.png(chart.look.dots.unwrap_or(1.0)),
        }
    }
}

/// A chart among the formats of files; each step that draws has one of its own.
#[derive(Debug)]
struct ChartFormat {
    kind: Kind,
    drawing: Arc<Drawing>,
    /// Where the figure is kept for whoever asks when the run has ended.
    figure: Drawn,
}

/// The format of a file's name.
///
/// # Errors
/// Its ending is that of no picture that can be drawn.
pub(crate) fn format_of(path: &Path, drawing: &Arc<Drawing>, figure: &Drawn) -> Result<Format> {
    let kind = Kind::of(path)?;
    Ok(Format::new(ChartFormat { kind, drawing: drawing.clone(), figure: figure.clone() }))
}

impl FileFormat for ChartFormat {
    fn title(&self) -> &str {
        match self.kind {
            Kind::Svg => "SVG",
            Kind::Png => "PNG",
        }
    }

    fn names(&self) -> Vec<&str> {
        match self.kind {
            Kind::Svg => vec!["svg"],
            Kind::Png => vec!["png"],
        }
    }

    fn is_text(&self) -> bool {
        false
    }

    fn open(&self, _: &[PathBuf], _: Opening) -> Result<Arc<dyn Source>> {
        Err(Error::new(ErrorKind::Input, "Charts are drawn, not read."))
    }

    fn writer(
        &self,
        out: Out,
        _: &[Field],
        _: &WriteOptions,
        _: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        let (drawing, figure) = (self.drawing.clone(), self.figure.clone());
        let collector = Collector::new(drawing.clone());
        Ok(Some(Box::new(ChartWriter { kind: self.kind, drawing, collector, figure, out })))
    }
}

/// Gathers rows and writes their picture.
struct ChartWriter {
    kind: Kind,
    drawing: Arc<Drawing>,
    collector: Collector,
    figure: Drawn,
    out: Out,
}

impl RowWriter for ChartWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        self.collector.add(&batch)
    }

    fn finish(self: Box<Self>) -> Result<Out> {
        use std::io::Write;
        let ChartWriter { kind, drawing, collector, figure, mut out } = *self;
        let drawn = collector.finish()?;
        *figure.lock().unwrap_or_else(PoisonError::into_inner) = Some(drawn.clone());
        let bytes = kind.encode(&Chart::new(drawn, &drawing))?;
        out.write_all(&bytes).map_err(|error| failed(&error))?;
        Ok(out)
    }
}

/// Gathers rows for a chart that the program takes.
pub(crate) struct FigureOutput {
    collector: Collector,
    figure: Drawn,
}

impl FigureOutput {
    /// What gathers the rows of a drawing, and where its figure will be.
    pub(crate) fn new(drawing: &Arc<Drawing>) -> (FigureOutput, Drawn) {
        let figure = Drawn::default();
        (FigureOutput { collector: Collector::new(drawing.clone()), figure: figure.clone() }, figure)
    }
}

impl RowWriter for FigureOutput {
    fn write(&mut self, batch: Batch) -> Result<()> {
        self.collector.add(&batch)
    }

    fn finish(self: Box<Self>) -> Result<Out> {
        let figure = self.collector.finish()?;
        *self.figure.lock().unwrap_or_else(PoisonError::into_inner) = Some(figure);
        Ok(Out::new(std::io::sink()))
    }
}
