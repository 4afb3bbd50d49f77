//! The keys of `group by`, and the sets of them.

use churn_core::{ErrorKind, Result};
use churn_expr::ast::Kind;
use sqlparser::ast::Expr as Sql;

use super::super::expression::{Part, unnested};
use super::super::scope::Found;
use super::super::select::Output;
use super::super::translator::Translator;
use super::Groups;

/// The most sets of keys: a cube of ten keys.
const MOST_SETS: usize = 1024;

impl Translator<'_, '_> {
    /// Reads the keys and the sets of them.
    pub(super) fn keys(
        &mut self,
        written: &[Sql],
        outputs: &[Output],
        part: &mut Part<'_>,
        groups: &mut Groups,
    ) -> Result<()> {
        let mut sets: Vec<Vec<usize>> = vec![Vec::new()];
        for sql in written {
            let own: Vec<Vec<usize>> = match unnested(sql) {
                Sql::GroupingSets(all) => {
                    let sets: Result<_> =
                        all.iter().map(|set| self.key_set(set, outputs, part, groups)).collect();
                    sets?
                }
                Sql::Rollup(all) => {
                    let parts: Result<Vec<_>> =
                        all.iter().map(|set| self.key_set(set, outputs, part, groups)).collect();
                    let parts = parts?;
                    (0..=parts.len()).rev().map(|n| once_each(parts.iter().take(n).flatten())).collect()
                }
                Sql::Cube(all) => {
                    let parts: Result<Vec<_>> =
                        all.iter().map(|set| self.key_set(set, outputs, part, groups)).collect();
                    let parts = parts?;
                    if parts.len() > 10 {
                        return Err(self.wrong(
                            ErrorKind::Check,
                            "A cube has ten keys at most.",
                            self.span(sql),
                        ));
                    }
                    let has = |mask: usize, i: usize| mask & (1 << (parts.len() - 1 - i)) != 0;
                    let subset = |mask: usize| {
                        once_each(
                            parts.iter().enumerate().filter(|(i, _)| has(mask, *i)).flat_map(|(_, p)| p),
                        )
                    };
                    (0..1usize << parts.len()).rev().map(subset).collect()
                }
                _ => vec![self.key_set(std::slice::from_ref(sql), outputs, part, groups)?],
            };
            let both = |set: &Vec<usize>, more: &Vec<usize>| {
                let mut both = set.clone();
                both.extend(more.iter().filter(|key| !set.contains(key)));
                both
            };
            sets = sets.iter().flat_map(|set| own.iter().map(move |more| both(set, more))).collect();
            if sets.len() > MOST_SETS {
                let what = format!("These are more than {MOST_SETS} sets of keys.");
                return Err(self.wrong(ErrorKind::Check, what, self.span(sql)));
            }
        }
        if let (Some(span), true) = (groups.alike, sets.len() > 1) {
            let next = "Group by one of them.";
            return Err(self.unsupported("Two keys that a join makes equal, in grouping sets,", next, span));
        }
        groups.sets = sets;
        Ok(())
    }

    fn key_set(
        &mut self,
        written: &[Sql],
        outputs: &[Output],
        part: &mut Part<'_>,
        groups: &mut Groups,
    ) -> Result<Vec<usize>> {
        let mut set = Vec::new();
        for sql in written {
            let inner: &[Sql] = match unnested(sql) {
                Sql::Tuple(inner) => inner,
                _ => std::slice::from_ref(sql),
            };
            for sql in inner {
                let key = self.key(sql, outputs, part, groups)?;
                if !set.contains(&key) {
                    set.push(key);
                }
            }
        }
        Ok(set)
    }

    /// Reads one key: an expression of the rows, or a column that is selected, by its position, or by its name where no column
    /// of the tables has it.
    fn key(
        &mut self,
        sql: &Sql,
        outputs: &[Output],
        part: &mut Part<'_>,
        groups: &mut Groups,
    ) -> Result<usize> {
        let is_column = match unnested(sql) {
            Sql::Identifier(name) => !matches!(part.scope.find(None, name), Found::None),
            _ => false,
        };
        let chosen = if is_column { None } else { self.output_of(sql, outputs)? };
        let value = match chosen.and_then(|i| outputs.get(i)) {
            Some(output) => output.value.clone(),
            None => {
                let mut own = Part::new(part.scope, "group by");
                let value = self.expression(sql, &mut own)?;
                if let Some(lookup) = own.lookups.first() {
                    let next = "Select it in a sub-query, and group by its column.";
                    return Err(self.unsupported("A sub-query in group by", next, lookup.span));
                }
                value
            }
        };
        self.without_aggregates(&value, "group by")?;
        let written = unnested(sql).to_string().to_lowercase();
        if let Some(known) = groups.keys.iter().position(|(key, _)| *key == value) {
            if groups.written.get(known) != Some(&written) {
                groups.alike = Some(value.span);
            }
            return Ok(known);
        }
        groups.written.push(written);
        let is_free = |groups: &Groups, name: &str| !groups.keys.iter().any(|(_, known)| known == name);
        let selected = outputs.iter().find(|output| output.value == value).map(|output| output.name.clone());
        let own = match &value.kind {
            Kind::Name(own) => Some(own.clone()),
            _ => None,
        };
        let called = selected.into_iter().chain(own).find(|name| is_free(groups, name));
        let called = called.unwrap_or_else(|| self.fresh("key"));
        groups.keys.push((value, called));
        Ok(groups.keys.len() - 1)
    }
}

/// Keys in their order, each once.
fn once_each<'k>(keys: impl Iterator<Item = &'k usize>) -> Vec<usize> {
    let mut once = Vec::new();
    for key in keys {
        if !once.contains(key) {
            once.push(*key);
        }
    }
    once
}
