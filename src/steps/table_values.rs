//! Tables of the recipe in the expressions of a step: they run for `$NAME.column`, and are joined for `x in NAME`.

use churn_core::names::name;
use churn_core::readable::plural;
use churn_core::{Error, ErrorKind, Field, JoinKind, Result, Scalar, Span, Type};
use churn_expr::ast::Expr;
use churn_expr::bind::MemberOf;
use churn_expr::expand::TableShape;
use churn_expr::{Bound, cast};
use churn_io::source::{Source, first_row};
use churn_plan::operators::{Compute, Group, Join, KeyPair, PrefilterTests, Scan};
use churn_plan::{Found, Node, Plan, Relation, StepInfo, Wanted};

use super::read::relation;
use super::read_table::ReadTable;
use super::{Check, Checker, DeclaredTable};

/// The step of operators whose rows are not counted.
const UNCOUNTED: usize = usize::MAX;

/// Declares a table, which later steps and expressions may use: its rows if its chain holds no mistake, the tables that
/// it needs, and whether it writes or requires something.
pub(crate) fn declare(
    name: &str,
    relation: Option<Relation>,
    needs: Vec<usize>,
    acts: bool,
    checker: &mut Checker<'_>,
) {
    let fields = relation.as_ref().map(|relation| relation.fields.clone());
    checker.environment.tables.insert(name.to_owned(), TableShape { fields, values: None });
    let number = checker.table_number();
    let name = name.to_owned();
    checker.tables.push(DeclaredTable { name, number, relation, needs, is_used: false, acts });
}

/// Runs the tables whose values an expression takes, each once; what is wrong with them is noted. Where nothing may run,
/// it is noted that values are lacking.
pub(super) fn find(expr: &Expr, checker: &mut Checker<'_>) {
    let mut wanted = Vec::new();
    checker.environment.table_values(expr, &mut wanted);
    for (table, column, span) in wanted {
        let Some(index) = declared(&table, checker) else { continue };
        let is_found = checker.environment.tables.get(&table).is_some_and(|shape| shape.values.is_some());
        if !checker.used.contains(&index) {
            checker.used.push(index);
        }
        if checker.find.is_none() {
            checker.lacks_values = true;
            let relation = checker.tables.get(index).and_then(|table| table.relation.clone());
            checker.others.extend(relation);
        } else if !is_found && !checker.has_errors() {
            let result = find_values(index, span, checker);
            checker.kept(result);
        }
        tell(&table, &column, checker);
    }
}

/// The place of a table among those that are declared. One of a user's own is declared when its value is first taken.
fn declared(table: &str, checker: &mut Checker<'_>) -> Option<usize> {
    if let Some(index) = checker.tables.iter().position(|known| known.name == table) {
        return Some(index);
    }
    let source = checker.catalogue.table(table).cloned()?;
    let relation = relation(source, None, checker);
    declare(table, Some(relation), Vec::new(), false, checker);
    Some(checker.tables.len() - 1)
}

/// Lets expressions know the tables of a user's own, where the recipe has declared none of their names.
pub(crate) fn know_own_tables(checker: &mut Checker<'_>) {
    let catalogue = checker.catalogue.clone();
    for table in catalogue.table_names() {
        let Some(source) = catalogue.table(table).filter(|_| !checker.environment.tables.contains_key(table))
        else {
            continue;
        };
        let mut fields = Vec::new();
        for column in source.columns() {
            let kind = Type::of(&column.data).unwrap_or(Type::Unknown);
            fields.push(Field::new(checker.ids.fresh(), &column.name, kind));
        }
        let shape = TableShape { fields: Some(fields), values: None };
        checker.environment.tables.insert(table.to_owned(), shape);
    }
}

/// Whether an expression needs a value that only a run can find, where nothing may run.
pub(super) fn is_unknown(expr: &Expr, checker: &Checker<'_>) -> bool {
    let mut wanted = Vec::new();
    checker.environment.table_values(expr, &mut wanted);
    let is_declared = |table: &String| checker.environment.tables.contains_key(table);
    checker.find.is_none() && wanted.iter().any(|(table, _, _)| is_declared(table))
}

/// Notes the value of a table's column, once.
fn tell(table: &str, column: &str, checker: &mut Checker<'_>) {
    let Some(TableShape { fields: Some(fields), values: Some(values) }) =
        checker.environment.tables.get(table)
    else {
        return;
    };
    let value = fields.iter().zip(values).find(|(field, _)| field.name == column);
    let note = value.map(|(field, value)| format!("${table}.{} is {value}.", name(&field.name)));
    if let Some(note) = note.filter(|note| !checker.notes.contains(note)) {
        checker.notes.push(note);
    }
}

/// Runs a table for the values of its only row. From then on its rows are those that were found.
fn find_values(index: usize, span: Span, checker: &mut Checker<'_>) -> Result<()> {
    let (Some(find), Some(table)) = (checker.find, checker.tables.get(index).cloned()) else { return Ok(()) };
    let Some(relation) = table.relation else { return Ok(()) };
    if table.acts && table.is_used {
        let what =
            format!("The table {} writes or requires something, and would run twice.", name(&table.name));
        let error = Error::new(ErrorKind::Check, what).at(&checker.source, span);
        return Err(error.next("Take its value before its rows are used, or do that in a table of its own."));
    }
    let mut steps = checker.steps.clone();
    steps.push(StepInfo::new(format!("${}", table.name)));
    let wanted = Wanted { columns: Vec::new(), except: None, most: 1 };
    let place = checker.source.clone();
    let placed = |e: Error| if e.place().is_some() { e } else { e.at(&place, span) };
    let Found { source, counted, ran, .. } =
        find(Plan::of(relation.clone(), steps), &wanted).map_err(placed)?;
    checker.counted.merge(&counted);
    checker.ran.push(ran);
    let values = only_row(&*source, &table.name).map_err(placed)?;
    if let Some(shape) = checker.environment.tables.get_mut(&table.name) {
        shape.values = Some(values);
    }
    let columns = relation.fields.iter().cloned().enumerate().collect();
    let scan = Scan { source, columns, conditions: Vec::new(), limit: None, rejects: None };
    if let Some(table) = checker.tables.get_mut(index) {
        table.relation = Some(Relation { node: Node::source(scan, UNCOUNTED), fields: relation.fields });
    }
    Ok(())
}

/// The values of a table that has one row.
fn only_row(source: &dyn Source, table: &str) -> Result<Vec<Scalar>> {
    let rows = source.about().rows.unwrap_or(0);
    if rows != 1 {
        let rows = if rows == 0 { "no rows".to_owned() } else { plural(rows, "row") };
        let what = format!("The table {} has {rows}, and its value is taken: it must have one.", name(table));
        let error = Error::new(ErrorKind::Data, what);
        return Err(
            error.next("End its chain with total, or with sort and first 1; or write x in NAME for many.")
        );
    }
    let lost = || Error::new(ErrorKind::Internal, "A table of one row gave none.");
    first_row(source)?.ok_or_else(lost)
}

/// The rows with a column that says whether a value is in a table: those of its values that are there once each,
/// joined from the left.
pub(super) fn with_member(input: Relation, member: MemberOf, checker: &mut Checker<'_>) -> Relation {
    let MemberOf { value, table: (table, span), found } = member;
    let Some(other) = ReadTable(table.clone(), span.into()).check(None, checker) else { return input };
    let Some(field) = other.fields.first().cloned() else { return input };
    let Some(of_other) = cast::silently(Bound::column(&field), &value.kind) else { return input };
    let key = Field::new(checker.ids.fresh(), &field.name, value.kind.clone());
    let group = Group { keys: vec![(key.clone(), of_other)], calls: Vec::new(), unread: Vec::new() };
    let mark = (found.clone(), Bound::literal(Scalar::Bool(true)));
    let node = other.node.over(group, UNCOUNTED).over(Compute { columns: vec![mark] }, UNCOUNTED);
    let kind = value.kind.clone();
    let keys = vec![KeyPair { left: value, other: Bound::column(&key), kind, text: field.name }];
    let join = Join {
        kind: JoinKind::Left,
        asof: false,
        prefilter: PrefilterTests::default(),
        other: Box::new(node),
        other_name: name(&table),
        keys,
        tests: Vec::new(),
        added: vec![found],
        merged: Vec::new(),
        unread: Vec::new(),
        expect_one: false,
        expect_all: false,
    };
    input.then(join, UNCOUNTED)
}
