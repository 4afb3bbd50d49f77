//! An operator with its named columns, and the whole checked plan.

use std::sync::Arc;

use churn_core::{ColumnId, Counters, Field, Result, Scalar, StepId, deep};
use churn_expr::moment::Moment;
use churn_io::files::Files;
use churn_io::source::Source;

use crate::Node;
use crate::operators::Op;

/// Rows with named columns.
#[derive(Clone)]
pub struct Relation {
    /// The operator.
    pub node: Node,
    /// Its columns that have names, in order.
    pub fields: Vec<Field>,
}

impl Relation {
    /// The same rows under another operator and other columns.
    pub fn then(self, op: impl Into<Op>, step: StepId) -> Relation {
        Relation { node: self.node.over(op, step), fields: self.fields }
    }

    /// Puts a column of the operator in the place of the one of its name, or behind all.
    pub fn put(&mut self, field: Field) {
        match self.fields.iter_mut().find(|f| f.name == field.name) {
            Some(slot) => *slot = field,
            None => self.fields.push(field),
        }
    }
}

/// What a plan knows of a step.
#[derive(Clone, Debug)]
pub struct StepInfo {
    /// The step in canonical text.
    pub text: String,
    /// The table it belongs to; `None` for the main chain.
    pub table: Option<String>,
    /// The table whose rows it starts with.
    pub reads: Option<String>,
    /// Whether it reads a table for the step after it, and is told of there.
    pub aside: bool,
    /// How it brings tables together, if it does.
    pub joins: Option<churn_core::JoinKind>,
    /// Whether as many rows leave it as come in, so that its rows need no counting.
    pub keeps_rows: bool,
    /// Whether it is run: it belongs to the main chain, to a table that is needed, or writes or requires.
    pub runs: bool,
    /// The columns after it, with their types.
    pub columns: Vec<(String, churn_core::Type)>,
    /// What the columns that its condition uses are called where it stands.
    pub condition: Vec<(ColumnId, String)>,
}

/// A checked plan.
#[derive(Clone)]
pub struct Plan {
    /// The main chain.
    pub main: Relation,
    /// Tables that run for what they write or require, in order.
    pub others: Vec<Relation>,
    /// All steps, by their numbers.
    pub steps: Vec<StepInfo>,
    /// Whether the main chain ends in `write`, so that it has no rows to show.
    pub ends_in_write: bool,
    /// What the reader should know before the run.
    pub notes: Vec<String>,
    /// The files that it reads and writes.
    pub files: Files,
    /// Rewrites that were made, in order.
    pub fired: Vec<&'static str>,
    /// Parts of it that ran to find columns, and what was counted then.
    pub ran: Vec<Node>,
    /// What was counted before the run.
    pub counted: Counters,
    /// Whether steps follow whose columns only a run can tell.
    pub open: bool,
    /// Whether an expression takes the value of a table that has not run: the plan is checked, and cannot be run.
    pub lacks_values: bool,
    /// What `now()` stands for in it.
    pub moment: Moment,
}

/// Runs a part of a plan to find the values of some of its columns.
pub type Find<'a> = &'a dyn Fn(Plan, &Wanted) -> Result<Found>;

/// What is to be found.
pub struct Wanted {
    /// The places of the columns.
    pub columns: Vec<usize>,
    /// The place of a column that is true in rows that do not count.
    pub except: Option<usize>,
    /// The most different values.
    pub most: usize,
}

/// What a part of a plan gave.
pub struct Found {
    /// Its rows.
    pub source: Arc<dyn Source>,
    /// The different values of the columns, in order, null last; `None` if there are too many.
    pub combinations: Option<Vec<Vec<Scalar>>>,
    /// What was counted while they were found.
    pub counted: Counters,
    /// The part as it ran.
    pub ran: Node,
}

impl StepInfo {
    /// A step of which only the text matters.
    pub fn new(text: String) -> StepInfo {
        StepInfo {
            text,
            table: None,
            reads: None,
            aside: false,
            joins: None,
            keeps_rows: false,
            runs: true,
            columns: Vec::new(),
            condition: Vec::new(),
        }
    }
}

impl Plan {
    /// A plan of one chain.
    pub fn of(main: Relation, steps: Vec<StepInfo>) -> Plan {
        Plan {
            main,
            others: Vec::new(),
            steps,
            ends_in_write: false,
            files: Files::default(),
            notes: Vec::new(),
            fired: Vec::new(),
            ran: Vec::new(),
            counted: Counters::new(0),
            open: false,
            lacks_values: false,
            moment: Moment::default(),
        }
    }

    /// The number of its operators, about: what recursion over it needs room for.
    pub fn length(&self) -> usize {
        self.steps.len() + self.nodes().len()
    }

    /// Takes the operators of all chains out of it, and leaves none that can be run.
    pub fn take_nodes(&mut self) -> Vec<Node> {
        let chains = self.others.iter_mut().chain([&mut self.main]).map(|relation| &mut relation.node);
        chains
            .map(|node| std::mem::replace(node, Node::nothing()))
            .chain(std::mem::take(&mut self.ran))
            .collect()
    }

    /// All operators, those of shared tables included.
    pub fn nodes(&self) -> Vec<&Node> {
        fn gather<'a>(node: &'a Node, into: &mut Vec<&'a Node>) {
            for node in node.chain() {
                into.push(node);
                let operator = node.op.operator();
                operator.others().into_iter().for_each(|other| gather(other, into));
                if let Some(input) = operator.shared() {
                    deep::guarded(|| gather(input, into));
                }
            }
        }
        let mut found = Vec::new();
        gather(&self.main.node, &mut found);
        self.others.iter().for_each(|other| gather(&other.node, &mut found));
        self.ran.iter().for_each(|node| gather(node, &mut found));
        found
    }

    /// The plan with each of its chains replaced.
    pub(crate) fn map_chains(self, mut f: impl FnMut(Relation) -> Relation) -> Plan {
        let main = f(self.main);
        Plan { main, others: self.others.into_iter().map(f).collect(), ..self }
    }
}
