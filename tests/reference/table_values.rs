//! Tables in expressions, for the reference interpreter: `x in NAME`, and `$NAME.column`.

use std::fmt;

use super::eval::{E, eval};
use super::steps::put_column;
use super::two_tables::Other;
use super::value::{Data, Ty, V};

/// How a step uses a column of another table.
#[derive(Clone, Debug)]
pub struct TableUse {
    pub x: E,
    pub how: How,
    pub other: Other,
    pub column: String,
}

#[derive(Clone, Debug)]
pub enum How {
    /// `filter x [not] in KEYS`.
    Filter(bool),
    /// `add NAME = x [not] in KEYS`.
    Add(String, bool),
    /// `filter x op $FACTS.low` or `high`: the least or the largest value.
    Compared(&'static str, &'static str),
}

impl TableUse {
    fn name(&self, what: &str) -> String {
        format!("{what}_{}_{}", self.other.name, self.column)
    }

    /// The tables that the step needs, as text of the language.
    pub fn declared(&self) -> String {
        let (read, column) = (self.other.name, &self.column);
        match self.how {
            How::Compared(..) => format!(
                "table {}\n  read {read}\n  total: low = min({column}), high = max({column})\n",
                self.name("facts")
            ),
            _ => format!("table {}\n  read {read}\n  select {column}\n", self.name("keys")),
        }
    }

    fn values(&self) -> Vec<&V> {
        let place = self.other.data.place(&self.column);
        self.other.data.rows.iter().map(|row| &row[place]).filter(|v| !v.is_null()).collect()
    }

    fn is_in(&self, data: &Data, row: &[V], negated: bool) -> V {
        let x = eval(&self.x, data, row);
        let equal = |v: &&V| {
            let both = [x.clone(), (*v).clone()].map(|v| Box::new(E::Lit(v)));
            let [a, b] = both;
            matches!(eval(&E::Op("=", a, b), data, row), V::Bool(true))
        };
        if x.is_null() { V::Null } else { V::Bool(self.values().iter().any(equal) != negated) }
    }

    pub fn apply(&self, data: &Data) -> Data {
        let filtered = |keep: &dyn Fn(&Vec<V>) -> V| Data {
            columns: data.columns.clone(),
            rows: data.rows.iter().filter(|row| matches!(keep(row), V::Bool(true))).cloned().collect(),
        };
        match &self.how {
            How::Filter(negated) => filtered(&|row| self.is_in(data, row, *negated)),
            How::Add(name, negated) => {
                let values = data.rows.iter().map(|row| self.is_in(data, row, *negated)).collect();
                put_column(data, name, Ty::Bool, values)
            }
            How::Compared(op, fact) => {
                let mut values = self.values();
                values.sort_by(|a, b| a.order(b));
                let value = if *fact == "low" { values.first() } else { values.last() };
                let value = value.map_or(V::Null, |v| (*v).clone());
                let holds = E::Op(op, Box::new(self.x.clone()), Box::new(E::Lit(value)));
                filtered(&|row| eval(&holds, data, row))
            }
        }
    }
}

impl fmt::Display for TableUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let not = |negated: &bool| if *negated { "not " } else { "" };
        let keys = self.name("keys");
        match &self.how {
            How::Filter(negated) => write!(f, "filter {} {}in {keys}", self.x, not(negated)),
            How::Add(name, negated) => write!(f, "add {name} = {} {}in {keys}", self.x, not(negated)),
            How::Compared(op, fact) => write!(f, "filter {} {op} ${}.{fact}", self.x, self.name("facts")),
        }
    }
}
