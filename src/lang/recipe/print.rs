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
            for placed in &table.steps {
                writeln!(f, "{}", indented(&placed.step.to_string()))?;
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

/// A step two blanks deeper. Line breaks within a text in quotes are a part of it, and stay as they are; those of a query on lines
/// of its own are not.
fn indented(step: &str) -> String {
    let is_block = step.starts_with("sql\n");
    let mut out = String::from("  ");
    let mut quote = None;
    for c in step.chars() {
        out.push(c);
        match quote {
            Some(open) if c == open => quote = None,
            None if c == '\'' || c == '"' => quote = Some(c),
            _ => {}
        }
        if c == '\n' && (is_block || quote.is_none()) {
            out.push_str("  ");
        }
    }
    out
}
