//! A profile as text: the columns by what they are, each sort in its own way; or each column in full.

use std::fmt;

use churn_core::aligned::cut;
use churn_core::readable::{grouped, plural, shown};
use churn_core::{Scalar, Type};
use unicode_width::UnicodeWidthStr;

use super::{Bin, ColumnProfile, Count, Frequent, Profile};

/// The widest that a name or a value is shown.
const CELL: usize = 28;

/// Cells of the longest bar.
const BAR: usize = 32;

/// Pairs of columns that are shown, the most closely related first.
const PAIRS: usize = 20;

/// A profile to be shown within a width.
#[derive(Clone, Copy, Debug)]
pub struct ProfileView<'a> {
    profile: &'a Profile,
    width: usize,
    full: bool,
}

impl Profile {
    /// The profile as text of at most `width` columns of a terminal, a line for each column of the table.
    pub fn view(&self, width: usize) -> ProfileView<'_> {
        ProfileView { profile: self, width, full: false }
    }
}

impl ProfileView<'_> {
    /// The same with each column in full: with bars for how its values are spread, and its most frequent values.
    #[must_use]
    pub fn full(self) -> Self {
        ProfileView { full: true, ..self }
    }
}

impl fmt::Display for Profile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.view(100).fmt(f)
    }
}

impl fmt::Display for ProfileView<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Profile { rows, columns, pairs, .. } = self.profile;
        writeln!(f, "{}, {}", plural(*rows, "row"), plural(columns.len() as u64, "column"))?;
        if self.full {
            for column in columns {
                writeln!(f)?;
                full(f, column, *rows, self.width)?;
            }
        } else {
            for sort in SORTS {
                let own: Vec<&ColumnProfile> = columns.iter().filter(|c| (sort.has)(&c.kind)).collect();
                if !own.is_empty() {
                    writeln!(f)?;
                    sheet(f, sort, &own, *rows, self.width)?;
                }
            }
            if columns.iter().any(is_estimated) {
                writeln!(f, "\n≈ is an estimate: of more values than are counted each")?;
            }
        }
        if pairs.is_empty() { Ok(()) } else { self.related(f) }
    }
}

impl ProfileView<'_> {
    fn related(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut pairs: Vec<_> = self.profile.pairs.iter().collect();
        let strength = |pair: &&super::PairProfile| pair.correlation.map_or(-1.0, f64::abs);
        pairs.sort_by(|a, b| strength(b).total_cmp(&strength(a)));
        writeln!(f, "\ncorrelation of number columns, closest first")?;
        let hidden = pairs.len().saturating_sub(PAIRS);
        pairs.truncate(PAIRS);
        let lines = pairs.iter().map(|pair| {
            // No zero has a sign.
            let shown = |r: f64| format!("{:.3}", (r * 1000.0).round() / 1000.0 + 0.0);
            let correlation = pair.correlation.map_or("·".into(), shown);
            vec![correlation, cut(&pair.first, CELL), cut(&pair.second, CELL)]
        });
        write_aligned(f, "  ", lines.collect(), &[true, false, false])?;
        if hidden > 0 {
            writeln!(f, "  and {hidden} more")?;
        }
        Ok(())
    }
}

fn is_estimated(column: &ColumnProfile) -> bool {
    column.distinct.is_some_and(|distinct| !distinct.exact)
}

/// A sort of columns that are shown alike.
struct Sort {
    title: &'static str,
    has: fn(&Type) -> bool,
    figures: &'static [Figure],
}

/// A figure of a column.
struct Figure {
    title: &'static str,
    of: fn(&ColumnProfile, u64) -> String,
    right: bool,
    /// The higher, the sooner it is left out where the width does not do.
    spare: u8,
}

const fn figure(title: &'static str, spare: u8, of: fn(&ColumnProfile, u64) -> String) -> Figure {
    Figure { title, of, right: true, spare }
}

const MISSING: Figure = figure("missing", 0, |c, _| some(c.missing));
const DISTINCT: Figure = figure("distinct", 0, |c, _| c.distinct.map_or("·".into(), count));
const MIN: Figure = figure("min", 0, |c, _| value(&c.min));
const QUARTER: Figure = figure("25 %", 2, |c, _| quartile(c, 0));
const MEDIAN: Figure = figure("median", 1, |c, _| quartile(c, 1));
const THREE: Figure = figure("75 %", 2, |c, _| quartile(c, 2));
const MAX: Figure = figure("max", 0, |c, _| value(&c.max));
const SHAPE: Figure = Figure { title: "", of: |c, _| shape(&c.histogram), right: false, spare: 4 };

const SORTS: &[Sort] = &[
    Sort {
        title: "numbers",
        has: Type::is_number,
        figures: &[
            MISSING,
            figure("zeros", 0, |c, _| c.zeros.map_or("·".into(), some)),
            DISTINCT,
            MIN,
            QUARTER,
            MEDIAN,
            THREE,
            MAX,
            figure("mean", 1, |c, _| c.mean.map_or("·".into(), brief)),
            figure("stddev", 3, |c, _| c.stddev.map_or("·".into(), brief)),
            SHAPE,
        ],
    },
    Sort {
        title: "dates and times",
        has: Type::is_temporal,
        figures: &[MISSING, DISTINCT, MIN, QUARTER, MEDIAN, THREE, MAX, SHAPE],
    },
    Sort {
        title: "texts",
        has: |kind| *kind == Type::Text,
        figures: &[
            MISSING,
            figure("blank", 0, |c, _| c.zeros.map_or("·".into(), some)),
            DISTINCT,
            figure("characters", 1, |c, _| lengths_of(c)),
            Figure { title: "most frequent", of: frequent, right: false, spare: 0 },
        ],
    },
    Sort {
        title: "truths",
        has: |kind| *kind == Type::Bool,
        figures: &[
            MISSING,
            figure("false", 0, |c, _| c.zeros.map_or("·".into(), some)),
            figure("true", 0, |c, rows| some(rows - c.missing - c.zeros.unwrap_or(0))),
        ],
    },
    Sort {
        title: "others",
        has: |kind| {
            let known = kind.is_number() || kind.is_temporal() || matches!(kind, Type::Text | Type::Bool);
            !known
        },
        figures: &[Figure { title: "type", of: |c, _| c.kind.to_string(), right: false, spare: 0 }, MISSING],
    },
];

/// The columns of one sort, a line each.
fn sheet(
    f: &mut fmt::Formatter<'_>,
    sort: &Sort,
    columns: &[&ColumnProfile],
    rows: u64,
    width: usize,
) -> fmt::Result {
    let cells = |figure: &Figure| -> Vec<String> {
        let values = columns.iter().map(|column| (figure.of)(column, rows));
        std::iter::once(figure.title.to_owned()).chain(values).collect()
    };
    let names = std::iter::once(sort.title.to_owned()).chain(columns.iter().map(|c| cut(&c.name, CELL)));
    let names: Vec<String> = names.collect();
    let mut figures: Vec<(&Figure, Vec<String>)> = sort.figures.iter().map(|fig| (fig, cells(fig))).collect();
    let widest = |cells: &[String]| cells.iter().map(|c| c.width()).max().unwrap_or(0);
    let total = |figures: &[(&Figure, Vec<String>)]| {
        // What is at the left at the end is cut where the width ends.
        let own = |(fig, cells): &(&Figure, Vec<String>)| {
            2 + if fig.right || fig.spare > 0 { widest(cells) } else { widest(cells).min(CELL) }
        };
        widest(&names) + figures.iter().map(own).sum::<usize>()
    };
    while total(&figures) > width
        && let Some(spare) = figures.iter().map(|(fig, _)| fig.spare).max().filter(|spare| *spare > 0)
    {
        figures.retain(|(fig, _)| fig.spare != spare);
    }
    let right: Vec<bool> = std::iter::once(false).chain(figures.iter().map(|(fig, _)| fig.right)).collect();
    let lines = (0..names.len()).map(|line| {
        let of = |cells: &Vec<String>| cells.get(line).cloned().unwrap_or_default();
        std::iter::once(of(&names)).chain(figures.iter().map(|(_, cells)| of(cells))).collect()
    });
    let mut text = String::new();
    write_aligned(&mut text, "", lines.collect(), &right)?;
    text.lines().try_for_each(|line| writeln!(f, "{}", cut(line, width)))
}

/// Lines of cells below each other, two blanks apart; nothing stands behind the last one.
fn write_aligned(
    f: &mut impl fmt::Write,
    indent: &str,
    lines: Vec<Vec<String>>,
    right: &[bool],
) -> fmt::Result {
    let width = |i: usize| lines.iter().filter_map(|l| l.get(i)).map(|c| c.width()).max().unwrap_or(0);
    let widths: Vec<usize> = (0..right.len()).map(width).collect();
    for line in &lines {
        let cells = line.iter().zip(&widths).zip(right).map(|((cell, width), right)| {
            let gap = " ".repeat(width.saturating_sub(cell.width()));
            if *right { format!("{gap}{cell}") } else { format!("{cell}{gap}") }
        });
        let cells: Vec<String> = cells.collect();
        writeln!(f, "{}", format!("{indent}{}", cells.join("  ")).trim_end())?;
    }
    Ok(())
}

/// One column in full.
fn full(f: &mut fmt::Formatter<'_>, column: &ColumnProfile, rows: u64, width: usize) -> fmt::Result {
    writeln!(f, "{}  {}", cut(&column.name, width.saturating_sub(20).max(CELL)), column.kind)?;
    let mut lines = vec![counted("missing", column.missing, rows)];
    if let Some(zeros) = column.zeros {
        let title = match column.kind {
            Type::Text => "blank",
            Type::Bool => "false",
            _ => "zeros",
        };
        lines.push(counted(title, zeros, rows));
    }
    if column.nan > 0 {
        lines.push(counted("NaN", column.nan, rows));
    }
    let mut line = |title: &str, figure: String| lines.push(vec![title.to_owned(), figure, String::new()]);
    column.distinct.into_iter().for_each(|distinct| line("distinct", count(distinct)));
    if !column.min.is_null() {
        line("min", value(&column.min));
        let shares = ["25 %", "median", "75 %"].into_iter().enumerate();
        shares.for_each(|(i, title)| line(title, quartile(column, i)));
        line("max", value(&column.max));
    }
    column.mean.into_iter().for_each(|mean| line("mean", brief(mean)));
    column.stddev.into_iter().for_each(|stddev| line("stddev", brief(stddev)));
    write_aligned(f, "  ", lines, &[false, true, true])?;
    if let Some(lengths) = &column.lengths {
        let [_, median, _] = lengths.quartiles.map(brief);
        let range = lengths_of(column);
        writeln!(f, "  characters  {range}, median {median}, mean {}", brief(lengths.mean))?;
    }
    // Where all texts are listed, bars of their lengths tell nothing more.
    let are_listed = column.distinct.is_some_and(|d| d.exact && d.count <= column.frequent.len() as u64);
    if !(are_listed && column.kind == Type::Text) {
        bars(f, column, rows)?;
    }
    if column.frequent.is_empty() || column.distinct.is_some_and(|d| d.count > 1 && all_once(column)) {
        return Ok(());
    }
    writeln!(f, "\n  most frequent")?;
    let line = |one: &Frequent| {
        let least = if one.more > 0 { "at least " } else { "" };
        vec![value(&one.value), format!("{least}{}", grouped(one.rows)), share(one.rows, rows)]
    };
    let right = column.kind.is_number();
    // What occurs once is not frequent, unless it is told of every value how often it does.
    let frequent = column.frequent.iter().filter(|one| one.rows > 1 || are_listed);
    write_aligned(f, "  ", frequent.map(line).collect(), &[right, true, true])
}

/// Whether no value is more frequent than any other: there is nothing to tell then.
fn all_once(column: &ColumnProfile) -> bool {
    column.frequent.iter().all(|one| one.rows == 1)
}

fn bars(f: &mut fmt::Formatter<'_>, column: &ColumnProfile, rows: u64) -> fmt::Result {
    let most = column.histogram.iter().map(|bin| bin.rows).max().unwrap_or(0).max(1);
    if column.histogram.is_empty() {
        return Ok(());
    }
    writeln!(f)?;
    let line = |bin: &Bin| {
        let eighths = (bin.rows as f64 / most as f64 * (8 * BAR) as f64).round() as usize;
        // A bin that has a row shows a trace of it.
        let eighths = if bin.rows > 0 { eighths.max(1) } else { 0 };
        let part = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"].get(eighths % 8).copied().unwrap_or_default();
        let bar = format!("{}{part}", "█".repeat(eighths / 8));
        let [from, to] = borders(bin, column.lengths.is_some() || column.kind == Type::Int);
        let dash = if to.is_empty() { "" } else { "–" };
        vec![from, dash.to_owned(), to, grouped(bin.rows), share(bin.rows, rows), bar]
    };
    let lines = column.histogram.iter().map(line).collect();
    write_aligned(f, "  ", lines, &[true, false, true, true, true, false])
}

/// A bin's borders: of whole numbers and days the first and the last that are in, of one only that.
fn borders(bin: &Bin, whole: bool) -> [String; 2] {
    let number = |x: f64| {
        let text = value(&Scalar::Float(x));
        text.strip_suffix(".0").map_or(text.clone(), str::to_owned)
    };
    match (&bin.from, &bin.to) {
        (Scalar::Float(from), Scalar::Float(to)) if whole && to - from <= 1.0 => {
            [number(*from), String::new()]
        }
        (Scalar::Float(from), Scalar::Float(to)) if whole => [number(*from), number(to - 1.0)],
        (Scalar::Float(from), Scalar::Float(to)) => [number(*from), number(*to)],
        (Scalar::Date(from), Scalar::Date(to)) if to - from == 1 => [value(&bin.from), String::new()],
        (Scalar::Date(_), Scalar::Date(to)) => [value(&bin.from), value(&Scalar::Date(to - 1))],
        (Scalar::Timestamp(from), Scalar::Timestamp(to)) => {
            // Borders of timestamps are midnights.
            borders(&Bin { from: day_of(*from), to: day_of(*to), rows: bin.rows }, whole)
        }
        (from, to) => [value(from), value(to)],
    }
}

/// The bins as a line of blocks, which grow from below.
fn shape(bins: &[Bin]) -> String {
    const BLOCKS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let most = bins.iter().map(|bin| bin.rows).max().unwrap_or(0).max(1);
    let block = |bin: &Bin| {
        let height = (bin.rows as f64 / most as f64 * 8.0).round() as usize;
        BLOCKS.get(height.max(usize::from(bin.rows > 0))).copied().unwrap_or('█')
    };
    bins.iter().map(block).collect()
}

fn counted(title: &str, count: u64, rows: u64) -> Vec<String> {
    vec![title.to_owned(), grouped(count), if count > 0 { share(count, rows) } else { String::new() }]
}

/// A count, where none is as a rule.
fn some(count: u64) -> String {
    if count == 0 { "–".into() } else { grouped(count) }
}

fn count(count: Count) -> String {
    if count.exact {
        grouped(count.count)
    } else {
        format!("≈{}", grouped(digits(count.count as f64, 3) as u64))
    }
}

/// A share of the rows.
fn share(count: u64, rows: u64) -> String {
    let percent = 100.0 * count as f64 / rows.max(1) as f64;
    if percent > 0.0 && percent < 0.1 { "<0.1 %".into() } else { format!("{percent:.1} %") }
}

fn value(value: &Scalar) -> String {
    match value {
        Scalar::Null => "·".into(),
        Scalar::Float(x) => in_threes(&shown(*x)),
        Scalar::Int(x) => in_threes(&x.to_string()),
        Scalar::Text(text) if text.is_empty() => "\"\"".into(),
        other => cut(&other.plain(), CELL),
    }
}

/// A figure of a few digits: what stands behind them says nothing at a glance.
fn brief(x: f64) -> String {
    let x = four_digits(x);
    let text = shown(x);
    in_threes(text.strip_suffix(".0").unwrap_or(&text))
}

/// A number as text, the digits of its whole part in threes; not of four, which may be a year.
fn in_threes(number: &str) -> String {
    let digits = number.strip_prefix('-').unwrap_or(number);
    let (whole, part) = digits.split_at(digits.find('.').unwrap_or(digits.len()));
    match whole.parse() {
        Ok(count) if whole.len() > 4 => {
            format!("{}{}{part}", if digits == number { "" } else { "-" }, grouped(count))
        }
        _ => number.to_owned(),
    }
}

fn quartile(column: &ColumnProfile, i: usize) -> String {
    let Some(quartiles) = &column.quartiles else { return "·".into() };
    match quartiles.values.get(i) {
        Some(Scalar::Float(x)) if quartiles.exact => brief(*x),
        Some(Scalar::Float(x)) => format!("≈{}", brief(digits(*x, 3))),
        Some(other) if quartiles.exact => value(other),
        // An estimate is good to a day; a time of day to a minute.
        Some(Scalar::Timestamp(at)) => format!("≈{}", value(&day_of(*at))),
        Some(other) => format!("≈{}", value(other)),
        None => "·".into(),
    }
}

/// The day of a timestamp.
fn day_of(at: i64) -> Scalar {
    Scalar::Date(at.div_euclid(churn_kernels::calendar::DAY) as i32)
}

/// A number with four digits that count, or all of a whole part.
fn four_digits(x: f64) -> f64 {
    if x.abs() >= 1e4 { x.round() } else { digits(x, 4) }
}

/// A number with so many digits that count.
fn digits(x: f64, count: i32) -> f64 {
    if x == 0.0 || !x.is_finite() {
        return x;
    }
    let place = count - 1 - x.abs().log10().floor() as i32;
    churn_expr::functions::round_half_away(x, place)
}

/// Between what the lengths of texts lie.
fn lengths_of(column: &ColumnProfile) -> String {
    match &column.lengths {
        None => "·".into(),
        Some(lengths) if lengths.shortest == lengths.longest => grouped(lengths.shortest),
        Some(lengths) => format!("{}–{}", grouped(lengths.shortest), grouped(lengths.longest)),
    }
}

/// The most frequent values with their shares of all rows; nothing where each occurs once.
fn frequent(column: &ColumnProfile, rows: u64) -> String {
    if all_once(column) {
        return match column.distinct {
            Some(distinct) if distinct.count > 1 && column.frequent.is_empty() => "none stands out".into(),
            Some(distinct) if distinct.count > 1 => "each once".into(),
            _ => column.frequent.first().map_or("·".into(), |one| value(&one.value)),
        };
    }
    let one = |one: &Frequent| format!("{} {}", value(&one.value), share(one.rows, rows));
    column.frequent.iter().take(4).map(one).collect::<Vec<_>>().join(", ")
}
