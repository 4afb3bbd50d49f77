//! A source: the start of a pipeline, with what is tested while it is read.

use std::path::Path;

use churn_core::{Error, Result};
use churn_io::ranges::{Range, ranges};
use churn_io::source::Request;
use churn_io::target::Mode;
use churn_io::target::Target as File;
use churn_plan::operators::Scan;

use super::filter::{Filter, Test};
use super::first::First;
use super::{Build, OperatorPlace, places};
use crate::runtime::context::Context;
use crate::runtime::pipeline::{Leg, Pipeline};
use crate::runtime::scan_test::{ScanFilter, ScanTest};

impl Build for Scan {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let (scan, step, context) = (self, place.step(), place.context);
        let layout = place.node.columns();
        let request = Request {
            columns: scan.columns.iter().map(|(place, _)| *place).collect(),
            block_bytes: context.options.block_bytes,
            ranges: if context.options.first_rows.is_some() { Vec::new() } else { wanted_ranges(scan) },
        };
        let named = |e: Error| e.in_step(context.step_text(step));
        let opened = scan.source.open(request).map_err(named)?;
        let first_rows = context.options.first_rows;
        let limit = scan.limit.into_iter().chain(first_rows).min();
        let mut leg = Leg { scan_step: Some(step), limit, ..Leg::of(opened) };
        if let Some(path) = &scan.rejects {
            leg.rejects = Some(rejects(path, context)?);
        }
        let tests = |layout: &[churn_core::ColumnId]| -> Result<Vec<Test>> {
            let placed = scan.conditions.iter().map(|condition| {
                let text = context.step_text(condition.step).to_owned();
                let (step, early) = (condition.step, condition.early);
                Ok(Test { condition: condition.test.placed(layout)?, step, text, early })
            });
            placed.collect()
        };
        if first_rows.is_none() && !scan.conditions.is_empty() {
            let mut used = Vec::new();
            scan.conditions.iter().for_each(|c| c.test.columns(&mut used));
            let sieves =
                tests(&used)?.into_iter().map(|test| Box::new(test) as Box<dyn ScanFilter>).collect();
            leg.test = Some(ScanTest { columns: places(&layout, &used)?, tests: sieves });
        }
        let acts = scan.rejects.is_some();
        let mut pipeline = Pipeline { acts, ..Pipeline::of(leg, layout) };
        if let Some(rows) = first_rows {
            // A trial on the first rows of a source: conditions see those rows only.
            pipeline.push_serial(Box::new(First { skip: 0, left: rows, stops: true, step: usize::MAX }));
            for test in tests(&pipeline.layout)? {
                pipeline.push(Box::new(Filter(test)));
            }
        }
        Ok(pipeline)
    }
}

/// What the first condition says of columns on their own. The first alone: rows that are left out for a later one
/// would be missing from its account.
fn wanted_ranges(scan: &Scan) -> Vec<(usize, Range)> {
    let found = scan.conditions.first().map(|c| ranges(&c.test)).unwrap_or_default();
    let place = |id| scan.columns.iter().find(|(_, f)| f.id == id).map(|(place, _)| *place);
    found.into_iter().filter_map(|(id, range)| Some((place(id)?, range))).collect()
}

/// Opens the file of rejected rows.
fn rejects(path: &Path, context: &Context) -> Result<usize> {
    context.text_output(File::create(path, Mode::Replace, context.resources.temporary())?, b"", b"", b"")
}
