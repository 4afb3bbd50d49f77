//! Expressions over groups: keys and aggregates in them are columns.

use churn_core::names::name;
use churn_core::{ErrorKind, Result, Span};
use churn_expr::ast::{Expr, Kind};

use super::super::expression::column_at;
use super::super::select::Output;
use super::super::translator::Translator;
use super::super::windows::WindowItem;
use super::Groups;

impl Translator<'_, '_> {
    /// Makes columns of the groups of what is selected and is an aggregate, or is worked out from aggregates and keys; gives
    /// which of the columns that are selected these are.
    pub(super) fn whole_items(&self, outputs: &mut [Output], groups: &mut Groups) -> Vec<bool> {
        let mut are_whole = Vec::new();
        for output in outputs {
            let mut names =
                groups.keys.iter().map(|(_, name)| name).chain(groups.items.iter().map(|(name, _)| name));
            let is_taken = names.any(|name| *name == output.name);
            let has_aggregate = self.checker.environment.has_aggregate(&output.value);
            let item = self.of_groups(&output.value, groups).filter(|_| has_aggregate && !is_taken);
            are_whole.push(item.is_some());
            if let Some(item) = item {
                groups.items.push((output.name.clone(), item));
                output.value = column_at(&output.name, output.value.span);
            }
        }
        are_whole
    }

    /// An expression as it may stand among the items of a group; `None` if it needs more than aggregates and keys.
    fn of_groups(&self, expr: &Expr, groups: &Groups) -> Option<Expr> {
        if let Some((_, key)) = groups.keys.iter().find(|(key, _)| key == expr) {
            return Some(column_at(key, expr.span));
        }
        if self.is_aggregate(expr) {
            return Some(expr.clone());
        }
        match &expr.kind {
            Kind::Name(_) | Kind::InTable(..) => return None,
            Kind::Call(function, _) if function == "grouping" => return None,
            _ => {}
        }
        let mut is_whole = true;
        let mapped = expr.map_parts(&mut |part| {
            self.of_groups(part, groups).unwrap_or_else(|| {
                is_whole = false;
                part.clone()
            })
        });
        is_whole.then_some(mapped)
    }

    fn is_aggregate(&self, expr: &Expr) -> bool {
        match &expr.kind {
            Kind::Call(function, _) => self.checker.environment.functions.has_aggregate(function),
            Kind::Where(..) => true,
            _ => false,
        }
    }

    /// An expression over the groups: keys and aggregates are columns.
    pub(in crate::lang::sql) fn over_groups(&mut self, expr: &Expr, groups: &mut Groups) -> Result<Expr> {
        let named = |name: &str| Ok(column_at(name, expr.span));
        if let Some((_, key)) = groups.keys.iter().find(|(key, _)| key == expr) {
            return named(key);
        }
        if self.is_aggregate(expr) {
            if let Some((known, _)) = groups.items.iter().find(|(_, item)| item == expr) {
                return named(known);
            }
            let known = self.fresh("aggregate");
            groups.items.push((known.clone(), expr.clone()));
            return named(&known);
        }
        match &expr.kind {
            Kind::Call(function, args) if function == "grouping" => {
                return self.mark(args, groups, expr.span);
            }
            Kind::Name(own) => {
                if !groups.rows.contains(own) {
                    return Ok(expr.clone());
                }
                let what = format!("{} is neither a key of group by nor inside an aggregate.", name(own));
                let error = self.wrong(ErrorKind::Check, what, expr.span);
                return Err(error
                    .why("A group has many rows, and so many values of it.")
                    .next(format!("Add it to group by, or take one value: max({}).", name(own))));
            }
            _ => {}
        }
        let mut wrong = None;
        let mapped = expr.map_parts(&mut |part| match self.over_groups(part, groups) {
            Ok(part) => part,
            Err(error) => {
                wrong.get_or_insert(error);
                part.clone()
            }
        });
        wrong.map_or(Ok(mapped), Err)
    }

    /// `grouping(key)`: 1 in the rows of the sets that leave the key out.
    fn mark(&mut self, args: &[Expr], groups: &mut Groups, span: Span) -> Result<Expr> {
        let key = args
            .first()
            .filter(|_| args.len() == 1)
            .and_then(|arg| groups.keys.iter().position(|(key, _)| key == arg));
        let Some(key) = key else {
            return Err(self.wrong(ErrorKind::Check, "grouping takes one key of group by.", span));
        };
        if let Some((_, known)) = groups.marks.iter().find(|(marked, _)| *marked == key) {
            return Ok(column_at(known, span));
        }
        let known = self.fresh("grouping");
        groups.marks.push((key, known.clone()));
        Ok(column_at(&known, span))
    }

    pub(super) fn window_over_groups(&mut self, window: &mut WindowItem, groups: &mut Groups) -> Result<()> {
        // The call over the window stays what it is; what it is worked out from becomes columns of the groups.
        let mut inner = |this: &mut Self, call: &Expr| -> Result<Expr> {
            let Kind::Call(function, args) = &call.kind else { return Ok(call.clone()) };
            let args: Result<Vec<Expr>> = args.iter().map(|arg| this.over_groups(arg, groups)).collect();
            Ok(Expr { span: call.span, kind: Kind::Call(function.clone(), args?) })
        };
        window.call = match &window.call.kind {
            Kind::Where(call, _) => {
                let call = inner(self, call)?;
                let Kind::Where(_, only) = &window.call.kind else { return Ok(()) };
                let only = self.over_groups(only, groups)?;
                Expr { span: window.span, kind: Kind::Where(Box::new(call), Box::new(only)) }
            }
            _ => inner(self, &window.call.clone())?,
        };
        for key in &mut window.by {
            *key = self.over_groups(key, groups)?;
        }
        for key in &mut window.order {
            key.by = self.over_groups(&key.by, groups)?;
        }
        Ok(())
    }
}
