//! What flows by, handed to the files that a step writes.

use arrow_array::cast::AsArray;
use churn_core::{Batch, Event, Result, StepId};
use churn_io::format::Encoder;
use churn_kernels::known::known_part;

use crate::runtime::morsel_output::{MorselOutput, SideOutput};
use crate::runtime::stream::StreamOp;

/// Hands what flows by to a side output: encoded, if the format is text.
pub(crate) struct Tap {
    pub(crate) output: usize,
    pub(crate) columns: Vec<usize>,
    pub(crate) encoder: Option<Box<dyn Encoder>>,
    /// The column of rows that are ready to be written, if there is one; it goes no further.
    pub(crate) ready: Option<usize>,
    pub(crate) step: StepId,
    /// The text of the step, for messages.
    pub(crate) text: String,
}

impl StreamOp for Tap {
    fn apply(&self, mut batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let ready = self.ready.filter(|place| *place < batch.columns.len());
        let ready = ready.map(|place| batch.columns.remove(place));
        let ready = ready.as_ref().and_then(|lines| lines.as_binary_view_opt());
        let columns = batch.columns_at(&self.columns);
        let rows = Batch { columns, rows: batch.rows };
        if batch.rows > 0 {
            let side = match &self.encoder {
                Some(encoder) => {
                    work.counters.event(self.step, Event::NoNumber, encoder.lost(&rows));
                    SideOutput::Bytes(encoder.rows(&rows, ready).map_err(|e| e.in_step(&self.text))?)
                }
                None => SideOutput::Rows(rows.compacted()),
            };
            work.side.push((self.output, side));
        }
        Ok(batch)
    }
}

/// Hands lines of text that flow by to a side output.
pub(crate) struct TapLines(pub(crate) usize);

impl StreamOp for TapLines {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let lines = batch.columns.first().and_then(|c| c.as_binary_opt::<i64>()).cloned();
        let rows = batch.rows;
        drop(batch);
        if let Some(lines) = lines {
            let (offsets, values, _) = lines.into_parts();
            let range = offsets.first() as usize..offsets.last() as usize;
            // Taken over if they are all of the column, and nobody else has it.
            let text =
                if range == (0..values.len()) { values.into_vec() } else { Err(values.slice(range.start)) };
            let text = text.unwrap_or_else(|values| known_part(values.as_slice(), ..range.len()).to_vec());
            work.side.push((self.0, SideOutput::Bytes(text)));
        }
        Ok(Batch { columns: Vec::new(), rows })
    }
}
