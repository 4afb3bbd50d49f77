//! What is drawn: the kind of chart, what its columns mean, and how it looks.

use churn_core::Type;
use churn_draw::colour::Ground;

/// Kinds of charts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ChartKind {
    /// How often values occur, by bins.
    Histogram,
    /// A bar for each row.
    Bars,
    /// Lines through the rows of each key, in the order of what they lie along.
    Lines,
    /// As lines, with the room below filled; several keys stand on each other.
    Area,
    /// A point for each row; of very many rows, a grid of how many lie where.
    Points,
    /// Quartiles of the rows of each key, and what lies far from them.
    Box,
    /// Two keys and a value as a colour.
    Heat,
}

impl ChartKind {
    /// All kinds.
    pub const ALL: [ChartKind; 7] = [
        ChartKind::Histogram,
        ChartKind::Bars,
        ChartKind::Lines,
        ChartKind::Area,
        ChartKind::Points,
        ChartKind::Box,
        ChartKind::Heat,
    ];

    /// The word that it is called by.
    pub fn word(self) -> &'static str {
        match self {
            ChartKind::Histogram => "histogram",
            ChartKind::Bars => "bars",
            ChartKind::Lines => "lines",
            ChartKind::Area => "area",
            ChartKind::Points => "points",
            ChartKind::Box => "box",
            ChartKind::Heat => "heat",
        }
    }

    /// Whether something must be named that its marks stand along.
    pub(crate) fn needs_along(self) -> bool {
        !matches!(self, ChartKind::Histogram | ChartKind::Box)
    }

    /// Whether a colour of numbers stands for their size, and not for keys.
    pub(crate) fn has_colours_of_values(self) -> bool {
        self == ChartKind::Points
    }

    /// Whether what its marks stand along must be numbers or dates.
    pub(crate) fn stands_on_numbers(self) -> bool {
        self == ChartKind::Points
    }

    /// Whether what its marks stand along are keys, also where they are numbers.
    pub(crate) fn stands_on_keys(self) -> bool {
        matches!(self, ChartKind::Bars | ChartKind::Box | ChartKind::Heat)
    }
}

/// A column of a chart.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Role {
    /// What axes and legends call it.
    pub(crate) title: String,
    /// Its type.
    pub(crate) kind: Type,
}

/// A chart to be drawn of rows that have the columns: the measures, what they stand along, the colour, the panels, the
/// labels, as far as there are such.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Drawing {
    pub(crate) kind: ChartKind,
    pub(crate) measures: Vec<Role>,
    pub(crate) along: Option<Role>,
    pub(crate) colour: Option<Role>,
    pub(crate) panels: Vec<Role>,
    pub(crate) label: Option<Role>,
    pub(crate) look: Look,
}

/// How a chart looks; what is not said is chosen.
#[derive(Clone, Debug, PartialEq, Default)]
pub(crate) struct Look {
    pub(crate) title: Option<String>,
    pub(crate) source: String,
    pub(crate) along: Option<String>,
    pub(crate) measures: Vec<String>,
    pub(crate) units: Vec<String>,
    pub(crate) size: Option<[u32; 2]>,
    pub(crate) dots: Option<f64>,
    pub(crate) ground: Ground,
    pub(crate) bins: Option<usize>,
    pub(crate) width: Option<f64>,
    pub(crate) is_stacked: Option<bool>,
    pub(crate) has_labels: bool,
    /// Along the first axis, and along the measure.
    pub(crate) is_log: [bool; 2],
}

/// The size of a chart that is not told, in pixels.
pub(crate) const SIZE: [u32; 2] = [960, 600];

impl Drawing {
    /// Whether marks of different colours stand on each other.
    pub(crate) fn is_stacked(&self) -> bool {
        self.look.is_stacked.unwrap_or(matches!(self.kind, ChartKind::Histogram | ChartKind::Area))
    }

    /// Whether the colour stands for values.
    pub(crate) fn has_values(&self) -> bool {
        let of_numbers = |role: &Role| role.kind.is_number();
        self.kind.has_colours_of_values() && self.colour.as_ref().is_some_and(of_numbers)
    }

    /// Whether what marks stand along is a range of numbers or dates.
    pub(crate) fn is_along_numbers(&self) -> bool {
        let is_measured = |role: &Role| is_measure(&role.kind);
        !self.kind.stands_on_keys() && self.along.as_ref().is_some_and(is_measured)
    }

    /// The title: what was asked for, or what is drawn in a few words.
    pub(crate) fn title(&self) -> String {
        if let Some(title) = &self.look.title {
            return title.clone();
        }
        let measures: Vec<&str> = self.measures.iter().map(|role| role.title.as_str()).collect();
        let of = measures.join(" and ");
        let along = |word: &str| match &self.along {
            Some(along) => format!("{of} {word} {}", along.title),
            None => of.clone(),
        };
        let what = match self.kind {
            ChartKind::Histogram => format!("Histogram of {of}"),
            ChartKind::Bars | ChartKind::Box => along("by"),
            ChartKind::Lines | ChartKind::Area | ChartKind::Points | ChartKind::Heat => along("over"),
        };
        let keys: Vec<&str> =
            self.colour.iter().chain(&self.panels).map(|role| role.title.as_str()).collect();
        if keys.is_empty() { what } else { format!("{what}, by {}", keys.join(" and ")) }
    }
}

/// Whether values of a type lie on an axis of numbers, dates or times.
pub(crate) fn is_measure(kind: &Type) -> bool {
    kind.is_number() || matches!(kind, Type::Date | Type::Time | Type::Timestamp | Type::Null)
}
