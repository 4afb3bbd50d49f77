//! Values that are bound once and used more than once.

use churn_core::{Error, ErrorKind, Span, Type};

use super::{Binder, Place};
use crate::ast::{Expr, Local};
use crate::expand::{MOST_PARTS, too_long};
use crate::{Bound, Node};

impl Binder<'_> {
    /// Binds a value and what uses it. The value is computed once, unless it might fail on rows that do not need it:
    /// then it is written out where it stands.
    pub(super) fn let_in(
        &mut self,
        local: &Local,
        value: &Expr,
        body: &Expr,
        place: &mut Place<'_>,
    ) -> Bound {
        let value = self.expression(value, place);
        let id = self.ids.fresh();
        let stand_in = match &value.node {
            Node::Column(_) | Node::Literal(_) => value.clone(),
            _ => Bound { node: Node::Column(id), kind: value.kind.clone() },
        };
        self.locals.push((local.number, stand_in));
        let bound = self.expression(body, place);
        self.locals.pop();
        if bound.kind == Type::Unknown {
            return bound;
        }
        if let Some(shared) = Bound::sharing(id, &value, &bound) {
            return shared;
        }
        let written_out = bound.replaced(&|column| (column == id).then(|| value.clone()));
        if written_out.parts(MOST_PARTS + 1) > MOST_PARTS {
            return self.wrong(body.span, too_long());
        }
        written_out
    }

    /// What a local stands for.
    pub(super) fn local(&mut self, local: &Local, span: Span) -> Bound {
        match self.locals.iter().rev().find(|(number, _)| *number == local.number) {
            Some((_, stand_in)) => stand_in.clone(),
            None => self.wrong(
                span,
                Error::new(ErrorKind::Internal, format!("The value of {} was lost.", local.text)),
            ),
        }
    }
}
