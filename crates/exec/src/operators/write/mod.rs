//! Steps that write: as a tap of what flows by, or of sorted rows that are carried as lines.

mod tap;

use std::sync::Arc;

use churn_core::{Error, Result, StepId};
use churn_io::format::{Encoder, LineEncoder, WriteOptions};
use churn_io::source::{Capability, LinesOnly, Scan};
use churn_io::split::SplitTarget;
use churn_io::target::Target as File;
use churn_plan::Node;
use churn_plan::operators::{Op, SortKey, Write};
use tap::{Tap, TapLines};

use super::sort::{Carried, sorted};
use super::{Build, OperatorPlace, build, ids, places};
use crate::runtime::context::Context;
use crate::runtime::pipeline::Pipeline;

/// The pipeline of a node whose rows nobody takes. Sorted rows that are written as text are carried as lines of
/// it: they are encoded once, where they are read, and sorted and gathered as one column.
pub(crate) fn build_for_effect(node: &Node, context: &Context) -> Result<Pipeline> {
    let (Op::Write(target), Some(sort)) = (&node.op, &node.input) else { return build(node, context) };
    let (Op::Sort(how), Some(input)) = (&sort.op, &sort.input) else { return build(node, context) };
    if how.keep.is_some() {
        return build(node, context);
    }
    let Some(encoder) = text_encoder(target).and_then(|e| e.by_line()) else { return build(node, context) };
    let encoder: Arc<dyn LineEncoder> = Arc::from(encoder);
    let mut below = build(input, context)?;
    let output = write_output(target, Some(&*encoder), node.step, context)?;
    let columns = places(&below.layout, &ids(&target.fields))?;
    let mut read = Vec::new();
    how.keys.iter().for_each(|key| key.by.columns(&mut read));
    let read = places(&below.layout, &read)?;
    let only = LinesOnly { encoder: encoder.clone(), read };
    let is_source =
        bare_source(&mut below, &columns).is_some_and(|scan| scan.enable(Capability::LinesOnly(only)));
    let carried = if is_source { Carried::Lines(columns.len()) } else { Carried::Encoded(encoder, columns) };
    let mut pipeline = sorted(below, how, carried, sort.step, context)?;
    pipeline.layout = Vec::new();
    pipeline.push(Box::new(TapLines(output)));
    Ok(pipeline)
}

impl Build for Write {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let columns = places(&pipeline.layout, &ids(&self.fields))?;
        let encoder = text_encoder(self);
        let form = encoder.as_ref().and_then(|encoder| encoder.line_form());
        let source = bare_source(&mut pipeline, &columns).zip(form);
        let is_kept = source.is_some_and(|(scan, form)| scan.enable(Capability::LinesToo(form)));
        let ready = is_kept.then_some(columns.len());
        let target = &Write { options: told_order(self, place.node), ..self.clone() };
        let output = write_output(target, encoder.as_deref(), place.step(), place.context)?;
        pipeline.acts = true;
        let (step, text) = (place.step(), place.text());
        pipeline.push(Box::new(Tap { output, columns, encoder, ready, step, text }));
        Ok(pipeline)
    }
}

/// The source of a pipeline, if just these columns of it are written and nothing is done to them.
fn bare_source<'a>(pipeline: &'a mut Pipeline, columns: &[usize]) -> Option<&'a mut Box<dyn Scan>> {
    let is_all = columns.iter().copied().eq(0..pipeline.layout.len());
    let [leg] = pipeline.legs.as_mut_slice() else { return None };
    let is_bare = leg.stream.is_empty() && pipeline.serial.is_empty();
    (is_all && is_bare).then_some(&mut leg.scan)
}

/// How a file is written, with the order that its rows are known to be in.
fn told_order(target: &Write, node: &Node) -> WriteOptions {
    let Some(Op::Sort(how)) = node.input.as_ref().map(|input| &input.op) else {
        return target.options.clone();
    };
    let name = |key: &SortKey| {
        let field = target.fields.iter().find(|f| Some(f.id) == key.by.as_column())?;
        Some((field.name.clone(), key.descending, key.nulls_first))
    };
    WriteOptions { sorted_by: how.keys.iter().map_while(name).collect(), ..target.options.clone() }
}

/// What encodes rows before they are handed over: none for columnar files and for folders.
fn text_encoder(target: &Write) -> Option<Box<dyn Encoder>> {
    let encoder = target.format.encoder(&target.fields, &target.options);
    encoder.filter(|_| target.options.split_by.is_empty())
}

/// Opens the file of a step that writes.
fn write_output(
    target: &Write,
    encoder: Option<&dyn Encoder>,
    step: StepId,
    context: &Context,
) -> Result<usize> {
    let named = |e: Error| e.in_step(context.step_text(step));
    if !target.options.split_by.is_empty() {
        let how = (&target.format, &target.options, target.mode);
        let folder = SplitTarget::create(&target.path, how, &target.fields, &context.resources);
        return Ok(context.split_output(folder.map_err(named)?));
    }
    if let Some(number) = context.another_table(target).map_err(named)? {
        return Ok(number);
    }
    let file = File::create(&target.path, target.mode, context.resources.temporary()).map_err(named)?;
    match encoder {
        Some(text) => context.text_output(file, &text.start(), text.between(), text.end()),
        None => context.row_output(file, target, step),
    }
}
