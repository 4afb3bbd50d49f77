//! Charts of tables: what is drawn, how rows become figures, and what a chart is given out as.

mod collect;
mod data;
mod drawing;
mod output;
mod plan;
mod rows;

use std::path::Path;
use std::sync::Arc;

use churn_core::Result;
use churn_draw::colour::Ground;
use churn_draw::figure::Figure;
use churn_draw::layout;
use churn_draw::mark::Picture;
use churn_draw::terminal::{self, Screen};
use churn_io::target::write_file;

use crate::table::Table;

pub(crate) use collect::Collector;
pub use drawing::ChartKind;
pub(crate) use drawing::{Drawing, Look, Role, is_measure};
pub(crate) use output::{FigureOutput, format_of};
pub(crate) use plan::picture as plan_picture;

/// A chart of the rows of a run, to be given out in any form.
///
/// ```
/// use churn::{Flow, steps};
/// let milk = Flow::steps("values farm, litres: ('F001', 120.0), ('F002', 80.0)");
/// let chart = milk.chart(steps::Draw::bars(["litres"]).over("farm"))?;
/// assert!(chart.svg().contains("<title>litres by farm</title>"));
/// println!("{chart}");
/// # Ok::<(), churn::Error>(())
/// ```
#[derive(Clone, Debug)]
pub struct Chart {
    figure: Figure,
    look: Look,
}

impl Chart {
    pub(crate) fn new(figure: Figure, drawing: &Drawing) -> Chart {
        Chart { figure, look: drawing.look.clone() }
    }

    /// With another size, in pixels; it is kept between 240 by 180 and 8000 by 8000.
    #[must_use]
    pub fn size(mut self, width: u32, height: u32) -> Chart {
        self.look.size = Some([width, height]);
        self
    }

    /// With light marks on dark ground, or the other way round.
    #[must_use]
    pub fn dark(mut self, is_dark: bool) -> Chart {
        self.look.ground = if is_dark { Ground::Dark } else { Ground::Light };
        self
    }

    /// What stands above it.
    pub fn title(&self) -> &str {
        &self.figure.title
    }

    /// What it shows in words, for readers who do not see it.
    pub fn description(&self) -> String {
        self.picture().description
    }

    fn picture(&self) -> Picture {
        let [[least_width, least_height], [most_width, most_height]] = layout::SIZES;
        let [width, height] = self.look.size.unwrap_or(drawing::SIZE);
        let size = [width.clamp(least_width, most_width), height.clamp(least_height, most_height)];
        layout::picture(&self.figure, size, self.look.ground)
    }

    /// As a document of SVG, whose texts can be selected; the same bytes for the same chart.
    pub fn svg(&self) -> String {
        churn_draw::svg::write(&self.picture())
    }

    /// As a file of PNG, drawn with the font that is shipped; `dots` for each pixel, such as 2 for fine screens.
    ///
    /// # Errors
    /// The picture is too large to be held.
    pub fn png(&self, dots: f64) -> Result<Vec<u8>> {
        churn_draw::png::write(&self.picture(), dots.clamp(0.25, 8.0))
    }

    /// Writes it to a file, complete or not at all: as SVG or PNG, by the file's name.
    ///
    /// # Errors
    /// The name tells no picture; the file cannot be written.
    pub fn write(&self, path: impl AsRef<Path>) -> Result<()> {
        let path = path.as_ref();
        write_file(path, &output::Kind::of(path)?.encode(self)?)
    }

    /// In characters, in so many columns.
    pub fn text(&self, screen: Screen) -> String {
        terminal::write(&self.figure, screen)
    }

    /// The figures that are drawn, as a table: bins with their counts, quartiles of boxes, cells of a grid, or the rows.
    ///
    /// # Errors
    /// A fault of this crate.
    pub fn data(&self) -> Result<Table> {
        data::table(&self.figure)
    }
}

/// In characters, in 80 columns, without colours.
impl std::fmt::Display for Chart {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.text(Screen::default()))
    }
}

impl Table {
    /// Draws the rows of the table.
    ///
    /// # Errors
    /// A column is missing or not of a type that is drawn so; there is nothing to draw.
    ///
    /// ```
    /// use churn::{Flow, steps};
    /// let table = Flow::steps("values litres: (120.0), (80.0), (95.0)").run()?;
    /// let chart = table.draw(steps::Draw::histogram("litres"))?;
    /// assert_eq!(chart.data()?.column::<i64>("rows")?.iter().sum::<i64>(), 3);
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn draw(&self, draw: crate::steps::Draw) -> Result<Chart> {
        let batches = self.batches()?;
        let flow = if batches.is_empty() {
            crate::Flow::batches_of(vec![arrow_array::RecordBatch::new_empty(self.schema())])?
        } else {
            crate::Flow::batches_of(batches)?
        };
        flow.chart(draw)
    }
}

/// What a run draws, when it has drawn it.
pub(crate) type Drawn = Arc<std::sync::Mutex<Option<Figure>>>;

/// A chart that a step writes to a file.
#[derive(Clone, Debug)]
pub(crate) struct WrittenChart {
    /// The file, as it is written.
    pub(crate) file: String,
    pub(crate) drawing: Arc<Drawing>,
    /// Its figure, once the run has drawn it.
    pub(crate) figure: Drawn,
}
