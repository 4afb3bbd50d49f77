//! Rows as they come into the figures of a chart: one file a kind, in memory that does not grow with the rows.

mod bars;
mod boxes;
mod heat;
mod histogram;
mod lines;
mod points;

use std::cmp::Ordering;
use std::sync::Arc;

use churn_core::readable::{grouped, plural};
use churn_core::{Batch, Error, ErrorKind, Result, Scalar};
use churn_draw::figure::{Axis, Colours, Extent, Figure, Panel, Series};
use churn_draw::scale::Range;

use churn_exec::KeyNumbers;
use churn_kernels::calendar::{Civil, to_civil};

use super::drawing::{ChartKind, Drawing, Role};
use super::rows::{Along, Keys, Rows, has_order, measure_of, named};

/// What gathers the marks of one kind.
trait Marks: Send {
    /// Takes rows.
    ///
    /// # Errors
    /// They cannot be drawn so.
    fn add(&mut self, rows: &Rows, undrawn: &mut Undrawn) -> Result<()>;

    /// The marks of all rows.
    ///
    /// # Errors
    /// They cannot be drawn so.
    fn finish(self: Box<Self>, names: &Names) -> Result<Drawn>;
}

/// The names of keys, when all rows have come.
struct Names {
    /// Of what marks stand along; none where that is numbers.
    along: Vec<String>,
    /// Of colours; none where there are no keys.
    colours: Vec<String>,
    /// The number that each of those came with, in the order in which they are drawn; of one colour, 0.
    numbers: Vec<usize>,
    /// The place at which each number of what marks stand along is drawn.
    places: Vec<usize>,
    panels: usize,
}

impl Names {
    /// The colours in the order in which they are drawn, each with the number that it came with.
    fn colours_drawn(&self) -> impl Iterator<Item = (usize, usize)> {
        self.numbers.iter().copied().enumerate()
    }

    /// The place at which the colour of a number is drawn.
    fn colour_of(&self, number: usize) -> usize {
        self.numbers.iter().position(|known| *known == number).unwrap_or(number)
    }

    /// The place at which a key of what marks stand along is drawn.
    fn place_of(&self, number: usize) -> usize {
        self.places.get(number).copied().unwrap_or(number)
    }
}

/// Names of keys, and the number that each came with: in the order of rows, or of their values where many rows share each.
fn named_keys(keys: Option<&KeyNumbers>, is_sorted: bool) -> Result<(Vec<String>, Vec<usize>)> {
    let values = keys.map(KeyNumbers::values).transpose()?.unwrap_or_default();
    let mut numbers: Vec<usize> = (0..values.len()).collect();
    if is_sorted {
        let value = |number: &usize| values.get(*number);
        numbers.sort_by(|a, b| in_order(value(a), value(b)));
    }
    let mut names: Vec<String> = numbers.iter().filter_map(|number| values.get(*number)).map(named).collect();
    shorten_dates(&values, &mut names);
    Ok((names, numbers))
}

/// Leaves the day out of the names of dates that are all the first of a month, and the month where all are of a year.
fn shorten_dates(values: &[Scalar], names: &mut [String]) {
    let civil = |value: &Scalar| if let Scalar::Date(day) = value { Some(to_civil(*day)) } else { None };
    let dates: Vec<Civil> = values.iter().filter_map(civil).collect();
    let nulls = values.iter().filter(|value| value.is_null()).count();
    if dates.len() < 2 || dates.len() + nulls < values.len() || dates.iter().any(|date| date.day != 1) {
        return;
    }
    let length = if dates.iter().all(|date| date.month == 1) { 4 } else { 7 };
    names
        .iter_mut()
        .filter(|name| name.starts_with(|c: char| c.is_ascii_digit()))
        .for_each(|name| name.truncate(length));
}

/// The order of two values of one type; null comes last.
fn in_order(a: Option<&Scalar>, b: Option<&Scalar>) -> Ordering {
    match (a, b) {
        (Some(Scalar::Null), Some(Scalar::Null)) => Ordering::Equal,
        (Some(Scalar::Null), _) => Ordering::Greater,
        (_, Some(Scalar::Null)) => Ordering::Less,
        (Some(Scalar::Int(a)), Some(Scalar::Int(b))) => a.cmp(b),
        (Some(Scalar::Float(a)), Some(Scalar::Float(b))) => a.total_cmp(b),
        (Some(Scalar::Decimal(a, ..)), Some(Scalar::Decimal(b, ..))) => a.cmp(b),
        (Some(Scalar::Date(a)), Some(Scalar::Date(b))) => a.cmp(b),
        (Some(Scalar::Time(a)), Some(Scalar::Time(b)))
        | (Some(Scalar::Timestamp(a)), Some(Scalar::Timestamp(b))) => a.cmp(b),
        (Some(a), Some(b)) => a.plain().cmp(&b.plain()),
        _ => Ordering::Equal,
    }
}

/// What marks are drawn, and between which values.
struct Drawn {
    along: Extent,
    measures: Vec<Extent>,
    /// By panel and measure.
    series: Vec<Vec<Vec<Series>>>,
    /// What colours stand for, where it is not the keys.
    values: Option<(String, Range)>,
    /// What the measure is called where it is none of the columns.
    measure: Option<String>,
    captions: Vec<String>,
}

impl Drawn {
    /// No marks.
    fn nothing() -> Drawn {
        let along = Extent::Keys { names: Vec::new(), are_ordered: false };
        Drawn {
            along,
            measures: Vec::new(),
            series: Vec::new(),
            values: None,
            measure: None,
            captions: Vec::new(),
        }
    }
}

/// Rows that are not drawn, and why.
struct Undrawn {
    rows: u64,
    null: Vec<(String, u64)>,
    infinite: u64,
    not_positive: u64,
    is_log: [bool; 2],
}

impl Undrawn {
    /// Why a number cannot be drawn, counted; gives it if it can. Axes are 0, what marks stand along, and 1, the measure.
    fn checked(&mut self, x: Option<f64>, axis: usize, title: &str) -> Option<f64> {
        match x {
            None => {
                match self.null.iter_mut().find(|(column, _)| column == title) {
                    Some((_, count)) => *count += 1,
                    None => self.null.push((title.to_owned(), 1)),
                }
                None
            }
            Some(x) if !x.is_finite() => {
                self.infinite += 1;
                None
            }
            Some(x) if x <= 0.0 && self.is_log.get(axis) == Some(&true) => {
                self.not_positive += 1;
                None
            }
            x => x,
        }
    }

    /// In words, if there are any.
    fn told(&self) -> Option<String> {
        let null = self.null.iter().map(|(column, count)| format!("{column} is null in {}", grouped(*count)));
        let counted = |count: u64, what: &str| (count > 0).then(|| format!("{} {what}", grouped(count)));
        let others = [
            counted(self.infinite, "are NaN or infinite"),
            counted(self.not_positive, "are not above zero, as an axis of ratios needs"),
        ];
        let why: Vec<String> = null.chain(others.into_iter().flatten()).collect();
        let of = plural(self.rows, "row");
        (!why.is_empty()).then(|| format!("Not all of {of} are drawn: {}.", why.join("; ")))
    }
}

/// Gathers the rows of a chart.
pub(crate) struct Collector {
    drawing: Arc<Drawing>,
    keys: Keys,
    undrawn: Undrawn,
    marks: Box<dyn Marks>,
}

impl Collector {
    /// For a drawing.
    pub(crate) fn new(drawing: Arc<Drawing>) -> Collector {
        let marks: Box<dyn Marks> = match drawing.kind {
            ChartKind::Histogram => Box::new(histogram::Histogram::new(&drawing)),
            ChartKind::Bars => Box::new(bars::Bars::new(&drawing)),
            ChartKind::Lines | ChartKind::Area => Box::new(lines::Lines::new(&drawing)),
            ChartKind::Points => Box::new(points::Points::new(&drawing)),
            ChartKind::Box => Box::new(boxes::Boxes::new(&drawing)),
            ChartKind::Heat => Box::new(heat::Heat::new(&drawing)),
        };
        let is_log = drawing.look.is_log;
        let undrawn = Undrawn { rows: 0, null: Vec::new(), infinite: 0, not_positive: 0, is_log };
        Collector { keys: Keys::of(&drawing), drawing, undrawn, marks }
    }

    /// Takes rows, in order.
    ///
    /// # Errors
    /// They cannot be drawn so: too many keys, several rows for one mark.
    pub(crate) fn add(&mut self, batch: &Batch) -> Result<()> {
        let rows = self.keys.rows(&self.drawing, batch)?;
        self.undrawn.rows += rows.count as u64;
        self.marks.add(&rows, &mut self.undrawn)
    }

    /// The figures of all rows.
    ///
    /// # Errors
    /// There is nothing to draw.
    pub(crate) fn finish(self) -> Result<Figure> {
        let Collector { drawing, keys, undrawn, marks } = self;
        // Charts of many rows for each key have keys in order; those of a row for each, in the order of the rows.
        let is_sorted = matches!(drawing.kind, ChartKind::Histogram | ChartKind::Points | ChartKind::Box);
        let (along, along_numbers) = named_keys(keys.along.as_ref(), is_sorted)?;
        let (colours, mut numbers) = named_keys(keys.colours.as_ref(), is_sorted)?;
        if numbers.is_empty() {
            numbers.push(0);
        }
        let mut places = vec![0; along_numbers.len()];
        for (place, number) in along_numbers.into_iter().enumerate() {
            places.iter_mut().skip(number).take(1).for_each(|own| *own = place);
        }
        let names = Names { along, colours, numbers, places, panels: keys.pairs.len().max(1) };
        let drawn = marks.finish(&names)?;
        if drawn.series.iter().flatten().flatten().next().is_none() {
            return Err(nothing_to_draw(&undrawn));
        }
        let (panels, grid) = panels_of(&keys, drawn.series, is_sorted)?;
        let captions = drawn.captions.into_iter().chain(undrawn.told()).collect();
        let colours = match (drawn.values, &drawing.colour) {
            (Some((title, range)), _) => Colours::Values { title, range },
            (None, Some(role)) => Colours::Keys { title: role.title.clone(), names: names.colours },
            (None, None) => Colours::One,
        };
        let along = drawing
            .along
            .as_ref()
            .or(drawing.measures.first().filter(|_| drawing.kind == ChartKind::Histogram));
        let along = Axis {
            title: drawing.look.along.clone().or(along.map(|role| role.title.clone())).unwrap_or_default(),
            unit: if drawing.kind == ChartKind::Histogram { unit(&drawing, 0) } else { String::new() },
            extent: drawn.along,
        };
        let measure = |(place, extent): (usize, Extent)| Axis {
            title: measure_title(&drawing, place, drawn.measure.as_deref()),
            unit: if drawn.measure.is_some() { String::new() } else { unit(&drawing, place) },
            extent,
        };
        Ok(Figure {
            kind: drawing.kind.word(),
            title: drawing.title(),
            source: drawing.look.source.clone(),
            captions,
            along,
            measures: drawn.measures.into_iter().enumerate().map(measure).collect(),
            colours,
            is_grouped: !drawing.is_stacked(),
            has_labels: drawing.look.has_labels,
            panels,
            grid,
        })
    }
}

fn unit(drawing: &Drawing, place: usize) -> String {
    let units = &drawing.look.units;
    units.get(place).or(units.first().filter(|_| units.len() == 1)).cloned().unwrap_or_default()
}

fn measure_title(drawing: &Drawing, place: usize, other: Option<&str>) -> String {
    if let Some(other) = other {
        return other.to_owned();
    }
    let asked = drawing.look.measures.get(place).cloned();
    asked.or_else(|| drawing.measures.get(place).map(|role| role.title.clone())).unwrap_or_default()
}

fn nothing_to_draw(undrawn: &Undrawn) -> Error {
    let error = Error::new(ErrorKind::Data, "There is nothing to draw.");
    match undrawn.told() {
        _ if undrawn.rows == 0 => error.why("No row came here."),
        Some(why) => error.why(why),
        None => error,
    }
}

/// The panels with their names; of two keys all pairs, row by row.
fn panels_of(
    keys: &Keys,
    series: Vec<Vec<Vec<Series>>>,
    is_sorted: bool,
) -> Result<(Vec<Panel>, Option<usize>)> {
    let named: Vec<(Vec<String>, Vec<usize>)> =
        keys.panels.iter().map(|keys| named_keys(Some(keys), is_sorted)).collect::<Result<_>>()?;
    let mut series: Vec<Option<Vec<Vec<Series>>>> = series.into_iter().map(Some).collect();
    let mut take = |pair: &[usize]| {
        let is_it = |known: &Vec<u32>| known.iter().map(|number| *number as usize).eq(pair.iter().copied());
        let place = keys.pairs.iter().position(is_it);
        place.and_then(|place| series.get_mut(place)).and_then(Option::take).unwrap_or_default()
    };
    Ok(match named.as_slice() {
        [] => (vec![Panel { name: String::new(), strips: take(&[]) }], None),
        [(names, numbers)] => {
            let panel =
                |(name, number): (&String, &usize)| Panel { name: name.clone(), strips: take(&[*number]) };
            (names.iter().zip(numbers).map(panel).collect(), None)
        }
        [(rows, row_numbers), (columns, column_numbers), ..] => {
            let mut panels = Vec::new();
            for (row, row_number) in rows.iter().zip(row_numbers) {
                for (column, column_number) in columns.iter().zip(column_numbers) {
                    let strips = take(&[*row_number, *column_number]);
                    panels.push(Panel { name: format!("{row} · {column}"), strips });
                }
            }
            (panels, Some(columns.len()))
        }
    })
}

/// Keys that marks stand along, as an axis.
fn keys_extent(names: &[String], role: Option<&Role>) -> Extent {
    let are_ordered = role.is_some_and(|role| has_order(&role.kind));
    Extent::Keys { names: names.to_vec(), are_ordered }
}

/// The least and the greatest of some numbers.
#[derive(Clone, Copy)]
struct Ends(f64, f64);

impl Ends {
    fn new() -> Ends {
        Ends(f64::INFINITY, f64::NEG_INFINITY)
    }

    fn see(&mut self, x: f64) {
        self.0 = self.0.min(x);
        self.1 = self.1.max(x);
    }

    /// The range between them, of a role's numbers; of none, from 0 to 1.
    fn range(self, role: &Role) -> Range {
        let Ends(least, greatest) = self;
        let (least, greatest) = if least <= greatest { (least, greatest) } else { (0.0, 1.0) };
        Range::over(measure_of(&role.kind), least, greatest)
    }
}

/// The number that a row's marks stand at: its number, or that of its key.
fn at(along: &Along, row: usize) -> Option<f64> {
    match along {
        Along::Nothing => Some(0.0),
        Along::Keys(keys) => keys.get(row).map(|key| f64::from(*key)),
        Along::Numbers(numbers) => numbers.at(row),
    }
}

fn number(numbers: &[u32], row: usize) -> usize {
    numbers.get(row).map_or(0, |number| *number as usize)
}

/// A place of a table that grows by panels and colours.
fn grown<T: Default + Clone>(table: &mut Vec<Vec<T>>, panel: usize, colour: usize) -> Option<&mut T> {
    if table.len() <= panel {
        table.resize(panel + 1, Vec::new());
    }
    let row = table.get_mut(panel)?;
    if row.len() <= colour {
        row.resize(colour + 1, T::default());
    }
    row.get_mut(colour)
}

/// The error of two rows for one mark.
fn twice(drawing: &Drawing, at: &str) -> Error {
    let keys = drawing.along.iter().chain(&drawing.colour).chain(&drawing.panels);
    let keys: Vec<String> = keys.map(|role| churn_core::names::name(&role.title)).collect();
    let measure = drawing.measures.first().map_or("x", |role| role.title.as_str());
    let measure = churn_core::names::name(measure);
    let what = format!("Two rows have one place in the chart: {at}.");
    Error::new(ErrorKind::Data, what)
        .why(format!("A chart of {} shows the rows as they are.", drawing.kind.word()))
        .next(format!("Group first: group by {}: {measure} = sum({measure})", keys.join(", ")))
}
