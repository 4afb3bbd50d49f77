//! An operator with its named columns, and the whole checked plan.

use std::sync::Arc;

use super::Counters;
use super::node::{Node, Op, StepId};
use crate::deep;
use crate::error::Result;
use crate::expr::{Field, Scalar};
use crate::io::files::Files;
use crate::io::source::Source;

/// Rows with named columns.
#[derive(Clone)]
pub(crate) struct Relation {
    pub(crate) node: Node,
    pub(crate) fields: Vec<Field>,
}

impl Relation {
    /// The same rows under another operator and other columns.
    pub(crate) fn then(self, op: Op, step: StepId) -> Relation {
        Relation { node: self.node.over(op, step), fields: self.fields }
    }
}

/// What a plan knows of a step.
#[derive(Clone, Debug)]
pub(crate) struct StepInfo {
    /// The step in canonical text.
    pub(crate) text: String,
    /// The table it belongs to; `None` for the main chain.
    pub(crate) table: Option<String>,
    /// The table whose rows it starts with.
    pub(crate) reads: Option<String>,
    /// Whether it reads a table for the step after it, and is told of there.
    pub(crate) aside: bool,
    /// How it brings tables together, if it does.
    pub(crate) joins: Option<super::JoinKind>,
    /// Whether as many rows leave it as come in, so that its rows need no counting.
    pub(crate) keeps_rows: bool,
    /// Whether it is run: it belongs to the main chain, to a table that is needed, or writes or requires.
    pub(crate) runs: bool,
    /// The columns after it, with their types.
    pub(crate) columns: Vec<(String, crate::expr::Type)>,
}

/// A checked plan.
#[derive(Clone)]
pub(crate) struct Plan {
    /// The main chain.
    pub(crate) main: Relation,
    /// Tables that run for what they write or require, in order.
    pub(crate) others: Vec<Relation>,
    pub(crate) steps: Vec<StepInfo>,
    /// Whether the main chain ends in `write`, so that it has no rows to show.
    pub(crate) ends_in_write: bool,
    /// What the reader should know before the run.
    pub(crate) notes: Vec<String>,
    /// The files that it reads and writes.
    pub(crate) files: Files,
    /// Rewrites that were made, in order.
    pub(crate) fired: Vec<&'static str>,
    /// Parts of it that ran to find columns, and what was counted then.
    pub(crate) ran: Vec<Node>,
    pub(crate) counted: Counters,
    /// Whether steps follow whose columns only a run can tell.
    pub(crate) open: bool,
}

/// Runs a part of a plan to find the values of some of its columns.
pub(crate) type Find<'a> = &'a dyn Fn(Plan, &Wanted) -> Result<Found>;

/// What is to be found.
pub(crate) struct Wanted {
    /// The places of the columns.
    pub(crate) columns: Vec<usize>,
    /// The place of a column that is true in rows that do not count.
    pub(crate) except: Option<usize>,
    /// The most different values.
    pub(crate) most: usize,
}

/// What a part of a plan gave.
pub(crate) struct Found {
    /// Its rows.
    pub(crate) source: Arc<dyn Source>,
    /// The different values of the columns, in order, null last; `None` if there are too many.
    pub(crate) combinations: Option<Vec<Vec<Scalar>>>,
    pub(crate) counted: Counters,
    /// The part as it ran.
    pub(crate) ran: Node,
}

impl StepInfo {
    /// A step of which only the text matters.
    pub(crate) fn new(text: String) -> StepInfo {
        StepInfo {
            text,
            table: None,
            reads: None,
            aside: false,
            joins: None,
            keeps_rows: false,
            runs: true,
            columns: Vec::new(),
        }
    }
}

impl Plan {
    /// A plan of one chain.
    pub(crate) fn of(main: Relation, steps: Vec<StepInfo>) -> Plan {
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
        }
    }

    /// The number of its operators, about: what recursion over it needs room for.
    pub(crate) fn length(&self) -> usize {
        self.steps.len() + self.nodes().len()
    }

    /// Takes the operators of all chains out of it, and leaves none that can be run.
    pub(crate) fn take_nodes(&mut self) -> Vec<Node> {
        let chains = self.others.iter_mut().chain([&mut self.main]).map(|relation| &mut relation.node);
        chains
            .map(|node| std::mem::replace(node, Node::nothing()))
            .chain(std::mem::take(&mut self.ran))
            .collect()
    }

    /// All operators, those of shared tables included.
    pub(crate) fn nodes(&self) -> Vec<&Node> {
        fn gather<'a>(node: &'a Node, into: &mut Vec<&'a Node>) {
            for node in node.chain() {
                into.push(node);
                node.others().into_iter().for_each(|other| gather(other, into));
                if let Op::Shared { input, .. } = &node.op {
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
