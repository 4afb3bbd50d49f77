//! The checked expression and its evaluation over a batch.
//!
//! Columns are known by an id that is unique in a plan, so that rewrites can move an expression without
//! renumbering it; [`Bound::placed`] turns ids into positions once, before the run.

use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, UInt32Array};
use churn_core::widen::widen;
use churn_core::{
    Batch, Column, ColumnId, Error, ErrorKind, Events, Field, Result, Scalar, Type, arrow_error, deep, taken,
};

use super::{dictionary, logic};

/// Columns that are looked for one by one.
const FEW: usize = 8;

/// Computes a function's column from its arguments'.
pub(crate) type Kernel = Arc<dyn Fn(&[Column], usize, &mut Events) -> Result<Column> + Send + Sync>;

/// A checked expression.
#[derive(Clone)]
pub struct Bound {
    /// What it is.
    pub node: Node,
    /// The type of its values.
    pub kind: Type,
}

/// The forms of a checked expression.
#[derive(Clone)]
pub enum Node {
    /// A column, by its id; after [`Bound::placed`] by its position.
    Column(ColumnId),
    /// One value for all rows.
    Literal(Scalar),
    /// A function or an operator.
    Call(Call),
    /// Both hold; unknown is told from false.
    And(Box<Bound>, Box<Bound>),
    /// One holds at least; unknown is told from false.
    Or(Box<Bound>, Box<Bound>),
    /// The first arm whose condition is true; each value is computed for its own rows only.
    Case(Vec<(Bound, Bound)>, Option<Box<Bound>>),
    /// A value that the body uses more than once, computed once; then the body.
    Let(Box<Bound>, Box<Bound>),
    /// The value of a `Let` around it: of the innermost one for 0, of the next one for 1.
    Local(usize),
}

/// How a column is used by an expression.
#[derive(Clone, Copy, Default)]
struct Uses {
    count: usize,
    /// Whether one use at least is evaluated on every row.
    on_every_row: bool,
}

/// What an expression is evaluated over: rows, and the values of the `Let`s around it, innermost last.
struct Scope<'a> {
    batch: Cow<'a, Batch>,
    locals: Vec<ArrayRef>,
}

impl Scope<'_> {
    /// Some of the rows.
    fn part(&self, rows: &[u32]) -> Result<Scope<'_>> {
        if rows.len() == self.batch.rows {
            return Ok(Scope { batch: Cow::Borrowed(&self.batch), locals: self.locals.clone() });
        }
        let rows = UInt32Array::from(rows.to_vec());
        let locals = self.locals.iter().map(|local| taken(local, &rows)).collect::<Result<_>>()?;
        Ok(Scope { batch: Cow::Owned(self.batch.take(&rows)?), locals })
    }

    /// With the value of one more `Let`.
    fn with(&self, local: ArrayRef) -> Scope<'_> {
        let locals = self.locals.iter().cloned().chain([local]).collect();
        Scope { batch: Cow::Borrowed(&self.batch), locals }
    }
}

/// A kernel with its arguments.
#[derive(Clone)]
pub struct Call {
    /// The name of the function or operator, for explanations.
    pub name: &'static str,
    /// The arguments, in order.
    pub args: Vec<Bound>,
    pub(crate) kernel: Kernel,
    /// Whether it can neither fail nor cause an event, so that it may be moved or left out.
    pub(crate) infallible: bool,
}

impl Call {
    /// The result where all but one argument are literals and that one is a column of numbers into a dictionary:
    /// computed once for each of its values, and once for null.
    fn by_dictionary(&self, batch: &Batch, events: &mut Events) -> Result<Option<Column>> {
        let is_literal = |arg: &&Bound| matches!(arg.node, Node::Literal(_));
        let mut columns = self.args.iter().enumerate().filter(|(_, arg)| !is_literal(arg));
        let (Some((place, Bound { node: Node::Column(position), .. })), None) =
            (columns.next(), columns.next())
        else {
            return Ok(None);
        };
        let Some(array) = batch.columns.get(*position as usize) else { return Ok(None) };
        let Some(dictionary) = array.as_any_dictionary_opt().filter(|_| self.infallible) else {
            return Ok(None);
        };
        let values = dictionary.values().len();
        if values == 0 || values * 2 > batch.rows || dictionary.values().null_count() > 0 {
            return Ok(None);
        }
        let all = dictionary::values_and_null(dictionary)?;
        let mut args = Vec::with_capacity(self.args.len());
        for (i, arg) in self.args.iter().enumerate() {
            args.push(if i == place { Column::Array(all.clone()) } else { arg.evaluate(batch, events)? });
        }
        let results = (self.kernel)(&args, values + 1, events)?.into_array(values + 1);
        dictionary::at_rows(&results, dictionary).map(|column| Some(Column::Array(column)))
    }
}

impl Bound {
    /// A literal.
    pub fn literal(value: Scalar) -> Bound {
        Bound { kind: value.kind(), node: Node::Literal(value) }
    }

    /// A column.
    pub fn column(field: &Field) -> Bound {
        Bound { node: Node::Column(field.id), kind: field.kind.clone() }
    }

    /// Something that was reported as wrong already.
    pub fn unknown() -> Bound {
        Bound { node: Node::Literal(Scalar::Null), kind: Type::Unknown }
    }

    /// An expression that uses a value more than once: `body` is given what stands for the value. A column or a literal
    /// stands for itself.
    pub(crate) fn using(value: Bound, body: impl FnOnce(Bound) -> Bound) -> Bound {
        if matches!(value.node, Node::Column(_) | Node::Literal(_) | Node::Local(_)) {
            return body(value);
        }
        let body = body(Bound { node: Node::Local(0), kind: value.kind.clone() });
        let kind = body.kind.clone();
        Bound { node: Node::Let(Box::new(value), Box::new(body)), kind }
    }

    /// An expression that was made with a column standing for a value: the value is computed once, before it, where the
    /// column stands more than once. `None` where that might fail or count an event on rows that do not need the value.
    pub(crate) fn sharing(stand_in: ColumnId, value: &Bound, body: &Bound) -> Option<Bound> {
        let uses = body.uses(stand_in, true);
        if uses.count <= 1 {
            return Some(body.replaced(&|id| (id == stand_in).then(|| value.clone())));
        }
        if !uses.on_every_row && !value.is_infallible() {
            return None;
        }
        let local = |id: ColumnId, depth: usize| {
            (id == stand_in).then(|| Bound { node: Node::Local(depth), kind: value.kind.clone() })
        };
        let node = Node::Let(Box::new(value.clone()), Box::new(body.replaced_below(0, &local)));
        Some(Bound { node, kind: body.kind.clone() })
    }

    /// Where a column stands in an expression that is evaluated on every row, or on some of them only.
    fn uses(&self, column: ColumnId, on_every_row: bool) -> Uses {
        if let Node::Column(id) = self.node {
            let found = id == column;
            return Uses { count: usize::from(found), on_every_row: found && on_every_row };
        }
        let mut all = Uses::default();
        let mut first = true;
        let is_case = matches!(self.node, Node::Case(..));
        self.for_each_part(&mut |part| {
            // The first condition of a case is evaluated on every row, and what follows where it does not hold.
            let here = on_every_row && (first || !is_case);
            let uses = deep::guarded(|| part.uses(column, here));
            all = Uses { count: all.count + uses.count, on_every_row: all.on_every_row || uses.on_every_row };
            first = false;
        });
        all
    }

    /// The parts that it has, as far as `most`.
    pub(crate) fn parts(&self, most: usize) -> usize {
        let mut all = 1;
        self.for_each_part(&mut |part| {
            if all < most {
                all += deep::guarded(|| part.parts(most - all));
            }
        });
        all
    }

    /// The column that it is, if it is no more than one.
    pub fn as_column(&self) -> Option<ColumnId> {
        if let Node::Column(id) = self.node { Some(id) } else { None }
    }

    /// The value that it is, if it is no more than one.
    pub fn as_literal(&self) -> Option<&Scalar> {
        if let Node::Literal(value) = &self.node { Some(value) } else { None }
    }

    pub(crate) fn for_each_part(&self, f: &mut dyn FnMut(&Bound)) {
        match &self.node {
            Node::Column(_) | Node::Literal(_) | Node::Local(_) => {}
            Node::Call(call) => call.args.iter().for_each(f),
            Node::And(a, b) | Node::Or(a, b) | Node::Let(a, b) => {
                f(a);
                f(b);
            }
            Node::Case(arms, otherwise) => {
                for (condition, value) in arms {
                    f(condition);
                    f(value);
                }
                if let Some(value) = otherwise {
                    f(value);
                }
            }
        }
    }

    /// Adds the ids of all columns it uses.
    pub fn columns(&self, into: &mut Vec<ColumnId>) {
        if let Node::Column(id) = self.node
            && !into.contains(&id)
        {
            into.push(id);
        }
        self.for_each_part(&mut |part| deep::guarded(|| part.columns(into)));
    }

    /// Whether it can neither fail nor cause an event.
    pub fn is_infallible(&self) -> bool {
        let mut infallible = !matches!(&self.node, Node::Call(call) if !call.infallible);
        self.for_each_part(&mut |part| infallible &= deep::guarded(|| part.is_infallible()));
        infallible
    }

    /// Whether a null is written in it.
    pub fn has_null(&self) -> bool {
        let mut found = self.as_literal().is_some_and(Scalar::is_null);
        self.for_each_part(&mut |part| found |= deep::guarded(|| part.has_null()));
        found
    }

    /// The expression with columns replaced by what `with` says.
    pub fn replaced(&self, with: &dyn Fn(ColumnId) -> Option<Bound>) -> Bound {
        self.replaced_below(0, &|id, _| with(id))
    }

    /// As [`Bound::replaced`], for an expression that stands in the bodies of so many `Let`s.
    fn replaced_below(&self, lets: usize, with: &dyn Fn(ColumnId, usize) -> Option<Bound>) -> Bound {
        deep::guarded(|| self.replaced_within(lets, with))
    }

    fn replaced_within(&self, lets: usize, with: &dyn Fn(ColumnId, usize) -> Option<Bound>) -> Bound {
        let replaced = |x: &Bound| x.replaced_below(lets, with);
        let boxed = |x: &Bound| Box::new(replaced(x));
        let node = match &self.node {
            Node::Column(id) => match with(*id, lets) {
                Some(bound) => return bound,
                None => Node::Column(*id),
            },
            Node::Literal(value) => Node::Literal(value.clone()),
            Node::Call(call) => {
                Node::Call(Call { args: call.args.iter().map(replaced).collect(), ..call.clone() })
            }
            Node::And(a, b) => Node::And(boxed(a), boxed(b)),
            Node::Or(a, b) => Node::Or(boxed(a), boxed(b)),
            Node::Let(value, body) => Node::Let(boxed(value), Box::new(body.replaced_below(lets + 1, with))),
            Node::Local(depth) => Node::Local(*depth),
            Node::Case(arms, otherwise) => Node::Case(
                arms.iter().map(|(c, v)| (replaced(c), replaced(v))).collect(),
                otherwise.as_ref().map(|x| boxed(x)),
            ),
        };
        Bound { node, kind: self.kind.clone() }
    }

    /// The expression with column ids replaced by their positions in `layout`.
    pub fn placed(&self, layout: &[ColumnId]) -> Result<Bound> {
        let mut used = Vec::new();
        self.columns(&mut used);
        // From the end: what is used was mostly made not long before. Few are looked for one by one, so that a chain of
        // many steps, whose layouts grow, is not gone through at each of them.
        let positions: HashMap<ColumnId, ColumnId> = if used.len() <= FEW {
            let position = |id: &ColumnId| layout.iter().rposition(|other| other == id);
            used.iter().filter_map(|id| Some((*id, position(id)? as ColumnId))).collect()
        } else {
            layout.iter().enumerate().map(|(position, id)| (*id, position as ColumnId)).collect()
        };
        if let Some(lost) = used.iter().find(|id| !positions.contains_key(id)) {
            return Err(Error::new(ErrorKind::Internal, format!("The plan lost column {lost}.")));
        }
        Ok(self.replaced(&|id| {
            let position = positions.get(&id).copied()?;
            Some(Bound { node: Node::Column(position), kind: Type::Unknown })
        }))
    }

    /// Evaluates the placed expression over the rows of a batch.
    pub fn evaluate(&self, batch: &Batch, events: &mut Events) -> Result<Column> {
        self.evaluate_in(&Scope { batch: Cow::Borrowed(batch), locals: Vec::new() }, events)
    }

    fn evaluate_in(&self, scope: &Scope<'_>, events: &mut Events) -> Result<Column> {
        deep::guarded(|| self.evaluate_within(scope, events))
    }

    fn evaluate_within(&self, scope: &Scope<'_>, events: &mut Events) -> Result<Column> {
        let rows = scope.batch.rows;
        match &self.node {
            Node::Column(position) => match scope.batch.columns.get(*position as usize) {
                Some(array) => Ok(Column::Array(widen(array)?)),
                None => Err(Error::new(ErrorKind::Internal, format!("A batch lacks column {position}."))),
            },
            Node::Literal(value) => Ok(Column::Constant(value.clone(), self.kind.clone())),
            Node::Call(call) => {
                if let Some(column) = call.by_dictionary(&scope.batch, events)? {
                    return Ok(column);
                }
                let args = call
                    .args
                    .iter()
                    .map(|arg| arg.evaluate_in(scope, events))
                    .collect::<Result<Vec<Column>>>()?;
                (call.kernel)(&args, rows, events)
            }
            Node::And(a, b) => {
                let (a, b) = (a.evaluate_in(scope, events)?, b.evaluate_in(scope, events)?);
                Ok(logic::and(&a, &b, rows))
            }
            Node::Or(a, b) => {
                let (a, b) = (a.evaluate_in(scope, events)?, b.evaluate_in(scope, events)?);
                Ok(logic::or(&a, &b, rows))
            }
            Node::Case(arms, otherwise) => self.evaluate_case(arms, otherwise.as_deref(), scope, events),
            Node::Let(value, body) => {
                let value = value.evaluate_in(scope, events)?.into_array(rows);
                body.evaluate_in(&scope.with(value), events)
            }
            Node::Local(depth) => {
                let local = scope.locals.iter().rev().nth(*depth).cloned().map(Column::Array);
                local.ok_or_else(|| Error::new(ErrorKind::Internal, "A value that is used twice was lost."))
            }
        }
    }

    /// Evaluates to a full column.
    pub fn evaluate_array(&self, batch: &Batch, events: &mut Events) -> Result<ArrayRef> {
        Ok(self.evaluate(batch, events)?.into_array(batch.rows))
    }

    /// Evaluates to a full column for keys: a column of numbers into a dictionary stays one.
    pub fn evaluate_key(&self, batch: &Batch, events: &mut Events) -> Result<ArrayRef> {
        let carried = match &self.node {
            Node::Column(position) => batch.columns.get(*position as usize),
            _ => None,
        };
        match carried.filter(|array| array.as_any_dictionary_opt().is_some()) {
            Some(array) => Ok(array.clone()),
            None => self.evaluate_array(batch, events),
        }
    }

    fn evaluate_case(
        &self,
        arms: &[(Bound, Bound)],
        otherwise: Option<&Bound>,
        scope: &Scope<'_>,
        events: &mut Events,
    ) -> Result<Column> {
        let rows_in_all = scope.batch.rows;
        let last = Bound { node: Node::Literal(Scalar::Null), kind: self.kind.clone() };
        let values: Vec<&Bound> = arms.iter().map(|(_, v)| v).chain([otherwise.unwrap_or(&last)]).collect();
        // For each row, which value it takes; rows not yet decided are those at the last one.
        let undecided = arms.len();
        let mut choice = vec![undecided; rows_in_all];
        for (arm, (condition, _)) in arms.iter().enumerate() {
            let open: Vec<u32> = rows_where(&choice, undecided);
            if open.is_empty() {
                break;
            }
            let part = scope.part(&open)?;
            let truth = condition.evaluate_in(&part, events)?.bools(part.batch.rows);
            for (i, row) in open.iter().enumerate() {
                if truth.is_valid(i) && truth.value(i) {
                    set(&mut choice, *row, arm);
                }
            }
        }
        let mut sources: Vec<ArrayRef> = Vec::new();
        let mut places = vec![(0usize, 0usize); rows_in_all];
        for (arm, value) in values.iter().enumerate() {
            let rows = rows_where(&choice, arm);
            if rows.is_empty() {
                continue;
            }
            if rows.len() == rows_in_all {
                return value.evaluate_in(scope, events);
            }
            for (i, row) in rows.iter().enumerate() {
                set(&mut places, *row, (sources.len(), i));
            }
            let part = scope.part(&rows)?;
            sources.push(value.evaluate_in(&part, events)?.into_array(rows.len()));
        }
        if sources.is_empty() {
            return Ok(Column::Array(arrow_array::new_empty_array(&self.kind.arrow())));
        }
        let sources: Vec<&dyn Array> = sources.iter().map(AsRef::as_ref).collect();
        Ok(Column::Array(arrow_select::interleave::interleave(&sources, &places).map_err(arrow_error)?))
    }
}

fn set<T>(values: &mut [T], row: u32, value: T) {
    if let Some(slot) = values.get_mut(row as usize) {
        *slot = value;
    }
}

fn rows_where(choice: &[usize], arm: usize) -> Vec<u32> {
    choice.iter().enumerate().filter(|(_, c)| **c == arm).map(|(row, _)| row as u32).collect()
}

/// The expression in short, for the plan's picture and for debugging.
impl fmt::Debug for Bound {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.node {
            Node::Column(id) => write!(f, "#{id}"),
            Node::Literal(value) => write!(f, "{value}"),
            Node::Call(call) => {
                write!(f, "{}", call.name)?;
                f.debug_list().entries(&call.args).finish()
            }
            Node::And(a, b) => write!(f, "({a:?} and {b:?})"),
            Node::Or(a, b) => write!(f, "({a:?} or {b:?})"),
            Node::Case(arms, otherwise) => write!(f, "case {arms:?} else {otherwise:?}"),
            Node::Let(value, body) => write!(f, "let {value:?} in {body:?}"),
            Node::Local(depth) => write!(f, "it{depth}"),
        }
    }
}
