//! The account of a run: a plan's steps with what was counted of them.

use churn_core::names::name;
use churn_core::readable::{bytes, plural};
use churn_core::{ColumnId, Counters, Event, Events, Ledger, LedgerStep};
use churn_io::source::About;
use churn_io::store::Transfer;
use churn_plan::operators::Op;
use churn_plan::{Node, Plan, StepInfo};

/// The ledger of a run: what its counters say of each step of its plan that ran, tables first.
pub fn account(plan: &Plan, counters: &Counters) -> Ledger {
    let mut steps: Vec<LedgerStep> = Vec::new();
    let (mut aside, mut others) = (Events::default(), Vec::new());
    let mut examples_aside = Vec::new();
    let stopped = plan.stopped_steps(counters);
    let nodes = plan.nodes();
    for (id, info) in plan.steps.iter().enumerate() {
        if !info.runs {
            continue;
        }
        let mut counted = counters.get(id);
        let is_stopped = stopped.get(id).copied().unwrap_or(false);
        if info.aside && is_stopped {
            continue;
        }
        if info.aside {
            aside.merge(&counted.events);
            examples_aside.append(&mut counted.examples);
            let rows = plural(counted.rows, "row");
            others.extend(source_of(plan, id).map(|source| format!("{}: {rows}, {source}", info.text)));
            continue;
        }
        counted.events.merge(&std::mem::take(&mut aside));
        counted.examples.splice(..0, std::mem::take(&mut examples_aside));
        let before = steps.last().filter(|s| s.table == info.table).and_then(|s| s.rows_out);
        let of_table = || steps.iter().rev().find(|s| s.table == info.reads)?.rows_out;
        let rows_out = match (info.keeps_rows, &info.reads) {
            _ if is_stopped => None,
            (true, Some(_)) => of_table(),
            (true, None) => before,
            (false, _) => Some(counted.rows + left_out_below(&nodes, id, counters)),
        };
        let events = Event::ALL.into_iter().map(|e| (e, counted.events.get(e)));
        let events = events.filter(|(_, n)| *n > 0 && !is_stopped);
        steps.push(LedgerStep {
            table: info.table.clone(),
            step: info.text.clone(),
            rows_in: before,
            rows_out,
            events: events.collect(),
            examples: if is_stopped { Vec::new() } else { std::mem::take(&mut counted.examples) },
            source: source_of(plan, id).or_else(|| (!others.is_empty()).then(|| others.join("; "))),
            joins: info.joins,
            nullable: condition_columns(&nodes, id, info),
        });
        others.clear();
    }
    Ledger::new(steps, plan.moment.asked())
}

/// Rows of a step that were left out before they came to it, by filters behind it.
fn left_out_below(nodes: &[&Node], step: usize, counters: &Counters) -> u64 {
    let of = |node: &&Node| match &node.op {
        Op::Append(append) if node.step == step => append.left_out_below(counters),
        _ => 0,
    };
    nodes.iter().map(of).sum()
}

/// What a step's source is, in words.
fn source_of(plan: &Plan, step: usize) -> Option<String> {
    let scan = scans(plan).into_iter().find(|(id, _)| *id == step)?.1;
    let About { files, bytes: size, transfers, .. } = scan.source.about();
    if *files == 0 {
        return None;
    }
    let mut parts = vec![plural(*files as u64, "file")];
    parts.extend(size.filter(|b| *b > 0).map(bytes));
    let all = scan.source.columns().len();
    parts.push(format!("{} of {}", scan.columns.len(), plural(all as u64, "column")));
    if !transfers.is_empty() {
        parts.push(format!("fetched {}", Transfer::together(transfers)));
    }
    Some(parts.join(", "))
}

/// The few columns that a filter's condition uses, if nothing else can make it unknown.
fn condition_columns(nodes: &[&Node], step: usize, info: &StepInfo) -> Vec<String> {
    let mut used = None;
    for node in nodes {
        let condition = match &node.op {
            Op::Filter(filter) if node.step == step && !filter.early => Some(&filter.condition),
            Op::Scan(scan) => scan.conditions.iter().find(|c| c.step == step).map(|c| &c.test),
            _ => None,
        };
        if let Some(condition) = condition.filter(|c| c.is_infallible() && !c.has_null()) {
            let mut columns = Vec::new();
            condition.columns(&mut columns);
            let here =
                |id: &ColumnId| info.condition.iter().find(|(own, _)| own == id).map(|(_, n)| n.clone());
            let below = |id: &ColumnId| node.field(*id).map(|field| name(&field.name));
            used = Some(columns.iter().filter_map(|id| here(id).or_else(|| below(id))).collect());
        }
    }
    used.filter(|names: &Vec<String>| names.len() <= 3).unwrap_or_default()
}

/// All scans of a plan with their steps.
pub fn scans(plan: &Plan) -> Vec<(usize, &churn_plan::operators::Scan)> {
    plan.nodes()
        .into_iter()
        .filter_map(|node| if let Op::Scan(scan) = &node.op { Some((node.step, scan)) } else { None })
        .collect()
}
