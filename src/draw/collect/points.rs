//! Points: one for each row; of many rows, a grid of how many lie where.

use std::sync::Arc;

use churn_core::readable::plural;
use churn_core::{Result, Scalar};
use churn_draw::figure::{Extent, Place, Point, Series, Shape, Tile};
use churn_draw::scale::{Measure, Range};
use churn_draw::statistics::Grid;

use super::{Drawn, Ends, Marks, Names, Undrawn, at, number};
use crate::draw::drawing::{Drawing, Role};
use crate::draw::rows::{Along, Rows, named};

/// Rows that are drawn as points each.
const FEW: usize = 5000;

/// Cells along a side of a grid: of one panel, of several, of each of several colours.
const CELLS: [usize; 3] = [256, 128, 96];

/// Cells along a side of a grid, at least.
const FEWEST_CELLS: usize = 32;

/// A row as it is held.
struct Held {
    panel: usize,
    colour: usize,
    measure: usize,
    point: Point,
}

/// The rows while they are few, then grids of each panel and measure.
pub(super) struct Points {
    drawing: Arc<Drawing>,
    held: Vec<Held>,
    grids: Option<Vec<Vec<Option<Grid>>>>,
    /// Of the first axis, and of each measure.
    along: Ends,
    measures: Vec<Ends>,
    values: Ends,
    rows: u64,
}

impl Points {
    pub(super) fn new(drawing: &Arc<Drawing>) -> Points {
        Points {
            drawing: drawing.clone(),
            held: Vec::new(),
            grids: None,
            along: Ends::new(),
            measures: vec![Ends::new(); drawing.measures.len()],
            values: Ends::new(),
            rows: 0,
        }
    }

    fn cells(&self) -> usize {
        let [one, several, of_colours] = CELLS;
        match (self.drawing.panels.is_empty(), self.drawing.colour.is_some() && !self.drawing.has_values()) {
            (_, true) => of_colours,
            (true, false) => one,
            (false, false) => several,
        }
    }

    /// A number as the axis shows it in equal distances.
    fn scaled(&self, x: f64, axis: usize) -> f64 {
        if self.drawing.look.is_log.get(axis) == Some(&true) { x.log10() } else { x }
    }

    fn unscaled(&self, x: f64, axis: usize) -> f64 {
        if self.drawing.look.is_log.get(axis) == Some(&true) { 10f64.powf(x) } else { x }
    }

    fn count_in_grid(&mut self, held: &Held) {
        let (x, y) = (self.scaled(held.point.x, 0), self.scaled(held.point.y, 1));
        let cells = self.cells();
        let Some(grids) = &mut self.grids else { return };
        if let Some(grid) = super::grown(grids, held.panel, held.measure) {
            grid.get_or_insert_with(|| Grid::new(cells)).add(x, y, held.colour, held.point.value);
        }
    }

    fn take(&mut self, held: Held) {
        self.along.see(held.point.x);
        if let Some(ends) = self.measures.get_mut(held.measure) {
            ends.see(held.point.y);
        }
        if let Some(value) = held.point.value {
            self.values.see(value);
        }
        if self.grids.is_some() {
            self.count_in_grid(&held);
            return;
        }
        self.held.push(held);
        if self.held.len() > FEW {
            self.grids = Some(Vec::new());
            std::mem::take(&mut self.held).iter().for_each(|held| self.count_in_grid(held));
        }
    }

    fn axis(&self, ends: Ends, role: Option<&Role>, axis: usize) -> Extent {
        let Some(role) = role else { return Extent::Range(Range::over(Measure::Number, 0.0, 1.0)) };
        let range = ends.range(role);
        let is_log = self.drawing.look.is_log.get(axis) == Some(&true);
        Extent::Range(if is_log { range.log().padded(0.03) } else { range.with_zero_if_near().padded(0.02) })
    }

    /// The tiles of a grid, by colour.
    fn tiles(&self, grid: &Grid, names: &Names, most: &mut f64) -> Vec<Series> {
        let has_values = self.drawing.has_values();
        let mut series: Vec<Series> = Vec::new();
        for cell in grid.counted() {
            let ends = |[from, to]: [f64; 2], axis: usize| {
                Place::Between(self.unscaled(from, axis), self.unscaled(to, axis))
            };
            let total = cell.total() as f64;
            let value = if has_values { cell.mean } else { Some(total) };
            let Some(value) = value else { continue };
            *most = most.max(total);
            // The colour of most of its rows.
            let by_count =
                cell.counts.iter().enumerate().max_by_key(|(number, count)| (**count, usize::MAX - number));
            let colour = names.colour_of(by_count.map_or(0, |(number, _)| number));
            let tile = Tile { x: ends(cell.x, 0), y: ends(cell.y, 1), value };
            match series.iter_mut().find(|series| series.colour == colour) {
                Some(Series { shape: Shape::Tiles(tiles), .. }) => tiles.push(tile),
                _ => series.push(Series { colour, shape: Shape::Tiles(vec![tile]) }),
            }
        }
        series.sort_by_key(|series| series.colour);
        series
    }

    /// The points of a panel and measure, by colour.
    fn points(&self, panel: usize, measure: usize, names: &Names) -> Vec<Series> {
        let mut series: Vec<Series> = Vec::new();
        for held in self.held.iter().filter(|held| (held.panel, held.measure) == (panel, measure)) {
            let colour = names.colour_of(held.colour);
            match series.iter_mut().find(|series| series.colour == colour) {
                Some(Series { shape: Shape::Points(points), .. }) => points.push(held.point.clone()),
                _ => series.push(Series { colour, shape: Shape::Points(vec![held.point.clone()]) }),
            }
        }
        series.sort_by_key(|series| series.colour);
        series
    }
}

impl Points {
    /// Counts rows in the one grid of a chart without panels, keys and third numbers; gives whether it could.
    fn count_plain(&mut self, rows: &Rows, undrawn: &mut Undrawn) -> bool {
        let is_plain = rows.panels.is_empty() && rows.colours.is_empty() && rows.values.is_none();
        let is_plain = is_plain && self.drawing.look.is_log == [false; 2];
        let ([numbers], [role], Along::Numbers(along), true) =
            (rows.measures.as_slice(), self.drawing.measures.as_slice(), &rows.along, is_plain)
        else {
            return false;
        };
        let grid = self.grids.as_mut().and_then(|grids| super::grown(grids, 0, 0)).and_then(Option::as_mut);
        let (Some(grid), Some(high)) = (grid, self.measures.first_mut()) else { return false };
        let title = self.drawing.along.as_ref().map_or("", |role| role.title.as_str());
        for row in 0..rows.count {
            let Some(x) = undrawn.checked(along.at(row), 0, title) else { continue };
            let Some(y) = undrawn.checked(numbers.at(row), 1, &role.title) else { continue };
            self.rows += 1;
            self.along.see(x);
            high.see(y);
            grid.add(x, y, 0, None);
        }
        true
    }
}

impl Marks for Points {
    fn add(&mut self, rows: &Rows, undrawn: &mut Undrawn) -> Result<()> {
        if self.count_plain(rows, undrawn) {
            return Ok(());
        }
        let drawing = self.drawing.clone();
        let along = drawing.along.as_ref().map_or("", |role| role.title.as_str());
        for row in 0..rows.count {
            let Some(x) = undrawn.checked(at(&rows.along, row), 0, along) else { continue };
            for (measure, (numbers, role)) in rows.measures.iter().zip(&drawing.measures).enumerate() {
                let Some(y) = undrawn.checked(numbers.at(row), 1, &role.title) else { continue };
                let value = rows.values.as_ref().and_then(|values| values.at(row)).filter(|x| x.is_finite());
                let label = match &rows.labels {
                    Some(labels) if self.grids.is_none() => named(&Scalar::from_array(labels, row)),
                    _ => String::new(),
                };
                self.rows += 1;
                let (panel, colour) = (number(&rows.panels, row), number(&rows.colours, row));
                self.take(Held { panel, colour, measure, point: Point { x, y, value, label } });
            }
        }
        Ok(())
    }

    fn finish(self: Box<Self>, names: &Names) -> Result<Drawn> {
        let measures = self.drawing.measures.len();
        let mut most: f64 = 1.0;
        // Of few rows few cells, so that most hold some.
        let grids = (names.panels * measures).max(1) as f64;
        let side = ((self.rows as f64 / grids / 2.0).sqrt() as usize).clamp(FEWEST_CELLS, CELLS[0]);
        let series = (0..names.panels).map(|panel| {
            let strip = |measure: usize| match &self.grids {
                None => self.points(panel, measure, names),
                Some(grids) => {
                    let grid = grids.get(panel).and_then(|row| row.get(measure)).and_then(Option::as_ref);
                    grid.map(|grid| self.tiles(&grid.coarsened(side), names, &mut most)).unwrap_or_default()
                }
            };
            (0..measures).map(strip).collect()
        });
        let series = series.collect();
        let values = match &self.drawing.colour {
            Some(role) if self.drawing.has_values() => Some((role.title.clone(), self.values.range(role))),
            None if self.grids.is_some() => {
                Some(("rows".to_owned(), Range::over(Measure::Whole, 1.0, most).log()))
            }
            _ => None,
        };
        let ranges = self.measures.iter().zip(&self.drawing.measures);
        let ranges = ranges.map(|(ends, role)| self.axis(*ends, Some(role), 1)).collect();
        let mut captions = Vec::new();
        if self.grids.is_some() {
            let how = match &self.drawing.colour {
                Some(role) if self.drawing.has_values() => {
                    format!("the colour is the mean of {}", role.title)
                }
                Some(role) => {
                    format!("the colour is the {} of most rows, stronger where there are more", role.title)
                }
                None => "the colour is how many lie there".to_owned(),
            };
            captions.push(format!("{} are drawn as a grid: {how}.", plural(self.rows, "point")));
        }
        let along = self.axis(self.along, self.drawing.along.as_ref(), 0);
        Ok(Drawn { along, measures: ranges, series, values, measure: None, captions })
    }
}
