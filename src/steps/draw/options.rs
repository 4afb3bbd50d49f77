//! The options of `draw`.

use churn_core::{Error, ErrorKind, Result, Scalar};
use churn_draw::colour::Ground;
use churn_draw::layout::SIZES;

use super::Draw;
use crate::draw::{ChartKind, Look};
use crate::steps::Checker;
use crate::steps::item::Item;
use crate::steps::options::{Element, OptionKind, OptionValue, Setting};

/// What can be said of how a chart looks.
pub(crate) const OPTIONS: &[OptionKind] = &[
    OptionKind {
        name: "title",
        usage: "title = 'TEXT'",
        summary: "What stands above the chart; '' for nothing.",
        example: "draw histogram litres to 'litres.svg' with (title = 'Deliveries by size')",
    },
    OptionKind {
        name: "x",
        usage: "x = 'TEXT'",
        summary: "What the axis is called that the marks stand along.",
        example: "draw histogram litres to 'litres.svg' with (x = 'litres a delivery')",
    },
    OptionKind {
        name: "y",
        usage: "y = 'TEXT' | y = ('TEXT', 'TEXT')",
        summary: "What the measures are called.",
        example: "draw box litres over grade to 'grades.svg' with (y = 'litres a delivery')",
    },
    OptionKind {
        name: "unit",
        usage: "unit = 'l' | unit = ('l', 'kg')",
        summary: "What the measures are counted in.",
        example: "draw histogram litres to 'litres.svg' with (unit = 'l')",
    },
    OptionKind {
        name: "source",
        usage: "source = 'TEXT'",
        summary: "Where the rows came from, told below the chart.",
        example: "draw histogram litres to 'litres.svg' with (source = 'deliveries of 2026')",
    },
    OptionKind {
        name: "size",
        usage: "size = '1280x800'",
        summary: "How large the chart is, in pixels: across, and down.",
        example: "draw histogram litres to 'litres.png' with (size = '1280x800')",
    },
    OptionKind {
        name: "dots",
        usage: "dots = 2",
        summary: "Dots of a .png for each pixel, for fine screens and paper.",
        example: "draw histogram litres to 'litres.png' with (dots = 2)",
    },
    OptionKind {
        name: "ground",
        usage: "ground = light | dark",
        summary: "Dark marks on light ground, or light ones on dark.",
        example: "draw histogram litres to 'litres.svg' with (ground = dark)",
    },
    OptionKind {
        name: "bins",
        usage: "bins = 20",
        summary: "About how many bins a histogram has; else by the rule of Freedman and Diaconis.",
        example: "draw histogram litres to 'litres.svg' with (bins = 20)",
    },
    OptionKind {
        name: "width",
        usage: "width = 50",
        summary: "How wide each bin of a histogram is.",
        example: "draw histogram litres to 'litres.svg' with (width = 50)",
    },
    OptionKind {
        name: "stacked",
        usage: "stacked = true | false",
        summary: "Whether bars, bins and areas of different colours stand on each other.",
        example: "draw histogram litres by grade to 'litres.svg' with (stacked = false)",
    },
    OptionKind {
        name: "labels",
        usage: "labels = true | labels = COLUMN",
        summary: "The numbers of marks beside them; of points, a column.",
        example: "draw points fat over litres to 'fat.svg' with (labels = farm)",
    },
    OptionKind {
        name: "log",
        usage: "log = x | y | both",
        summary: "Which axes show ratios: from 1 to 10 is as far as from 10 to 100.",
        example: "draw points cells over litres to 'cells.svg' with (log = y)",
    },
];

/// How a chart looks: all of `with (…)`. What is not said is chosen.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
#[must_use]
pub struct DrawOptions(pub(super) Vec<Setting>);

impl DrawOptions {
    /// Nothing is said yet.
    pub fn new() -> DrawOptions {
        DrawOptions::default()
    }

    fn set(mut self, setting: Setting) -> DrawOptions {
        self.0.retain(|other| other.name != setting.name);
        self.0.push(setting);
        self
    }

    /// What stands above it.
    pub fn title(self, title: &str) -> DrawOptions {
        self.set(Setting::text("title", title))
    }

    /// What the axis is called that the marks stand along.
    pub fn x(self, title: &str) -> DrawOptions {
        self.set(Setting::text("x", title))
    }

    /// What the measure is called.
    pub fn y(self, title: &str) -> DrawOptions {
        self.set(Setting::text("y", title))
    }

    /// What the measure is counted in.
    pub fn unit(self, unit: &str) -> DrawOptions {
        self.set(Setting::text("unit", unit))
    }

    /// What each measure is counted in.
    pub fn units<'a>(self, units: impl IntoIterator<Item = &'a str>) -> DrawOptions {
        let units = units.into_iter().map(|unit| Element::Text(unit.to_owned()));
        self.set(Setting::list("unit", units))
    }

    /// Where the rows came from.
    pub fn source(self, source: &str) -> DrawOptions {
        self.set(Setting::text("source", source))
    }

    /// How large it is, in pixels.
    pub fn size(self, width: u32, height: u32) -> DrawOptions {
        self.set(Setting::text("size", &format!("{width}x{height}")))
    }

    /// Dots of a PNG for each pixel.
    pub fn dots(self, dots: usize) -> DrawOptions {
        self.set(Setting::count("dots", dots))
    }

    /// Whether it is drawn on dark ground.
    pub fn dark(self, is_dark: bool) -> DrawOptions {
        self.set(Setting::word("ground", if is_dark { "dark" } else { "light" }))
    }

    /// About how many bins a histogram has.
    pub fn bins(self, bins: usize) -> DrawOptions {
        self.set(Setting::count("bins", bins))
    }

    /// How wide each bin of a histogram is.
    pub fn width(self, width: f64) -> DrawOptions {
        self.set(Setting::literal("width", Scalar::Float(width)))
    }

    /// Whether marks of different colours stand on each other.
    pub fn stacked(self, is_stacked: bool) -> DrawOptions {
        self.set(Setting::literal("stacked", Scalar::Bool(is_stacked)))
    }

    /// Whether marks have their numbers beside them.
    pub fn labels(self, has_labels: bool) -> DrawOptions {
        self.set(Setting::literal("labels", Scalar::Bool(has_labels)))
    }

    /// An option by its name, as the language writes it.
    pub fn option(self, name: &str, value: impl Into<Scalar>) -> DrawOptions {
        self.set(Setting::literal(name, value.into()))
    }
}

impl Draw {
    /// How the chart looks, and the column of its labels; options that cannot be are noted.
    pub(super) fn look(&self, checker: &mut Checker<'_>) -> (Look, Option<Item>) {
        let (mut look, mut label) = (Look::default(), None);
        for setting in &self.options {
            let Some(value) = setting.resolved(checker) else { continue };
            if let (ChartKind::Points, "labels", Some(column)) =
                (self.kind, setting.name.as_str(), value.word())
            {
                let mut column = Item::from(column);
                (column.span, column.expr.span) = (setting.span, setting.span.into());
                label = Some(column);
            } else if let Err(error) = self.set(&mut look, setting, &value) {
                checker.wrong(setting.span, error);
            }
        }
        (look, label)
    }

    fn set(&self, look: &mut Look, setting: &Setting, value: &OptionValue) -> Result<()> {
        let text = || value.text().map(str::to_owned).ok_or_else(|| setting.unfit("a text"));
        let texts = || value.texts().ok_or_else(|| setting.unfit("a text, or a list of texts"));
        let only = |kinds: &[ChartKind], for_what: &str| {
            if kinds.contains(&self.kind) {
                return Ok(());
            }
            let what = format!("{} is for {for_what}.", setting.name);
            Err(Error::new(ErrorKind::Check, what).next("Leave the option out."))
        };
        match setting.name.as_str() {
            "title" => look.title = Some(text()?),
            "x" => look.along = Some(text()?),
            "y" => look.measures = texts()?,
            "unit" => look.units = texts()?,
            "source" => look.source = text()?,
            "size" => look.size = Some(size(setting, value)?),
            "dots" => {
                let dots = number(value).filter(|dots| (0.25..=8.0).contains(dots));
                look.dots = Some(dots.ok_or_else(|| setting.unfit("a number from 0.25 to 8"))?);
            }
            "ground" => {
                look.ground = match value.word().or(value.text()) {
                    Some("light") => Ground::Light,
                    Some("dark") => Ground::Dark,
                    _ => return Err(setting.unfit("light or dark")),
                }
            }
            "bins" => {
                only(&[ChartKind::Histogram], "histograms")?;
                let bins = value.count().filter(|bins| (1..=1000).contains(bins));
                look.bins = Some(bins.ok_or_else(|| setting.unfit("a whole number from 1 to 1000"))?);
            }
            "width" => {
                only(&[ChartKind::Histogram], "histograms")?;
                let width = number(value).filter(|width| *width > 0.0 && width.is_finite());
                look.width = Some(width.ok_or_else(|| setting.unfit("a number above zero"))?);
            }
            "stacked" => {
                only(
                    &[ChartKind::Histogram, ChartKind::Bars, ChartKind::Area],
                    "bars, areas and histograms",
                )?;
                look.is_stacked = Some(value.truth().ok_or_else(|| setting.unfit("true or false"))?);
            }
            "labels" => {
                only(
                    &[ChartKind::Bars, ChartKind::Lines, ChartKind::Heat, ChartKind::Histogram],
                    "bars, lines and heat; of points it names a column",
                )?;
                look.has_labels = value.truth().ok_or_else(|| setting.unfit("true or false"))?;
            }
            "log" => {
                look.is_log = match value.word().or(value.text()) {
                    Some("x") => [true, false],
                    Some("y") => [false, true],
                    Some("both") => [true, true],
                    _ => return Err(setting.unfit("x, y or both")),
                }
            }
            _ => return Err(setting.unknown(OPTIONS)),
        }
        Ok(())
    }
}

fn number(value: &OptionValue) -> Option<f64> {
    match value {
        OptionValue::Literal(Scalar::Int(number)) => Some(*number as f64),
        OptionValue::Literal(Scalar::Float(number)) => Some(*number),
        OptionValue::Literal(Scalar::Decimal(number, _, scale)) => {
            Some(*number as f64 / 10f64.powi(i32::from(*scale)))
        }
        _ => None,
    }
}

/// A size as it is written: `1280x800`.
fn size(setting: &Setting, value: &OptionValue) -> Result<[u32; 2]> {
    let [[least_width, least_height], [most_width, most_height]] = SIZES;
    let wanted =
        format!("a text such as '1280x800', from {least_width}x{least_height} to {most_width}x{most_height}");
    let parts = value.text().and_then(|text| text.split_once(['x', 'X', '×']));
    let size =
        parts.and_then(|(width, height)| Some([width.trim().parse().ok()?, height.trim().parse().ok()?]));
    let fits = |[width, height]: &[u32; 2]| {
        (least_width..=most_width).contains(width) && (least_height..=most_height).contains(height)
    };
    size.filter(fits).ok_or_else(|| setting.unfit(&wanted))
}
