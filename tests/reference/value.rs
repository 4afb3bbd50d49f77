//! Values and tables of the reference interpreter.

use std::cmp::Ordering;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ty {
    Bool,
    Int,
    /// Whole numbers up to both ends: only compared, never added.
    Wide,
    Float,
    Text,
    Date,
    /// Of values of a type.
    List(&'static Ty),
}

impl Ty {
    pub fn is_list(self) -> bool {
        matches!(self, Ty::List(_))
    }

    /// The type of lists of such values.
    pub fn listed(self) -> Ty {
        Ty::List(match self {
            Ty::Bool => &Ty::Bool,
            Ty::Int => &Ty::Int,
            Ty::Wide => &Ty::Wide,
            Ty::Float => &Ty::Float,
            Ty::Text => &Ty::Text,
            Ty::Date => &Ty::Date,
            Ty::List(_) => panic!("lists of lists are not drawn"),
        })
    }

    pub fn name(self) -> &'static str {
        match self {
            Ty::Bool => "bool",
            Ty::Int | Ty::Wide => "int",
            Ty::Float => "float",
            Ty::Text => "text",
            Ty::Date => "date",
            Ty::List(_) => "list",
        }
    }
}

#[derive(Clone, Debug)]
pub enum V {
    Null,
    Bool(bool),
    Int(i64),
    Float(f64),
    Text(String),
    Date(i32),
    List(Vec<V>),
}

impl V {
    pub fn is_null(&self) -> bool {
        matches!(self, V::Null)
    }

    /// Order of two values that are not null; NaN last.
    pub fn order(&self, other: &V) -> Ordering {
        match (self, other) {
            (V::Bool(a), V::Bool(b)) => a.cmp(b),
            (V::Int(a), V::Int(b)) => a.cmp(b),
            (V::Float(a), V::Float(b)) => match (a.is_nan(), b.is_nan()) {
                (true, true) => Ordering::Equal,
                (true, false) => Ordering::Greater,
                (false, true) => Ordering::Less,
                _ => a.partial_cmp(b).unwrap(),
            },
            (V::Int(a), V::Float(_)) => V::Float(*a as f64).order(other),
            (V::Float(_), V::Int(b)) => self.order(&V::Float(*b as f64)),
            (V::Text(a), V::Text(b)) => a.chars().cmp(b.chars()),
            (V::Date(a), V::Date(b)) => a.cmp(b),
            (a, b) => panic!("{a:?} and {b:?} do not compare"),
        }
    }

    /// Whether two values are one group: null is one, and so is NaN.
    pub fn same(&self, other: &V) -> bool {
        match (self, other) {
            (V::Null, V::Null) => true,
            (V::Null, _) | (_, V::Null) => false,
            (a, b) => a.order(b).is_eq(),
        }
    }

    /// Whether two results agree, up to the rounding of floats.
    pub fn near(&self, other: &V) -> bool {
        match (self, other) {
            (V::Float(a), V::Float(b)) => {
                a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1e-6)
            }
            (V::List(a), V::List(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.near(b)),
            (V::Null, V::Null) => true,
            (V::Bool(a), V::Bool(b)) => a == b,
            (V::Int(a), V::Int(b)) => a == b,
            (V::Text(a), V::Text(b)) => a == b,
            (V::Date(a), V::Date(b)) => a == b,
            _ => false,
        }
    }

    pub fn number(&self) -> f64 {
        match self {
            V::Int(v) => *v as f64,
            V::Float(v) => *v,
            other => panic!("{other:?} is no number"),
        }
    }

    /// The value as a literal of the language.
    pub fn literal(&self) -> String {
        match self {
            V::Null => "null".into(),
            V::Bool(v) => v.to_string(),
            V::Int(v) => v.to_string(),
            V::Float(v) => format!("{v:?}"),
            V::Text(v) => format!("'{}'", v.replace('\'', "''")),
            V::Date(v) => format!("date '{}'", date(*v)),
            V::List(_) => panic!("a list has no literal"),
        }
    }
}

fn leap(year: i32) -> bool {
    year % 4 == 0 && (year % 100 != 0 || year % 400 == 0)
}

pub fn month_days(year: i32, month: i32) -> i32 {
    match month {
        2 => 28 + i32::from(leap(year)),
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// Year, month and day of a day number, counted day by day.
pub fn civil(days: i32) -> (i32, i32, i32) {
    let mut year = 1970;
    let mut left = days;
    while left < 0 {
        year -= 1;
        left += 365 + i32::from(leap(year));
    }
    while left >= 365 + i32::from(leap(year)) {
        left -= 365 + i32::from(leap(year));
        year += 1;
    }
    let mut month = 1;
    while left >= month_days(year, month) {
        left -= month_days(year, month);
        month += 1;
    }
    (year, month, left + 1)
}

/// The day number of a date, by search.
pub fn days(year: i32, month: i32, day: i32) -> i32 {
    let length = |year: i32| 365 + i32::from(leap(year));
    let years: i32 =
        if year < 1970 { -(year..1970).map(length).sum::<i32>() } else { (1970..year).map(length).sum() };
    years + (1..month).map(|month| month_days(year, month)).sum::<i32>() + day - 1
}

pub fn date(days: i32) -> String {
    let (year, month, day) = civil(days);
    format!("{year:04}-{month:02}-{day:02}")
}

/// A table.
#[derive(Clone, Debug)]
pub struct Data {
    pub columns: Vec<(String, Ty)>,
    pub rows: Vec<Vec<V>>,
}

impl Data {
    pub fn names(&self) -> Vec<&str> {
        self.columns.iter().map(|(n, _)| n.as_str()).collect()
    }

    pub fn place(&self, name: &str) -> usize {
        self.columns.iter().position(|(n, _)| n == name).unwrap_or_else(|| panic!("no column {name}"))
    }

    /// The table as delimited text.
    pub fn csv(&self) -> String {
        let mut text = self.names().join(",") + "\n";
        for row in &self.rows {
            let cells: Vec<String> = row
                .iter()
                .map(|v| match v {
                    V::Null => String::new(),
                    V::Text(v) => format!("\"{}\"", v.replace('"', "\"\"")),
                    V::Date(v) => date(*v),
                    V::Float(v) => format!("{v:?}"),
                    other => other.literal(),
                })
                .collect();
            text += &(cells.join(",") + "\n");
        }
        text
    }

    /// As [`Data::csv`], with nulls at the ends of rows left out; `None` if a row would be an empty line.
    pub fn short_csv(&self) -> Option<String> {
        let heading = self.names().join(",") + "\n";
        let mut text = heading.clone();
        for row in &self.rows {
            let nulls = row.iter().rev().take_while(|v| v.is_null()).count();
            if nulls == row.len() {
                return None;
            }
            let alone = Data { columns: self.columns.clone(), rows: vec![row.clone()] };
            let line = alone.csv().split_off(heading.len());
            // A null is an empty cell, and so the comma before it.
            text += &line[..line.len() - 1 - nulls];
            text.push('\n');
        }
        Some(text)
    }

    /// The step that reads it with columns that hold nothing as what they are: of no type.
    pub fn read_step_of_values(&self, file: &str) -> String {
        let has_value = |place: usize| self.rows.iter().any(|row| !row[place].is_null());
        let columns = self.columns.iter().enumerate().filter(|(place, _)| has_value(*place));
        read_step(file, columns.map(|(_, column)| column))
    }

    /// The step that reads it.
    pub fn read_step(&self, file: &str) -> String {
        read_step(file, self.columns.iter())
    }
}

/// The step that reads a file, in which some columns have these types.
fn read_step<'a>(file: &str, typed: impl Iterator<Item = &'a (String, Ty)>) -> String {
    let types: Vec<String> = typed.map(|(n, t)| format!("{n} {}", t.name())).collect();
    let with =
        if types.is_empty() { String::new() } else { format!(" with (types = ({}))", types.join(", ")) };
    format!("read '{file}'{with}")
}
