//! Heat: two keys and a value, which is a colour: a cross table that is seen.

use std::collections::HashSet;
use std::sync::Arc;

use churn_core::Result;
use churn_draw::figure::{Place, Series, Shape, Tile};

use super::{Drawn, Ends, Marks, Names, Undrawn, keys_extent, number, twice};
use crate::draw::drawing::Drawing;
use crate::draw::rows::{Along, Rows};

/// The cells, which are few: their keys are.
pub(super) struct Heat {
    drawing: Arc<Drawing>,
    seen: HashSet<(usize, usize, usize)>,
    /// Panel, key along, key of the row, value.
    cells: Vec<(usize, usize, usize, f64)>,
    two: Option<usize>,
}

impl Heat {
    pub(super) fn new(drawing: &Arc<Drawing>) -> Heat {
        Heat { drawing: drawing.clone(), seen: HashSet::new(), cells: Vec::new(), two: None }
    }
}

impl Marks for Heat {
    fn add(&mut self, rows: &Rows, undrawn: &mut Undrawn) -> Result<()> {
        let (Along::Keys(keys), Some(numbers)) = (&rows.along, rows.measures.first()) else { return Ok(()) };
        let title = self.drawing.measures.first().map(|role| role.title.clone()).unwrap_or_default();
        for row in 0..rows.count {
            let (panel, up, along) =
                (number(&rows.panels, row), number(&rows.colours, row), number(keys, row));
            if !self.seen.insert((panel, along, up)) {
                self.two.get_or_insert(along);
                return Ok(());
            }
            if let Some(value) = undrawn.checked(numbers.at(row), 1, &title) {
                self.cells.push((panel, along, up, value));
            }
        }
        Ok(())
    }

    fn finish(self: Box<Self>, names: &Names) -> Result<Drawn> {
        if let Some(key) = self.two {
            return Err(twice(&self.drawing, names.along.get(key).map_or("", String::as_str)));
        }
        let mut ends = Ends::new();
        self.cells.iter().for_each(|(.., value)| ends.see(*value));
        let series = (0..names.panels).map(|panel| {
            let own = self.cells.iter().filter(|(at, ..)| *at == panel);
            // The first key stands above, as in a table.
            let tile = |(_, along, up, value): &(usize, usize, usize, f64)| Tile {
                x: Place::Key(*along),
                y: Place::Key((names.numbers.len() - 1).saturating_sub(*up)),
                value: *value,
            };
            let tiles: Vec<Tile> = own.map(tile).collect();
            let series = Series { colour: 0, shape: Shape::Tiles(tiles) };
            vec![if self.cells.is_empty() { Vec::new() } else { vec![series] }]
        });
        let series = series.collect();
        let look = &self.drawing.look;
        let heading = |title: &str| match (look.measures.first(), look.units.first()) {
            (Some(asked), _) => asked.clone(),
            (None, Some(unit)) => format!("{title} ({unit})"),
            (None, None) => title.to_owned(),
        };
        let values = self.drawing.measures.first().map(|role| (heading(&role.title), ends.range(role)));
        let mut up = names.colours.clone();
        up.reverse();
        Ok(Drawn {
            along: keys_extent(&names.along, self.drawing.along.as_ref()),
            measures: vec![keys_extent(&up, self.drawing.colour.as_ref())],
            series,
            values,
            measure: self.drawing.colour.as_ref().map(|role| role.title.clone()),
            captions: Vec::new(),
        })
    }
}
