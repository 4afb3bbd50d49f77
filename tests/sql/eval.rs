//! An evaluator of queries, row by row over plain vectors: sub-queries are asked anew for each row, joins are nested loops.
//!
//! It shares nothing with the translation but the parser.

use std::cmp::Ordering;

use sqlparser::ast::{
    Distinct, Expr, Fetch, GroupByExpr, Ident, Join, JoinConstraint, JoinOperator, LimitClause, OrderByExpr,
    OrderByKind, OrderBySort, Query, Select, SelectItem, SetExpr, SetOperator, SetQuantifier, TableFactor,
    TableWithJoins, Value,
};

use crate::tables::{self, Data};
use crate::value::V;

/// A cell with its names.
#[derive(Clone, Debug)]
pub struct Cell {
    /// The tables by which it may be named; none of a column that two tables share.
    pub tables: Vec<String>,
    pub name: String,
    pub value: V,
    /// Whether it stands in `*` and may be named alone.
    pub shown: bool,
}

pub type Row = Vec<Cell>;

/// Where an expression is worked out.
pub struct Context<'c> {
    pub world: &'c World<'c>,
    /// The row, or the first row of the group.
    pub row: &'c Row,
    /// The rows of the group, where there are groups.
    pub group: Option<&'c [Row]>,
    /// Keys that the set of this group leaves out.
    pub left_out: &'c [Expr],
    /// All rows after grouping and the place of this one, where windows are worked out.
    pub windows: Option<(&'c [Grouped], usize, &'c Select)>,
}

/// A row of the result before `select`: a row, or a group of rows.
pub struct Grouped {
    pub row: Row,
    pub group: Option<Vec<Row>>,
    pub left_out: Vec<Expr>,
}

/// Names around a query: tables of `with`, and the row of the query outside.
#[derive(Clone, Default)]
pub struct World<'w> {
    pub with: Vec<(String, Data)>,
    pub outer: Option<(&'w World<'w>, &'w Row)>,
}

pub fn query(query: &Query, world: &World<'_>) -> Data {
    let mut world = world.clone();
    for cte in query.with.iter().flat_map(|with| &with.cte_tables) {
        let mut data = self::query(&cte.query, &world);
        renamed(&mut data, &cte.alias.columns.iter().map(|c| c.name.value.clone()).collect::<Vec<_>>());
        world.with.push((cte.alias.name.value.clone(), data));
    }
    let keys: &[OrderByExpr] = match query.order_by.as_ref().map(|order| &order.kind) {
        Some(OrderByKind::Expressions(keys)) => keys,
        _ => &[],
    };
    let mut data = match &*query.body {
        SetExpr::Select(select) => self::select(select, keys, &world),
        body => ordered(set(body, &world), keys, &world),
    };
    let number = |expr: &Expr| match expr {
        Expr::Value(value) => match &value.value {
            Value::Number(digits, _) => digits.parse::<usize>().unwrap(),
            other => panic!("{other} is no number of rows"),
        },
        other => panic!("{other} is no number of rows"),
    };
    let (mut most, mut after) = (usize::MAX, 0);
    if let Some(LimitClause::LimitOffset { limit, offset, .. }) = &query.limit_clause {
        most = limit.as_ref().map_or(most, number);
        after = offset.as_ref().map_or(0, |offset| number(&offset.value));
    }
    if let Some(Fetch { quantity, .. }) = &query.fetch {
        most = quantity.as_ref().map_or(1, number);
    }
    data.rows = data.rows.into_iter().skip(after).take(most).collect();
    data
}

fn renamed(data: &mut Data, names: &[String]) {
    data.names.iter_mut().zip(names).for_each(|(old, new)| new.clone_into(old));
}

fn set(body: &SetExpr, world: &World<'_>) -> Data {
    match body {
        SetExpr::Select(select) => self::select(select, &[], world),
        SetExpr::Query(query) => self::query(query, world),
        SetExpr::Values(values) => {
            let context = Context { world, row: &Vec::new(), group: None, left_out: &[], windows: None };
            let rows: Vec<Vec<V>> = values
                .rows
                .iter()
                .map(|row| row.content.iter().map(|x| context.value(x)).collect())
                .collect();
            let names = (1..=rows[0].len()).map(|n| format!("column_{n}")).collect();
            Data { names, rows }
        }
        SetExpr::SetOperation { left, op, set_quantifier, right } => {
            let (a, b) = (set(left, world), set(right, world));
            let all = *set_quantifier == SetQuantifier::All;
            let rows = match op {
                SetOperator::Union => a.rows.into_iter().chain(b.rows).collect(),
                SetOperator::Intersect | SetOperator::Except => {
                    let mut others = b.rows;
                    let in_both = *op == SetOperator::Intersect;
                    a.rows
                        .into_iter()
                        .filter(|row| {
                            let found = others.iter().position(|other| is_same(row, other));
                            if let (Some(found), true) = (found, all) {
                                others.remove(found);
                            }
                            found.is_some() == in_both
                        })
                        .collect()
                }
                other => panic!("{other}"),
            };
            Data { names: a.names, rows: if all { rows } else { distinct(rows) } }
        }
        other => panic!("{other}"),
    }
}

pub fn is_same(a: &[V], b: &[V]) -> bool {
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.is_same(b))
}

fn distinct(rows: Vec<Vec<V>>) -> Vec<Vec<V>> {
    let mut kept: Vec<Vec<V>> = Vec::new();
    for row in rows {
        if !kept.iter().any(|other| is_same(&row, other)) {
            kept.push(row);
        }
    }
    kept
}

/// Orders a set of rows by its own columns.
fn ordered(data: Data, keys: &[OrderByExpr], world: &World<'_>) -> Data {
    let Data { names, rows } = data;
    let keyed = rows.into_iter().map(|row| {
        let cells = names.iter().zip(&row).map(|(name, value)| Cell {
            tables: Vec::new(),
            name: name.clone(),
            value: value.clone(),
            shown: true,
        });
        let cells: Row = cells.collect();
        let context = Context { world, row: &cells, group: None, left_out: &[], windows: None };
        let of_keys = keys.iter().map(|key| context.key(&key.expr, &names, &row)).collect();
        (of_keys, row)
    });
    Data { rows: sorted(keyed.collect(), keys), names: names.clone() }
}

fn sorted(mut keyed: Vec<(Vec<V>, Vec<V>)>, keys: &[OrderByExpr]) -> Vec<Vec<V>> {
    keyed.sort_by(|(a, _), (b, _)| compared(a, b, keys));
    keyed.into_iter().map(|(_, row)| row).collect()
}

pub fn compared(a: &[V], b: &[V], keys: &[OrderByExpr]) -> Ordering {
    let each = a.iter().zip(b).zip(keys).map(|((a, b), key)| {
        let descending = matches!(key.options.sort, Some(OrderBySort::Desc));
        a.sorted(b, descending, key.options.nulls_first.unwrap_or(false))
    });
    each.fold(Ordering::Equal, Ordering::then)
}

fn select(select: &Select, keys: &[OrderByExpr], world: &World<'_>) -> Data {
    let mut rows = from(&select.from, world);
    if let Some(condition) = &select.selection {
        rows.retain(|row| {
            let context = Context { world, row, group: None, left_out: &[], windows: None };
            context.value(condition).truth() == Some(true)
        });
    }
    let heading = from_nothing(&select.from, world);
    let grouped = groups(select, keys, rows, world);
    let kept: Vec<Grouped> = grouped
        .into_iter()
        .filter(|one| match &select.having {
            Some(having) => context(one, world).value(having).truth() == Some(true),
            None => true,
        })
        .collect();
    let names = names(select, &heading);
    let mut out = Vec::new();
    for (i, one) in kept.iter().enumerate() {
        let context = Context { windows: Some((&kept, i, select)), ..context(one, world) };
        let row = context.selected(select);
        let of_keys: Vec<V> = keys.iter().map(|key| context.key(&key.expr, &names, &row)).collect();
        out.push((of_keys, row));
    }
    if matches!(select.distinct, Some(Distinct::Distinct)) {
        let mut once: Vec<(Vec<V>, Vec<V>)> = Vec::new();
        for one in out {
            if !once.iter().any(|(_, row)| is_same(row, &one.1)) {
                once.push(one);
            }
        }
        out = once;
    }
    Data { names, rows: sorted(out, keys) }
}

fn context<'c>(one: &'c Grouped, world: &'c World<'c>) -> Context<'c> {
    Context { world, row: &one.row, group: one.group.as_deref(), left_out: &one.left_out, windows: None }
}

/// The groups of a query, or its rows where it has none.
fn groups(select: &Select, keys: &[OrderByExpr], rows: Vec<Row>, world: &World<'_>) -> Vec<Grouped> {
    let GroupByExpr::Expressions(written, _) = &select.group_by else { panic!("group by all") };
    let selected = select.projection.iter().filter_map(|item| match item {
        SelectItem::UnnamedExpr(x) | SelectItem::ExprWithAlias { expr: x, .. } => Some(x),
        _ => None,
    });
    let has_aggregate = selected.chain(keys.iter().map(|key| &key.expr)).any(crate::calls::has_aggregate);
    if written.is_empty() && select.having.is_none() && !has_aggregate {
        return rows.into_iter().map(|row| Grouped { row, group: None, left_out: Vec::new() }).collect();
    }
    let mut sets: Vec<Vec<Expr>> = vec![Vec::new()];
    for expr in written {
        let own: Vec<Vec<Expr>> = match expr {
            Expr::GroupingSets(sets) => sets.clone(),
            Expr::Rollup(parts) => (0..=parts.len()).rev().map(|n| parts[..n].concat()).collect(),
            Expr::Cube(parts) => (0..1usize << parts.len())
                .map(|mask| {
                    (0..parts.len()).filter(|i| mask & (1 << i) != 0).flat_map(|i| parts[i].clone()).collect()
                })
                .collect(),
            Expr::Tuple(parts) => vec![parts.clone()],
            other => vec![vec![resolved(other, select)]],
        };
        sets = sets
            .iter()
            .flat_map(|set| own.iter().map(move |more| [set.clone(), more.clone()].concat()))
            .collect();
    }
    let every: Vec<Expr> = sets.concat();
    let mut found = Vec::new();
    for set in sets {
        let left_out: Vec<Expr> = every.iter().filter(|key| !set.contains(key)).cloned().collect();
        let mut of_set: Vec<(Vec<V>, Vec<Row>)> = Vec::new();
        for row in &rows {
            let context = Context { world, row, group: None, left_out: &[], windows: None };
            let key: Vec<V> = set.iter().map(|key| context.value(key)).collect();
            match of_set.iter_mut().find(|(other, _)| is_same(&key, other)) {
                Some((_, group)) => group.push(row.clone()),
                None => of_set.push((key, vec![row.clone()])),
            }
        }
        if set.is_empty() && of_set.is_empty() {
            of_set.push((Vec::new(), Vec::new()));
        }
        found.extend(of_set.into_iter().map(|(_, group)| Grouped {
            row: group.first().cloned().unwrap_or_default(),
            group: Some(group),
            left_out: left_out.clone(),
        }));
    }
    found
}

/// A key of `group by` that is the name or the position of what is selected.
fn resolved(key: &Expr, select: &Select) -> Expr {
    let of = |item: &SelectItem| match item {
        SelectItem::UnnamedExpr(x) | SelectItem::ExprWithAlias { expr: x, .. } => x.clone(),
        other => panic!("{other} as a key"),
    };
    match key {
        Expr::Value(value) => match &value.value {
            Value::Number(digits, _) => of(&select.projection[digits.parse::<usize>().unwrap() - 1]),
            _ => key.clone(),
        },
        Expr::Identifier(name) => {
            let alias = |item: &&SelectItem| matches!(item, SelectItem::ExprWithAlias { alias, .. } if alias.value == name.value && alias.value.ends_with("_key"));
            select.projection.iter().find(alias).map_or_else(|| key.clone(), of)
        }
        _ => key.clone(),
    }
}

/// The names of what a query selects; other ones than the engine's where it makes them up.
fn names(select: &Select, heading: &Row) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for item in &select.projection {
        match item {
            SelectItem::UnnamedExpr(Expr::Identifier(name)) => names.push(name.value.clone()),
            SelectItem::UnnamedExpr(Expr::CompoundIdentifier(parts)) => names.push(parts[1].value.clone()),
            SelectItem::UnnamedExpr(_) => names.push(String::new()),
            SelectItem::ExprWithAlias { alias, .. } => names.push(alias.value.clone()),
            SelectItem::Wildcard(_) => {
                names.extend(heading.iter().filter(|cell| cell.shown).map(|cell| cell.name.clone()));
            }
            SelectItem::QualifiedWildcard(kind, _) => {
                let table = kind.to_string().trim_end_matches(".*").to_owned();
                names.extend(
                    heading.iter().filter(|cell| cell.tables.contains(&table)).map(|cell| cell.name.clone()),
                );
            }
            other => panic!("{other}"),
        }
    }
    names
}

impl Context<'_> {
    /// What is selected of a row.
    fn selected(&self, select: &Select) -> Vec<V> {
        let mut out = Vec::new();
        for item in &select.projection {
            match item {
                SelectItem::UnnamedExpr(x) | SelectItem::ExprWithAlias { expr: x, .. } => {
                    out.push(self.value(x))
                }
                SelectItem::Wildcard(_) => {
                    out.extend(self.row.iter().filter(|cell| cell.shown).map(|cell| cell.value.clone()));
                }
                SelectItem::QualifiedWildcard(kind, _) => {
                    let table = kind.to_string().trim_end_matches(".*").to_owned();
                    let of_it = self.row.iter().filter(|cell| cell.tables.contains(&table));
                    out.extend(of_it.map(|cell| cell.value.clone()));
                }
                other => panic!("{other}"),
            }
        }
        out
    }

    /// The value of a key of an order: a position, a name of what is selected, or an expression.
    fn key(&self, key: &Expr, names: &[String], row: &[V]) -> V {
        match key {
            Expr::Value(value) => match &value.value {
                Value::Number(digits, _) => row[digits.parse::<usize>().unwrap() - 1].clone(),
                _ => self.value(key),
            },
            Expr::Identifier(name) => match names.iter().position(|n| *n == name.value) {
                Some(i) => row[i].clone(),
                None => self.value(key),
            },
            _ => self.value(key),
        }
    }

    /// The cell of a name; of the query around where there is none here.
    pub fn named(&self, table: Option<&Ident>, name: &Ident) -> V {
        let fits = |cell: &&Cell| {
            cell.name.eq_ignore_ascii_case(&name.value)
                && match table {
                    Some(table) => cell.tables.iter().any(|t| t.eq_ignore_ascii_case(&table.value)),
                    None => cell.shown,
                }
        };
        if let Some(cell) = self.row.iter().find(fits) {
            return cell.value.clone();
        }
        let Some((world, row)) = self.world.outer else {
            // The group of a table without rows.
            assert!(self.group.is_some_and(<[Row]>::is_empty), "there is no column {name}");
            return V::Null;
        };
        Context { world, row, group: None, left_out: &[], windows: None }.named(table, name)
    }

    /// The answer of a sub-query for this row.
    pub fn ask(&self, sub: &Query) -> Data {
        let world = World { with: self.world.with.clone(), outer: Some((self.world, self.row)) };
        query(sub, &world)
    }
}

fn from(tables: &[TableWithJoins], world: &World<'_>) -> Vec<Row> {
    let mut rows: Vec<Row> = vec![Vec::new()];
    for table in tables {
        let right = joined(table, world).0;
        rows = rows.iter().flat_map(|a| right.iter().map(move |b| [a.clone(), b.clone()].concat())).collect();
    }
    rows
}

/// The cells of `from` with nulls: their names.
fn from_nothing(tables: &[TableWithJoins], world: &World<'_>) -> Row {
    tables.iter().flat_map(|table| joined(table, world).1).collect()
}

/// The rows of joined tables, and a row of nulls.
fn joined(tables: &TableWithJoins, world: &World<'_>) -> (Vec<Row>, Row) {
    let mut left = factor(&tables.relation, world);
    for Join { relation, join_operator, .. } in &tables.joins {
        left = join(left, factor(relation, world), join_operator, world);
    }
    left
}

fn join(
    (left, no_left): (Vec<Row>, Row),
    (right, no_right): (Vec<Row>, Row),
    op: &JoinOperator,
    world: &World<'_>,
) -> (Vec<Row>, Row) {
    let (constraint, keeps_left, keeps_right) = match op {
        JoinOperator::Join(c) | JoinOperator::Inner(c) | JoinOperator::CrossJoin(c) => (c, false, false),
        JoinOperator::Left(c) | JoinOperator::LeftOuter(c) => (c, true, false),
        JoinOperator::Right(c) | JoinOperator::RightOuter(c) => (c, false, true),
        JoinOperator::FullOuter(c) => (c, true, true),
        other => panic!("{other:?}"),
    };
    let shared: Vec<String> = match constraint {
        JoinConstraint::Using(names) => names.iter().map(ToString::to_string).collect(),
        JoinConstraint::Natural => {
            let has = |row: &Row, name: &str| row.iter().any(|cell| cell.shown && cell.name == name);
            no_left.iter().filter(|c| c.shown && has(&no_right, &c.name)).map(|c| c.name.clone()).collect()
        }
        _ => Vec::new(),
    };
    let of = |row: &Row, name: &str| row.iter().find(|c| c.shown && c.name == name).unwrap().value.clone();
    let matches = |a: &Row, b: &Row| match constraint {
        JoinConstraint::On(condition) => {
            let both = [a.clone(), b.clone()].concat();
            let context = Context { world, row: &both, group: None, left_out: &[], windows: None };
            context.value(condition).truth() == Some(true)
        }
        _ => shared.iter().all(|name| {
            let (a, b) = (of(a, name), of(b, name));
            !a.is_null() && !b.is_null() && a.is_same(&b)
        }),
    };
    // The shared columns first, then those of both sides, of which the shared ones are named with their table alone.
    let merged = |a: &Row, b: &Row| -> Row {
        let first = shared.iter().map(|name| {
            let value = if of(a, name).is_null() { of(b, name) } else { of(a, name) };
            Cell { tables: Vec::new(), name: name.clone(), value, shown: true }
        });
        let hidden = |cell: &Cell| Cell { shown: cell.shown && !shared.contains(&cell.name), ..cell.clone() };
        first.chain(a.iter().chain(b).map(hidden)).collect()
    };
    let mut rows = Vec::new();
    let mut matched = vec![false; right.len()];
    for a in &left {
        let mut found = false;
        for (b, matched) in right.iter().zip(&mut matched) {
            if matches(a, b) {
                (found, *matched) = (true, true);
                rows.push(merged(a, b));
            }
        }
        if keeps_left && !found {
            rows.push(merged(a, &no_right));
        }
    }
    if keeps_right {
        rows.extend(
            right.iter().zip(matched).filter(|(_, matched)| !matched).map(|(b, _)| merged(&no_left, b)),
        );
    }
    (rows, merged(&no_left, &no_right))
}

fn factor(factor: &TableFactor, world: &World<'_>) -> (Vec<Row>, Row) {
    let (mut data, alias, own) = match factor {
        TableFactor::Table { name, alias, .. } => {
            let name = name.to_string().trim_matches('"').to_lowercase();
            let with = world.with.iter().rev().find(|(known, _)| *known == name);
            let data = with.map(|(_, data)| data.clone()).or_else(|| tables::data(&name));
            (data.unwrap_or_else(|| panic!("there is no table {name}")), alias, name)
        }
        TableFactor::Derived { subquery, alias, .. } => {
            let around = World { with: world.with.clone(), outer: None };
            (query(subquery, &around), alias, String::new())
        }
        TableFactor::NestedJoin { table_with_joins, .. } => return joined(table_with_joins, world),
        other => panic!("{other}"),
    };
    let name = alias.as_ref().map_or(own, |alias| alias.name.value.clone());
    if let Some(alias) = alias {
        renamed(&mut data, &alias.columns.iter().map(|c| c.name.value.clone()).collect::<Vec<_>>());
    }
    let cell = |column: &String, value: V| Cell {
        tables: vec![name.clone()],
        name: column.clone(),
        value,
        shown: true,
    };
    let row =
        |row: &Vec<V>| data.names.iter().zip(row).map(|(name, value)| cell(name, value.clone())).collect();
    let nothing = data.names.iter().map(|name| cell(name, V::Null)).collect();
    (data.rows.iter().map(row).collect(), nothing)
}
