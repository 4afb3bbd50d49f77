//! `paste OTHER`: the columns of another table beside, row by row.

use std::fmt;

use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind};
use churn_plan::{Relation, operators};

use super::other::Other;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "paste",
    usage: "paste OTHER",
    summary: "Sets the columns of another table beside, row by row; it must have as many rows and other names.",
    example: "paste 'quota.csv'",
    parse: |text| Ok(Step::from(Paste(text.one(Other::read)?))),
};

/// `paste`: the columns of another table beside, row by row; it must have as many rows.
#[derive(Clone, Debug, PartialEq)]
pub struct Paste(Other);

impl Paste {
    /// Sets the columns of this table beside.
    pub fn new(other: impl Into<Other>) -> Paste {
        Paste(other.into())
    }
}

impl Check for Paste {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let table = self.0.relation(checker);
        let (mut input, table) = (input?, table?);
        let clash = table.fields.iter().filter(|f| input.fields.iter().any(|own| own.name == f.name));
        let clash: Vec<String> = clash.map(|f| name(&f.name)).collect();
        if let Some(first) = clash.first() {
            let what = format!("Columns of these names are on both sides: {}.", comma(&clash));
            let error = Error::new(ErrorKind::Name, what)
                .next(format!("Drop or rename them on one side before: rename other_{first} = {first}"));
            checker.wrong(self.0.span(), error);
        }
        let step = checker.step();
        input.fields.extend(table.fields.iter().cloned());
        Some(input.then(operators::Paste { other: Box::new(table.node), added: table.fields }, step))
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

impl fmt::Display for Paste {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "paste {}", self.0)
    }
}
