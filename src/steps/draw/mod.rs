//! `draw KIND [Y, …] [over X] [by COLOUR] [panels by P] [to 'FILE'] [with (…)]`: a chart of what flows here.

mod options;
mod read;

use std::fmt;
use std::path::Path as FilePath;
use std::sync::Arc;

use churn_core::names::comma;
use churn_core::{Error, ErrorKind, Field, Position, Type};
use churn_expr::ast::{Expr, Kind};
use churn_expr::bind::Beside;
use churn_expr::expand::over_set;
use churn_io::files::WrittenPart;
use churn_io::format::WriteOptions;
use churn_io::target::{self, Mode};
use churn_plan::{Relation, operators};

use super::checker::Path;
use super::item::{Item, Shielded};
use super::options::{self as with, Setting};
use super::{Check, Checker, StepKind};
use crate::draw::{ChartKind, Drawing, Drawn, Look, Role, WrittenChart, format_of, is_measure};

pub use options::DrawOptions;
pub(crate) use options::OPTIONS;

pub(super) const KIND: StepKind = StepKind {
    keyword: "draw",
    usage: "draw KIND [Y, …] [over X] [by COLOUR] [panels by P [, Q]] [to 'FILE'] [with (option = value, …)]",
    summary: "Draws a chart of what flows here: histogram, bars, lines, area, points, box or heat, to a file or, at the end, to be shown.",
    example: "draw histogram litres by grade to 'litres.svg'",
    parse: |text| Ok(super::Step::from(text.one(read::read)?)),
};

/// `draw`: a chart of what flows here, at the end of a chain or in its middle.
///
/// ```
/// use churn::steps::{Draw, DrawOptions};
/// let draw = Draw::lines(["litres"]).over("month").by("district").to("milk.svg").with(DrawOptions::new().unit("l"));
/// assert_eq!(draw.to_string(), "draw lines litres over month by district to 'milk.svg' with (unit = 'l')");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Draw {
    kind: ChartKind,
    measures: Vec<Item>,
    along: Option<Item>,
    colour: Option<Item>,
    panels: Vec<Item>,
    to: Option<Path>,
    options: Vec<Setting>,
    span: Position,
}

/// Words that begin another part of the step.
const WORDS: [&str; 5] = ["over", "by", "panels", "to", "with"];

impl Draw {
    /// A chart of some kind of these measures.
    pub fn new<T: Into<Item>>(kind: ChartKind, measures: impl IntoIterator<Item = T>) -> Draw {
        Draw {
            kind,
            measures: super::item::all(measures),
            along: None,
            colour: None,
            panels: Vec::new(),
            to: None,
            options: Vec::new(),
            span: Position::default(),
        }
    }

    /// How often the values of a column or an expression occur.
    pub fn histogram(values: impl Into<Item>) -> Draw {
        Draw::new(ChartKind::Histogram, [values])
    }

    /// A bar for each row; of several measures each has a strip of its own.
    pub fn bars<T: Into<Item>>(measures: impl IntoIterator<Item = T>) -> Draw {
        Draw::new(ChartKind::Bars, measures)
    }

    /// Lines through the rows of each key.
    pub fn lines<T: Into<Item>>(measures: impl IntoIterator<Item = T>) -> Draw {
        Draw::new(ChartKind::Lines, measures)
    }

    /// Areas of each key, on each other.
    pub fn area(measure: impl Into<Item>) -> Draw {
        Draw::new(ChartKind::Area, [measure])
    }

    /// A point for each row; of very many rows, a grid.
    pub fn points<T: Into<Item>>(measures: impl IntoIterator<Item = T>) -> Draw {
        Draw::new(ChartKind::Points, measures)
    }

    /// The quartiles of each key.
    pub fn boxes<T: Into<Item>>(measures: impl IntoIterator<Item = T>) -> Draw {
        Draw::new(ChartKind::Box, measures)
    }

    /// Two keys and a value, which is a colour.
    pub fn heat(value: impl Into<Item>) -> Draw {
        Draw::new(ChartKind::Heat, [value])
    }

    /// What the marks stand along.
    #[must_use]
    pub fn over(self, along: impl Into<Item>) -> Draw {
        Draw { along: Some(along.into()), ..self }
    }

    /// What their colours stand for; of heat, the key of its rows.
    #[must_use]
    pub fn by(self, colour: impl Into<Item>) -> Draw {
        Draw { colour: Some(colour.into()), ..self }
    }

    /// A panel for each value of a key, or for each pair of two.
    #[must_use]
    pub fn panels<T: Into<Item>>(self, keys: impl IntoIterator<Item = T>) -> Draw {
        Draw { panels: super::item::all(keys), ..self }
    }

    /// The file that it is written to, in the format of its name: .svg or .png.
    #[must_use]
    pub fn to(self, path: impl AsRef<FilePath>) -> Draw {
        Draw { to: Some(Path::of(path.as_ref())), ..self }
    }

    /// How it looks.
    #[must_use]
    pub fn with(self, options: DrawOptions) -> Draw {
        Draw { options: options.0, ..self }
    }

    /// The same chart, to be taken by the program.
    pub(crate) fn shown(self) -> Draw {
        Draw { to: None, ..self }
    }

    /// Whether it says where the chart goes.
    pub(crate) fn has_target(&self) -> bool {
        self.to.is_some()
    }

    /// The measures, with one for each column of a set.
    fn expanded(&self, fields: &[Field], checker: &mut Checker<'_>) -> Vec<Item> {
        let source = checker.source.clone();
        let mut items = Vec::new();
        for item in &self.measures {
            let Some(parts) = checker.kept(over_set(&item.expr, fields, &[], &source)) else { continue };
            match parts.as_slice() {
                [(_, None)] => items.push(item.clone()),
                parts => items.extend(parts.iter().map(|(expr, _)| {
                    let mut one = Item::from(expr.clone());
                    one.span = item.span;
                    one
                })),
            }
        }
        items
    }

    /// Checks that the parts that a kind needs are there, and none that it has no use for.
    fn check_parts(&self, measures: usize, checker: &mut Checker<'_>) -> bool {
        let word = self.kind.word();
        let wrong = |what: String, next: &str| Some(Error::new(ErrorKind::Check, what).next(next.to_owned()));
        let one = matches!(self.kind, ChartKind::Histogram | ChartKind::Area | ChartKind::Heat);
        let error = match self.kind {
            _ if measures == 0 => wrong(
                format!("{word} draws a measure, and none is named."),
                &format!("Write draw {word} litres …"),
            ),
            _ if one && measures > 1 => {
                wrong(format!("{word} draws one measure."), "Draw the others in a step of their own.")
            }
            ChartKind::Histogram if self.along.is_some() => wrong(
                "A histogram stands along its own values, so it takes no over.".into(),
                "Write draw histogram litres, or draw bars litres over month.",
            ),
            ChartKind::Heat if self.along.is_none() || self.colour.is_none() => wrong(
                "heat needs two keys: what lies across, and what lies below each other.".into(),
                "Write draw heat litres over month by district.",
            ),
            kind if kind.needs_along() && self.along.is_none() => wrong(
                format!("{word} stand along something, and nothing is named."),
                &format!("Write draw {word} litres over month."),
            ),
            _ if self.panels.len() > 2 => {
                wrong("Panels are of one key or of two.".into(), "Put keys together in one: a || ' ' || b.")
            }
            _ => None,
        };
        let is_right = error.is_none();
        error.into_iter().for_each(|error| checker.wrong(self.span, error));
        is_right
    }

    /// The columns of the chart, bound over rows; mistakes are noted.
    fn columns(
        &self,
        input: Relation,
        measures: &[Item],
        label: &Option<Item>,
        checker: &mut Checker<'_>,
    ) -> (Relation, Vec<Field>) {
        let mut relation = input;
        let mut fields = Vec::new();
        let keys = self.along.iter().chain(&self.colour).chain(&self.panels);
        for item in measures.iter().chain(keys).chain(label) {
            let mut beside = Beside::default();
            if checker.environment.has_aggregate(&item.expr) && !has_rows(&item.expr) {
                self.refuse_aggregate(item, checker);
                continue;
            }
            let bound = checker.row_expression(&item.expr, &relation.fields, &mut beside);
            relation = checker.with_beside(relation, beside);
            let title = title_of(item);
            let carried =
                bound.as_column().and_then(|id| relation.fields.iter().find(|f| f.id == id)).cloned();
            let field = match carried {
                Some(field) => Field { name: title, ..field },
                None => {
                    let field = Field::new(checker.ids.fresh(), title, bound.kind.clone());
                    let step = checker.step();
                    relation =
                        relation.then(operators::Compute { columns: vec![(field.clone(), bound)] }, step);
                    field
                }
            };
            fields.push(field);
        }
        (relation, fields)
    }

    fn refuse_aggregate(&self, item: &Item, checker: &mut Checker<'_>) {
        let keys: Vec<String> =
            self.along.iter().chain(&self.colour).chain(&self.panels).map(ToString::to_string).collect();
        let by = if keys.is_empty() { "farm".to_owned() } else { comma(&keys) };
        let named = churn_core::names::name(&title_of(item));
        let error =
            Error::new(ErrorKind::Check, "A chart shows the rows as they are, and this is an aggregate.");
        checker.wrong(item.span, error.next(format!("Group first: group by {by}: {named} = {}", item.expr)));
    }

    /// Checks that columns have types that are drawn so.
    fn check_types(&self, drawing: &Drawing, measures: &[Item], checker: &mut Checker<'_>) {
        let measures = drawing.measures.iter().zip(measures);
        let along = drawing.along.iter().zip(&self.along).filter(|_| self.kind.stands_on_numbers());
        for (role, item) in measures.chain(along) {
            if !is_measure(&role.kind) && role.kind != Type::Unknown {
                let what = format!("{} is {}, and no measure of a chart.", role.title, role.kind);
                let error = Error::new(ErrorKind::Type, what);
                checker
                    .wrong(item.span, error.next(format!("Make it one: try_cast({} as float).", item.expr)));
            }
        }
        let rest = drawing.along.iter().zip(&self.along).chain(drawing.colour.iter().zip(&self.colour));
        for (role, item) in rest.chain(drawing.panels.iter().zip(&self.panels)) {
            if !role.kind.has_order() || role.kind == Type::Binary {
                let what = format!("{} is {}, and no key.", role.title, role.kind);
                checker.wrong(item.span, Error::new(ErrorKind::Type, what));
            }
        }
    }

    fn drawing(&self, fields: &[Field], measures: usize, look: Look, has_label: bool) -> Drawing {
        let mut fields =
            fields.iter().map(|field| Role { title: field.name.clone(), kind: field.kind.clone() });
        let mut take = |count: usize| fields.by_ref().take(count).collect::<Vec<_>>();
        let measures = take(measures);
        let along = take(usize::from(self.along.is_some())).pop();
        let colour = take(usize::from(self.colour.is_some())).pop();
        let panels = take(self.panels.len());
        let label = take(usize::from(has_label)).pop();
        Drawing { kind: self.kind, measures, along, colour, panels, label, look }
    }

    /// The rows with the chart written of them; a file that it cannot be written to is noted.
    fn written(
        &self,
        to: &Path,
        drawing: Arc<Drawing>,
        relation: Relation,
        checker: &mut Checker<'_>,
    ) -> Relation {
        let Some((text, path)) = checker.target(to, self.span) else { return relation };
        let figure = Drawn::default();
        let format = match format_of(&path, &drawing, &figure) {
            Ok(format) => format,
            Err(error) => {
                checker.wrong(to.span(), error);
                return relation;
            }
        };
        for result in [target::may_be_written(&path), checker.files.writes(&path, &text, WrittenPart::File)] {
            if let Err(error) = result {
                checker.wrong(to.span(), error);
            }
        }
        checker.charts.push(WrittenChart { file: text, drawing, figure });
        let (step, options, fields) = (checker.step(), WriteOptions::default(), relation.fields.clone());
        relation.then(operators::Write { path, format, options, mode: Mode::Replace, fields }, step)
    }

    /// Checks that ratios can be shown where they are asked for.
    fn check_ratios(&self, drawing: &Drawing, checker: &mut Checker<'_>) {
        let [along, up] = drawing.look.is_log;
        let is_number =
            |role: &Role| role.kind.is_number() || matches!(role.kind, Type::Null | Type::Unknown);
        let from_zero =
            matches!(self.kind, ChartKind::Bars | ChartKind::Area | ChartKind::Histogram | ChartKind::Heat);
        let is_wrong = up && (from_zero || !drawing.measures.iter().all(is_number))
            || along && !(drawing.is_along_numbers() && drawing.along.as_ref().is_some_and(is_number));
        if is_wrong {
            let what = format!("An axis of {} cannot show ratios here.", self.kind.word());
            let error = Error::new(ErrorKind::Check, what);
            checker.wrong(self.span, error.next("log is for the numbers of lines, points and boxes."));
        }
    }
}

/// What axes and legends call an item: its name, or its text.
fn title_of(item: &Item) -> String {
    match (&item.name, &item.expr.kind) {
        (Some(name), _) | (None, Kind::Name(name)) => name.clone(),
        _ => item.expr.to_string(),
    }
}

/// Whether an expression with an aggregate still has one value a row: `sum(x) per farm`.
fn has_rows(expr: &Expr) -> bool {
    let mut found = matches!(expr.kind, Kind::Per(..) | Kind::Over(..));
    expr.for_each_part(&mut |part| found = found || has_rows(part));
    found
}

impl Check for Draw {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let fields_before = input.fields.clone();
        let (look, label) = self.look(checker);
        let errors = checker.errors.len();
        let measures = self.expanded(&input.fields, checker);
        if checker.errors.len() > errors || !self.check_parts(measures.len(), checker) {
            return Some(input);
        }
        let (relation, fields) = self.columns(input, &measures, &label, checker);
        if checker.errors.len() > errors {
            return Some(Relation { fields: fields_before, ..relation });
        }
        let drawing = Arc::new(self.drawing(&fields, measures.len(), look, label.is_some()));
        self.check_types(&drawing, &measures, checker);
        self.check_ratios(&drawing, checker);
        let Some(to) = &self.to else {
            checker.drawing = Some(drawing);
            return Some(Relation { fields, ..relation });
        };
        let relation = self.written(to, drawing, Relation { fields, ..relation }, checker);
        Some(Relation { fields: fields_before, ..relation })
    }

    fn keeps_rows(&self) -> bool {
        true
    }

    fn acts(&self) -> bool {
        self.has_target()
    }

    fn writes(&self) -> bool {
        self.has_target()
    }

    fn shows(&self) -> bool {
        !self.has_target()
    }
}

impl fmt::Display for Draw {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "draw {}", self.kind.word())?;
        let list = |items: &[Item]| comma(items.iter().map(|item| Shielded(item, &WORDS)));
        if !self.measures.is_empty() {
            write!(f, " {}", list(&self.measures))?;
        }
        if let Some(along) = &self.along {
            write!(f, " over {}", Shielded(along, &WORDS))?;
        }
        if let Some(colour) = &self.colour {
            write!(f, " by {}", Shielded(colour, &WORDS))?;
        }
        if !self.panels.is_empty() {
            write!(f, " panels by {}", list(&self.panels))?;
        }
        if let Some(to) = &self.to {
            write!(f, " to {to}")?;
        }
        with::write(f, &self.options)
    }
}
