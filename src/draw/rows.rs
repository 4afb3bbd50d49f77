//! Rows of a chart as numbers: measures as floats, keys as their numbers.

use arrow_array::{Array, ArrayRef};
use arrow_buffer::NullBuffer;
use churn_core::names::name;
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Result, Scalar, Type};
use churn_draw::scale::Measure;
use churn_draw::statistics::Ladder;
use churn_exec::KeyNumbers;
use churn_exec::profile::measure;
use churn_kernels::calendar::SECOND;

use super::drawing::{ChartKind, Drawing, Role};

/// What the numbers of a type are on an axis.
pub(super) fn measure_of(kind: &Type) -> Measure {
    match kind {
        Type::Date => Measure::Date,
        Type::Time => Measure::Time,
        Type::Timestamp => Measure::Moment,
        Type::Int => Measure::Whole,
        _ => Measure::Number,
    }
}

/// The bins that they are counted by.
pub(super) fn ladder_of(measure: Measure) -> Ladder {
    match measure {
        Measure::Number | Measure::Whole => Ladder::Tens,
        Measure::Date => Ladder::Days,
        Measure::Time | Measure::Moment => Ladder::Seconds,
    }
}

/// A column as floats: days, seconds, or the numbers themselves; and which rows have none.
pub(super) struct Numbers {
    pub(super) values: Vec<f64>,
    nulls: Option<NullBuffer>,
}

impl Numbers {
    fn of(array: &ArrayRef, kind: &Type) -> Result<Numbers> {
        let wide = widen(array)?;
        // Of the type of null alone there are no values: every row is null.
        let values = measure::floats(&wide, kind, [SECOND; 2]);
        Ok(Numbers { values, nulls: wide.logical_nulls().filter(|nulls| nulls.null_count() > 0) })
    }

    /// Whether some rows have none.
    pub(super) fn has_nulls(&self) -> bool {
        self.nulls.is_some()
    }

    /// The number of a row, if it has one.
    #[inline]
    pub(super) fn at(&self, row: usize) -> Option<f64> {
        let is_null = self.nulls.as_ref().is_some_and(|nulls| nulls.is_null(row));
        if is_null { None } else { self.values.get(row).copied() }
    }
}

/// What the marks of some rows stand along.
pub(super) enum Along {
    Nothing,
    Keys(Vec<u32>),
    Numbers(Numbers),
}

/// Some rows of a chart.
pub(super) struct Rows {
    pub(super) count: usize,
    pub(super) measures: Vec<Numbers>,
    pub(super) along: Along,
    /// The key of each row's colour; none where there are no keys.
    pub(super) colours: Vec<u32>,
    /// The value of each row's colour.
    pub(super) values: Option<Numbers>,
    /// The number of each row's panel; none where there is one panel.
    pub(super) panels: Vec<u32>,
    pub(super) labels: Option<ArrayRef>,
}

/// Panels and colours that can be told apart in one picture.
pub(super) const MOST_KEYS: usize = churn_draw::colour::MOST_KEYS;

/// Panels of two keys, at most.
const MOST_PANELS: usize = 36;

/// Keys that marks stand along, at most: texts, and values with an order, of which some may stay unnamed.
const MOST_TEXTS: usize = 60;
const MOST_ORDERED: usize = 400;

/// The keys of a chart.
pub(super) struct Keys {
    pub(super) along: Option<KeyNumbers>,
    pub(super) colours: Option<KeyNumbers>,
    pub(super) panels: Vec<KeyNumbers>,
    /// The panels that occurred, as the numbers of their keys.
    pub(super) pairs: Vec<Vec<u32>>,
}

impl Keys {
    pub(super) fn of(drawing: &Drawing) -> Keys {
        let keys = |role: &Role| KeyNumbers::new(role.kind.clone());
        Keys {
            along: drawing.along.as_ref().filter(|_| !drawing.is_along_numbers()).map(keys),
            colours: drawing.colour.as_ref().filter(|_| !drawing.has_values()).map(keys),
            panels: drawing.panels.iter().map(keys).collect(),
            pairs: if drawing.panels.is_empty() { vec![Vec::new()] } else { Vec::new() },
        }
    }

    /// Takes a batch apart by what its columns mean.
    ///
    /// # Errors
    /// Keys are more than a picture can show.
    pub(super) fn rows(&mut self, drawing: &Drawing, batch: &Batch) -> Result<Rows> {
        let mut columns = batch.columns.iter();
        let mut next = || columns.next().ok_or_else(lost);
        let measures: Vec<Numbers> =
            drawing.measures.iter().map(|role| Numbers::of(next()?, &role.kind)).collect::<Result<_>>()?;
        let along = match (&drawing.along, &mut self.along) {
            (None, _) => Along::Nothing,
            (Some(role), None) => Along::Numbers(Numbers::of(next()?, &role.kind)?),
            (Some(role), Some(keys)) => {
                let numbers = keys.numbers(next()?)?;
                stand_beside(role, keys)?;
                Along::Keys(numbers)
            }
        };
        let (mut colours, mut values) = (Vec::new(), None);
        if let Some(role) = &drawing.colour {
            match &mut self.colours {
                Some(keys) => {
                    colours = keys.numbers(next()?)?;
                    if drawing.kind == ChartKind::Heat {
                        stand_beside(role, keys)?;
                    } else {
                        few_enough(role, keys.len(), MOST_KEYS, "have colours that can be told apart")?;
                    }
                }
                None => values = Some(Numbers::of(next()?, &role.kind)?),
            }
        }
        let mut parts = Vec::new();
        for (role, keys) in drawing.panels.iter().zip(&mut self.panels) {
            parts.push(keys.numbers(next()?)?);
            few_enough(role, keys.len(), MOST_KEYS, "have panels that can be read")?;
        }
        let panels = self.panels_of(&parts, batch.rows)?;
        let labels = drawing.label.as_ref().map(|_| next().and_then(widen)).transpose()?;
        Ok(Rows { count: batch.rows, measures, along, colours, values, panels, labels })
    }

    /// The panel of each row, of the keys of its panel.
    fn panels_of(&mut self, parts: &[Vec<u32>], rows: usize) -> Result<Vec<u32>> {
        if parts.is_empty() {
            return Ok(Vec::new());
        }
        let mut panels = Vec::with_capacity(rows);
        for row in 0..rows {
            let here = || parts.iter().filter_map(|part| part.get(row).copied());
            let known = self.pairs.iter().position(|pair| pair.iter().copied().eq(here()));
            panels.push(known.unwrap_or(self.pairs.len()) as u32);
            if known.is_none() {
                self.pairs.push(here().collect());
                if self.pairs.len() > MOST_PANELS {
                    return Err(Error::new(
                        ErrorKind::Data,
                        format!("More than {MOST_PANELS} panels are too small to be read."),
                    )
                    .next("Keep some of them with a filter, or draw panels by one key."));
                }
            }
        }
        Ok(panels)
    }
}

fn lost() -> Error {
    Error::new(ErrorKind::Internal, "A chart lacks one of its columns.")
}

/// Whether keys of a type have an order that a reader knows.
pub(super) fn has_order(kind: &Type) -> bool {
    is_dated(kind) || kind.is_number()
}

fn is_dated(kind: &Type) -> bool {
    matches!(kind, Type::Date | Type::Time | Type::Timestamp)
}

/// Refuses more keys than can stand beside each other.
fn stand_beside(role: &Role, keys: &KeyNumbers) -> Result<()> {
    let most = if has_order(&role.kind) { MOST_ORDERED } else { MOST_TEXTS };
    few_enough(role, keys.len(), most, "stand beside each other")
}

/// Refuses more keys than a picture can show.
fn few_enough(role: &Role, keys: usize, most: usize, can: &str) -> Result<()> {
    if keys <= most {
        return Ok(());
    }
    let column = &role.title;
    let error =
        Error::new(ErrorKind::Data, format!("{column} has more than {most} values, and no more {can}."));
    Err(match &role.kind {
        kind if is_dated(kind) => error.next("Group by a longer time: start_of(month, DATE)."),
        kind if kind.is_number() => error.next("Group by ranges of it, or draw points or lines over it."),
        _ => error.next(format!(
            "Keep the largest with sort and first, or gather the rest: case when {0} in ('…') then {0} else 'other' end.",
            name(column)
        )),
    })
}

/// A key as an axis or a legend names it.
pub(super) fn named(value: &Scalar) -> String {
    match value {
        Scalar::Null => "(null)".to_owned(),
        Scalar::Text(text) if text.trim().is_empty() => "(blank)".to_owned(),
        Scalar::Float(value) => Measure::Number.text(*value),
        other => other.plain(),
    }
}
