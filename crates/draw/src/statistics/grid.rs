//! Counts of pairs of numbers in a grid, whose cells are found while the pairs come.
//!
//! The sides of cells are powers of two, each axis for itself; where a side would have too many cells, two of them become one.
//! So the counts rest on the pairs alone, not on their order.

use super::floor;

/// How far below a number's size a cell's side may lie, in powers of two: more than a picture shows.
const FINEST: i32 = 40;

/// One axis of a grid: a window of cells that lie side by side.
#[derive(Clone, Debug)]
struct Side {
    /// The power of two that a cell is long; the least one before the first number.
    power: i32,
    /// What a number is multiplied with.
    times: f64,
    /// The place of the window's first cell.
    base: i64,
    least: i64,
    most: i64,
}

impl Side {
    fn new() -> Side {
        Side { power: i32::MIN, times: 0.0, base: 0, least: i64::MAX, most: i64::MIN }
    }

    fn place(&self, x: f64) -> i64 {
        (x * self.times).floor() as i64
    }

    /// The cell of a number, counted from the window's first, if the axis reaches over it.
    #[inline]
    fn at(&self, x: f64) -> Option<usize> {
        let scaled = x * self.times;
        let is_within = scaled >= self.least as f64 && scaled < (self.most as f64) + 1.0;
        is_within.then(|| (floor(scaled) - self.base) as usize)
    }

    fn set_power(&mut self, power: i32) {
        self.power = power;
        self.times = 2f64.powi(-power);
    }

    /// Widens what the axis reaches over by a number, for windows of so many cells.
    fn see(&mut self, x: f64, cells: i64) {
        let before = self.power;
        let size = if x == 0.0 { -1000 } else { x.abs().log2().ceil() as i32 };
        let lowest = (size - FINEST).max(-1000);
        if self.power == i32::MIN {
            self.set_power(lowest);
        }
        while self.power < lowest {
            self.double();
        }
        loop {
            let place = self.place(x);
            let (least, most) = (self.least.min(place), self.most.max(place));
            if most.saturating_sub(least) < cells {
                (self.least, self.most) = (least, most);
                break;
            }
            self.double();
        }
        if self.least < self.base || self.most >= self.base + cells || self.power != before {
            // As much room before what is known as behind it.
            self.base = self.least - (cells - (self.most - self.least + 1)) / 2;
        }
    }

    fn double(&mut self) {
        self.set_power(self.power + 1);
        if self.least <= self.most {
            self.least = self.least.div_euclid(2);
            self.most = self.most.div_euclid(2);
        }
    }

    /// Where a cell begins and ends.
    fn ends(&self, at: usize) -> [f64; 2] {
        let place = self.base + at as i64;
        [place as f64 / self.times, (place + 1) as f64 / self.times]
    }
}

/// What a cell holds: how many pairs for each key, and the mean of their third numbers.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Cell {
    /// Where it begins and ends along the first axis.
    pub x: [f64; 2],
    /// Where it begins and ends along the second axis.
    pub y: [f64; 2],
    /// Pairs, by the number of their key.
    pub counts: Vec<u64>,
    /// The mean of the third numbers; `None` if no pair had one.
    pub mean: Option<f64>,
}

impl Cell {
    /// Pairs of all keys.
    pub fn total(&self) -> u64 {
        self.counts.iter().sum()
    }
}

/// Counts of pairs by cells. Memory: 8 bytes a cell and key, and 16 a cell where pairs have third numbers.
#[derive(Clone, Debug)]
pub struct Grid {
    side: usize,
    x: Side,
    y: Side,
    /// For each key the cells of a window, row by row.
    counts: Vec<Vec<u64>>,
    /// The sum of third numbers, and how many there were; empty as long as there is none.
    values: Vec<(f64, u64)>,
}

impl Grid {
    /// No pair yet; a side has so many cells at most.
    pub fn new(side: usize) -> Grid {
        Grid { side: side.max(2), x: Side::new(), y: Side::new(), counts: Vec::new(), values: Vec::new() }
    }

    /// The cell of a pair, if it lies in the window.
    #[inline]
    fn cell(&self, x: f64, y: f64) -> Option<usize> {
        Some(self.y.at(y)? * self.side + self.x.at(x)?)
    }

    /// Counts a pair of finite numbers, of a key, with a third number.
    #[inline]
    pub fn add(&mut self, x: f64, y: f64, key: usize, value: Option<f64>) {
        let known = self.cell(x, y).filter(|_| key < self.counts.len());
        let cell = match known {
            Some(cell) => cell,
            None => self.make_room(x, y, key),
        };
        if let Some(count) = self.counts.get_mut(key).and_then(|cells| cells.get_mut(cell)) {
            *count += 1;
        }
        if let Some(value) = value {
            self.values.resize(self.side * self.side, (0.0, 0));
            if let Some((sum, count)) = self.values.get_mut(cell) {
                *sum += value;
                *count += 1;
            }
        }
    }

    /// Makes a pair lie in the window; gives its cell.
    #[cold]
    fn make_room(&mut self, x: f64, y: f64, key: usize) -> usize {
        let (old_x, old_y) = (self.x.clone(), self.y.clone());
        self.x.see(x, self.side as i64);
        self.y.see(y, self.side as i64);
        let is_moved = |old: &Side, new: &Side| (old.power, old.base) != (new.power, new.base);
        if is_moved(&old_x, &self.x) || is_moved(&old_y, &self.y) {
            self.rebuild(&old_x, &old_y);
        }
        while self.counts.len() <= key {
            self.counts.push(vec![0; self.side * self.side]);
        }
        self.cell(x, y).unwrap_or(0)
    }

    /// Moves what cells hold to where it lies now.
    fn rebuild(&mut self, old_x: &Side, old_y: &Side) {
        let to = |new: &Side, old: &Side, at: usize| {
            let place = (old.base + at as i64) >> (new.power - old.power).clamp(0, 63);
            usize::try_from(place - new.base).ok().filter(|at| *at < self.side)
        };
        let move_of = |at: usize| {
            let across = to(&self.x, old_x, at % self.side)?;
            Some((at, to(&self.y, old_y, at / self.side)? * self.side + across))
        };
        if self.counts.is_empty() {
            return;
        }
        let moves: Vec<(usize, usize)> = (0..self.side * self.side).filter_map(move_of).collect();
        self.counts.iter_mut().for_each(|cells| *cells = put_together(cells, &moves, |a, b| *a += b));
        if !self.values.is_empty() {
            self.values = put_together(&self.values, &moves, |a, b| *a = (a.0 + b.0, a.1 + b.1));
        }
    }

    /// With cells so large that a side has so many at most.
    #[must_use]
    pub fn coarsened(&self, side: usize) -> Grid {
        let mut grid = self.clone();
        let is_wide = |axis: &Side| axis.most.saturating_sub(axis.least) >= side.max(2) as i64;
        while grid.x.least <= grid.x.most && (is_wide(&grid.x) || is_wide(&grid.y)) {
            let (old_x, old_y) = (grid.x.clone(), grid.y.clone());
            for axis in [&mut grid.x, &mut grid.y] {
                if is_wide(axis) {
                    axis.double();
                    axis.base = axis.least;
                }
            }
            grid.rebuild(&old_x, &old_y);
        }
        grid
    }

    /// The cells that hold something, by rows.
    pub fn counted(&self) -> Vec<Cell> {
        let cell = |at: usize| {
            let counts: Vec<u64> = self.counts.iter().filter_map(|cells| cells.get(at).copied()).collect();
            let valued = self.values.get(at).filter(|(_, count)| *count > 0);
            let mean = valued.map(|(sum, count)| sum / *count as f64);
            Cell { x: self.x.ends(at % self.side), y: self.y.ends(at / self.side), counts, mean }
        };
        (0..self.side * self.side).map(cell).filter(|cell| cell.total() > 0).collect()
    }
}

/// Cells moved to their new places, where several may meet.
fn put_together<T: Copy + Default>(cells: &[T], moves: &[(usize, usize)], add: impl Fn(&mut T, T)) -> Vec<T> {
    let mut new = vec![T::default(); cells.len()];
    for (from, to) in moves {
        if let (Some(old), Some(new)) = (cells.get(*from), new.get_mut(*to)) {
            add(new, *old);
        }
    }
    new
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_order_of_pairs_does_not_matter(pairs in prop::collection::vec((-1e5f64..1e5, -1.0f64..1.0), 1..80)) {
            let of = |pairs: &[(f64, f64)]| {
                let mut grid = Grid::new(16);
                pairs.iter().for_each(|(x, y)| grid.add(*x, *y, 0, None));
                grid.counted().into_iter().map(|cell| (cell.x, cell.y, cell.total())).collect::<Vec<_>>()
            };
            let mut turned = pairs.clone();
            turned.reverse();
            prop_assert_eq!(of(&pairs), of(&turned));
        }

        #[test]
        fn larger_cells_hold_the_same(pairs in prop::collection::vec((-1e3f64..1e3, -1.0f64..1.0), 1..60), side in 2usize..20) {
            let mut grid = Grid::new(32);
            pairs.iter().for_each(|(x, y)| grid.add(*x, *y, 0, Some(*y)));
            let coarse = grid.coarsened(side);
            let cells = coarse.counted();
            prop_assert!(cells.len() <= side * side);
            prop_assert_eq!(cells.iter().map(Cell::total).sum::<u64>(), pairs.len() as u64);
            for (x, y) in &pairs {
                prop_assert!(cells.iter().any(|cell| cell.x[0] <= *x && *x < cell.x[1] && cell.y[0] <= *y && *y < cell.y[1]));
            }
        }

        #[test]
        fn every_pair_lies_in_its_cell(pairs in prop::collection::vec((-1e3f64..1e3, -1e3f64..1e3), 1..50)) {
            let mut grid = Grid::new(32);
            pairs.iter().for_each(|(x, y)| grid.add(*x, *y, 0, None));
            let cells = grid.counted();
            prop_assert!(cells.len() <= 32 * 32);
            prop_assert_eq!(cells.iter().map(Cell::total).sum::<u64>(), pairs.len() as u64);
            for (x, y) in &pairs {
                prop_assert!(cells.iter().any(|cell| cell.x[0] <= *x && *x < cell.x[1] && cell.y[0] <= *y && *y < cell.y[1]));
            }
        }
    }

    #[test]
    fn keys_and_third_numbers_are_kept_apart() {
        let mut grid = Grid::new(4);
        grid.add(1.0, 1.0, 0, Some(2.0));
        grid.add(1.0, 1.0, 2, None);
        let cells = grid.counted();
        assert_eq!(
            cells.first().map(|cell| (cell.counts.clone(), cell.mean)),
            Some((vec![1, 0, 1], Some(2.0)))
        );
    }
}
