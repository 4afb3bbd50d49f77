//! A recipe back into text, in its canonical form.

use std::fmt;

use churn_core::names::{comma, name};

use super::{Chain, Recipe};

impl fmt::Display for Recipe {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for given in &self.givens {
            writeln!(f, "given {}{}", name(&given.name), given.default)?;
        }
        for (function, define) in &self.defines {
            let parameters = comma(define.parameters.iter().map(|p| name(p)));
            writeln!(f, "define {}({parameters}) = {}", name(function), define.body)?;
        }
        if !self.givens.is_empty() || !self.defines.is_empty() {
            writeln!(f)?;
        }
        for table in &self.tables {
            writeln!(f, "table {}", name(&table.name))?;
            for line in table.to_string().lines() {
                writeln!(f, "  {line}")?;
            }
            writeln!(f)?;
        }
        self.main.fmt(f)
    }
}

impl fmt::Display for Chain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.steps.iter().try_for_each(|placed| writeln!(f, "{}", placed.step))
    }
}
