//! The checked expression and its evaluation over a batch.
//!
//! Columns are known by an id that is unique in a plan, so that rewrites can move an expression without
//! renumbering it; [`Bound::placed`] turns ids into positions once, before the run.

use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, BooleanArray, UInt32Array};
use arrow_schema::{ArrowError, DataType};
use churn_kernels::views;

use super::{Column, Events, Scalar, Type, dictionary, logic, widen};
use crate::deep;
use crate::error::{Error, ErrorKind, Result};

/// Columns that are looked for one by one.
const FEW: usize = 8;

/// A column's number, unique in a plan.
pub(crate) type ColumnId = u32;

/// A column of a relation.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Field {
    pub(crate) id: ColumnId,
    pub(crate) name: String,
    /// How the values are carried; may be narrower than the language's type.
    pub(crate) data: DataType,
    /// The language's type; `Unknown` after a mistake.
    pub(crate) kind: Type,
}

impl Field {
    /// A computed column, carried as its type is.
    pub(crate) fn new(id: ColumnId, name: impl Into<String>, kind: Type) -> Field {
        Field { id, name: name.into(), data: kind.arrow(), kind }
    }
}

/// Columns of equal length.
#[derive(Clone, Debug)]
pub(crate) struct Batch {
    pub(crate) columns: Vec<ArrayRef>,
    pub(crate) rows: usize,
}

impl Batch {
    /// The rows where `keep` is set.
    pub(crate) fn filter(&self, keep: &BooleanArray) -> Result<Batch> {
        let predicate = arrow_select::filter::FilterBuilder::new(keep).optimize().build();
        let columns =
            self.columns.iter().map(|c| predicate.filter(c)).collect::<Result<_, _>>().map_err(arrow)?;
        Ok(Batch { columns, rows: predicate.count() })
    }

    /// A part of the rows, without a copy.
    pub(crate) fn slice(&self, from: usize, rows: usize) -> Batch {
        Batch { columns: self.columns.iter().map(|c| c.slice(from, rows)).collect(), rows }
    }

    /// The rows at these indices.
    pub(crate) fn take(&self, indices: &UInt32Array) -> Result<Batch> {
        let columns = self
            .columns
            .iter()
            .map(|c| arrow_select::take::take(c, indices, None))
            .collect::<Result<_, _>>()
            .map_err(arrow)?;
        Ok(Batch { columns, rows: indices.len() })
    }

    /// Bytes that the batch keeps alive; of a part of a larger one, its share.
    pub(crate) fn memory(&self) -> usize {
        self.columns.iter().map(memory).sum()
    }

    /// The batch with its texts copied out where a few of them would hold a whole block.
    pub(crate) fn compacted(self) -> Batch {
        let compact = |column: ArrayRef| match column.as_string_view_opt().and_then(views::compact) {
            Some(small) => Arc::new(small) as ArrayRef,
            None => column,
        };
        Batch { columns: self.columns.into_iter().map(compact).collect(), rows: self.rows }
    }
}

/// Bytes that a column keeps alive. Parts of one column hold it together: each counts with what it shows of it.
fn memory(column: &ArrayRef) -> usize {
    let whole = column.get_buffer_memory_size();
    let rows = column.len();
    let shown = if let Some(list) = column.as_list_opt::<i32>() {
        let offsets = list.value_offsets();
        let values = offsets.last().zip(offsets.first()).map_or(0, |(last, first)| (last - first) as usize);
        rows * 5 + memory(list.values()) / list.values().len().max(1) * values
    } else if let Some(texts) = column.as_string_view_opt() {
        rows * 17 + texts.data_buffers().iter().map(arrow_buffer::Buffer::len).sum::<usize>()
    } else {
        column.data_type().primitive_width().map_or(whole, |width| rows * (width + 1))
    };
    // Room to spare is no larger part.
    if whole > shown * 2 { shown } else { whole }
}

/// The values of a column at some places; null where a place is.
pub(crate) fn taken(column: &ArrayRef, places: &dyn Array) -> Result<ArrayRef> {
    arrow_select::take::take(column, places, None).map_err(arrow)
}

/// Turns an error of the Arrow crates, which only a fault of ours can cause, into ours.
pub(crate) fn arrow(error: ArrowError) -> Error {
    Error::new(ErrorKind::Internal, format!("A column could not be rearranged: {error}."))
}

/// Computes a function's column from its arguments'.
pub(crate) type Kernel = Arc<dyn Fn(&[Column], usize, &mut Events) -> Result<Column> + Send + Sync>;

/// A checked expression.
#[derive(Clone)]
pub(crate) struct Bound {
    pub(crate) node: Node,
    pub(crate) kind: Type,
}

/// The forms of a checked expression.
#[derive(Clone)]
pub(crate) enum Node {
    /// A column, by its id; after [`Bound::placed`] by its position.
    Column(ColumnId),
    Literal(Scalar),
    /// A function or an operator.
    Call(Call),
    And(Box<Bound>, Box<Bound>),
    Or(Box<Bound>, Box<Bound>),
    /// The first arm whose condition is true; each value is computed for its own rows only.
    Case(Vec<(Bound, Bound)>, Option<Box<Bound>>),
    /// A value that the body uses more than once, computed once; then the body.
    Let(Box<Bound>, Box<Bound>),
    /// The value of a `Let` around it: of the innermost one for 0, of the next one for 1.
    Local(usize),
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
pub(crate) struct Call {
    pub(crate) name: &'static str,
    pub(crate) args: Vec<Bound>,
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
    pub(crate) fn literal(value: Scalar) -> Bound {
        Bound { kind: value.kind(), node: Node::Literal(value) }
    }

    pub(crate) fn column(field: &Field) -> Bound {
        Bound { node: Node::Column(field.id), kind: field.kind.clone() }
    }

    /// Something that was reported as wrong already.
    pub(crate) fn unknown() -> Bound {
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

    pub(crate) fn as_column(&self) -> Option<ColumnId> {
        if let Node::Column(id) = self.node { Some(id) } else { None }
    }

    pub(crate) fn as_literal(&self) -> Option<&Scalar> {
        if let Node::Literal(value) = &self.node { Some(value) } else { None }
    }

    fn for_each_part(&self, f: &mut dyn FnMut(&Bound)) {
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
    pub(crate) fn columns(&self, into: &mut Vec<ColumnId>) {
        if let Node::Column(id) = self.node
            && !into.contains(&id)
        {
            into.push(id);
        }
        self.for_each_part(&mut |part| deep::guarded(|| part.columns(into)));
    }

    /// Whether it can neither fail nor cause an event.
    pub(crate) fn is_infallible(&self) -> bool {
        let mut infallible = !matches!(&self.node, Node::Call(call) if !call.infallible);
        self.for_each_part(&mut |part| infallible &= deep::guarded(|| part.is_infallible()));
        infallible
    }

    /// Whether a null is written in it.
    pub(crate) fn has_null(&self) -> bool {
        let mut found = self.as_literal().is_some_and(Scalar::is_null);
        self.for_each_part(&mut |part| found |= deep::guarded(|| part.has_null()));
        found
    }

    /// The expression with columns replaced by what `with` says.
    pub(crate) fn replaced(&self, with: &dyn Fn(ColumnId) -> Option<Bound>) -> Bound {
        deep::guarded(|| self.replaced_within(with))
    }

    fn replaced_within(&self, with: &dyn Fn(ColumnId) -> Option<Bound>) -> Bound {
        let boxed = |x: &Bound| Box::new(x.replaced(with));
        let node = match &self.node {
            Node::Column(id) => match with(*id) {
                Some(bound) => return bound,
                None => Node::Column(*id),
            },
            Node::Literal(value) => Node::Literal(value.clone()),
            Node::Call(call) => Node::Call(Call {
                args: call.args.iter().map(|x| x.replaced(with)).collect(),
                ..call.clone()
            }),
            Node::And(a, b) => Node::And(boxed(a), boxed(b)),
            Node::Or(a, b) => Node::Or(boxed(a), boxed(b)),
            Node::Let(value, body) => Node::Let(boxed(value), boxed(body)),
            Node::Local(depth) => Node::Local(*depth),
            Node::Case(arms, otherwise) => Node::Case(
                arms.iter().map(|(c, v)| (c.replaced(with), v.replaced(with))).collect(),
                otherwise.as_ref().map(|x| boxed(x)),
            ),
        };
        Bound { node, kind: self.kind.clone() }
    }

    /// The expression with column ids replaced by their positions in `layout`.
    pub(crate) fn placed(&self, layout: &[ColumnId]) -> Result<Bound> {
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
    pub(crate) fn evaluate(&self, batch: &Batch, events: &mut Events) -> Result<Column> {
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
    pub(crate) fn evaluate_array(&self, batch: &Batch, events: &mut Events) -> Result<ArrayRef> {
        Ok(self.evaluate(batch, events)?.into_array(batch.rows))
    }

    /// Evaluates to a full column for keys: a column of numbers into a dictionary stays one.
    pub(crate) fn evaluate_key(&self, batch: &Batch, events: &mut Events) -> Result<ArrayRef> {
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
        Ok(Column::Array(arrow_select::interleave::interleave(&sources, &places).map_err(arrow)?))
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
