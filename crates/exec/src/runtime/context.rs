//! What all pipelines of a run share: options, memory, the tally, files that are written on the way.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use churn_core::current_step::{self, Current, WorkedStep};
use churn_core::parallel::Threads;
use churn_core::{Counters, Result, StepId};
use churn_io::binary::{Out, RowWriter, WriterResources};
use churn_io::split::SplitTarget;
use churn_io::target::Target as File;
use churn_io::target::{Placed, SharedTarget};
use churn_plan::operators::Write;
use churn_plan::{Plan, StepInfo};

use crate::runtime::budget::Budget;
use crate::runtime::figures::RunFigures;
use crate::runtime::materialized::MaterializedTable;
use crate::runtime::morsel_output::{MorselOutput, SideOutput};
use crate::runtime::settings::RunSettings;
use crate::spill::Spill;

/// What all pipelines of a run share.
pub(crate) struct Context {
    pub(crate) options: RunSettings,
    pub(crate) budget: Budget,
    pub(crate) spill: Spill,
    steps: Vec<StepInfo>,
    /// The steps as threads are at work for them.
    worked: Vec<Arc<WorkedStep>>,
    started: Instant,
    pub(crate) counters: Mutex<Counters>,
    /// Files that are written on the way.
    outputs: Mutex<Vec<Output>>,
    /// Tables that are used more than once, once they have run.
    tables: Mutex<HashMap<usize, MaterializedTable>>,
    pub(crate) resources: WriterResources,
}

/// A file that is written on the way.
enum Output {
    /// Text, with what stands between two parts and at the end.
    Text {
        file: Option<Box<File>>,
        between: &'static [u8],
        end: &'static [u8],
        any: bool,
    },
    Rows {
        file: SharedTarget,
        writer: Option<Box<dyn RowWriter>>,
        /// The step that writes it.
        step: Current,
    },
    Split(Box<SplitTarget>),
}

impl Output {
    /// The target, as messages show it.
    fn shown(&self) -> String {
        match self {
            Output::Text { file, .. } => file.as_ref().map(|file| file.shown()).unwrap_or_default(),
            Output::Rows { file, .. } => file.shown(),
            Output::Split(folder) => folder.shown(),
        }
    }

    /// Gives the target its name.
    fn finish(self) -> Result<()> {
        match self {
            Output::Text { file, .. } => file.map_or(Ok(()), |file| file.finish()),
            Output::Rows { file, .. } => file.finish(),
            Output::Split(folder) => folder.finish(),
        }
    }
}

impl Context {
    pub(crate) fn new(options: RunSettings, plan: &Plan) -> Context {
        let mut tally = Counters::new(plan.steps.len());
        tally.merge(&plan.counted);
        Context {
            resources: options.writer_resources(),
            budget: Budget::new(options.memory),
            spill: Spill::new(options.temporary.clone()),
            counters: Mutex::new(tally),
            outputs: Mutex::new(Vec::new()),
            tables: Mutex::new(HashMap::new()),
            options,
            worked: plan.steps.iter().map(|step| WorkedStep::new(&step.text)).collect(),
            started: Instant::now(),
            steps: plan.steps.clone(),
        }
    }

    /// The rows of a table that has run already.
    pub(crate) fn table(&self, table: usize) -> Option<MaterializedTable> {
        locked(&self.tables).get(&table).cloned()
    }

    /// Keeps the rows of a table for its later uses.
    pub(crate) fn keep_table(&self, table: usize, kept: MaterializedTable) {
        locked(&self.tables).insert(table, kept);
    }

    /// The threads of the run.
    pub(crate) fn threads(&self) -> &Threads {
        self.resources.threads()
    }

    pub(crate) fn steps(&self) -> usize {
        self.steps.len()
    }

    pub(crate) fn step_text(&self, step: StepId) -> &str {
        self.steps.get(step).map(|s| s.text.as_str()).unwrap_or_default()
    }

    /// The step as threads are at work for it.
    pub(crate) fn worked_step(&self, step: StepId) -> Current {
        self.worked.get(step).cloned()
    }

    /// How long the run took until now, and what of it each step took.
    pub(crate) fn figures(&self) -> RunFigures {
        RunFigures {
            elapsed: self.started.elapsed(),
            threads: self.threads().count(),
            times: self.worked.iter().map(|step| step.time()).collect(),
            memory: self.budget.given(),
            most_held: self.budget.most_used(),
            spilled: self.spill.written(),
        }
    }

    /// Adds what a pipeline counted.
    pub(crate) fn absorb(&self, work: &mut MorselOutput) -> Result<()> {
        locked(&self.counters).merge(&work.counters);
        self.write_side(work)?;
        work.placed.drain(..).try_for_each(Placed::write)
    }

    /// Writes a morsel's part of side outputs, or gives it its place; called in the order of morsels.
    pub(crate) fn write_side(&self, work: &mut MorselOutput) -> Result<()> {
        if work.side.is_empty() {
            return Ok(());
        }
        let mut outputs = locked(&self.outputs);
        for (number, side) in work.side.drain(..) {
            match (outputs.get_mut(number), side) {
                (Some(Output::Text { file: Some(file), between, any, .. }), SideOutput::Bytes(bytes)) => {
                    if std::mem::replace(any, true) {
                        file.write(between)?;
                    }
                    work.placed.extend(file.append(bytes)?);
                }
                (Some(Output::Rows { writer: Some(writer), step, .. }), SideOutput::Rows(batch)) => {
                    current_step::within(step, || writer.write(batch))?;
                }
                (Some(Output::Split(folder)), SideOutput::Rows(batch)) => folder.write(&batch)?,
                _ => {}
            }
        }
        Ok(())
    }

    /// Opens a text file to be written on the way; gives its number.
    pub(crate) fn text_output(
        &self,
        mut file: File,
        start: &[u8],
        between: &'static [u8],
        end: &'static [u8],
    ) -> Result<usize> {
        if !file.continues {
            file.write(start)?;
        }
        Ok(self.add(Output::Text { file: Some(Box::new(file)), between, end, any: false }))
    }

    /// Opens a file of a columnar format to be written on the way; gives its number.
    pub(crate) fn row_output(&self, file: File, target: &Write, target_step: StepId) -> Result<usize> {
        let file = SharedTarget::new(file);
        let out = Out::new(file.clone());
        let writer = target.format.writer(out, &target.fields, &target.options, &self.resources)?;
        Ok(self.add(Output::Rows { file, writer, step: self.worked_step(target_step) }))
    }

    /// One more table of a file that is written already, such as a sheet of a workbook; gives its number, or `None` if the
    /// file is not written yet.
    pub(crate) fn another_table(&self, target: &Write) -> Result<Option<usize>> {
        let mut outputs = locked(&self.outputs);
        for output in outputs.iter() {
            if let Output::Rows { file, writer: Some(writer), step } = output
                && file.is_of(&target.path)
                && let Some(writer) = writer.another(&target.fields, &target.options)?
            {
                let (file, step) = (file.clone(), step.clone());
                outputs.push(Output::Rows { file, writer: Some(writer), step });
                return Ok(Some(outputs.len() - 1));
            }
        }
        Ok(None)
    }

    /// Opens a folder of files to be written on the way; gives its number.
    pub(crate) fn split_output(&self, folder: SplitTarget) -> usize {
        self.add(Output::Split(Box::new(folder)))
    }

    fn add(&self, output: Output) -> usize {
        let mut outputs = locked(&self.outputs);
        outputs.push(output);
        outputs.len() - 1
    }

    /// Gives all files their names; nothing before this changes what is on disk.
    pub(crate) fn finish_outputs(&self) -> Result<()> {
        let mut outputs = locked(&self.outputs);
        for output in outputs.iter_mut() {
            match output {
                Output::Text { file: Some(file), end, .. } => file.write(end)?,
                Output::Rows { writer, .. } => drop(writer.take().map(RowWriter::finish).transpose()?),
                Output::Split(folder) => folder.end()?,
                Output::Text { file: None, .. } => {}
            }
        }
        let mut written: Vec<String> = Vec::new();
        for output in outputs.drain(..) {
            let shown = output.shown();
            if let Err(error) = output.finish() {
                return Err(error.why(match written.as_slice() {
                    [] => "Nothing was changed: all targets are as they were.".to_owned(),
                    written => {
                        format!("Written before it: {}. What was to follow is as it was.", written.join(", "))
                    }
                }));
            }
            written.push(shown);
        }
        Ok(())
    }
}

/// The value behind a lock; a panic elsewhere is told on its own.
fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
