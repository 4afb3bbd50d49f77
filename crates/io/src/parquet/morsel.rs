//! A morsel of a Parquet file: the columns of a condition first, and of the others only what is left.

use arrow_array::{ArrayRef, BooleanArray};
use churn_core::{Batch, Error, ErrorKind, Result};
use parquet::arrow::arrow_reader::{RowSelection, RowSelector};

use super::piece::{PieceReader, RowGroupPiece};
use crate::source::{Decoded, Guess, Morsel, RowTest};

/// How far a morsel is read.
pub(super) enum DecodeState {
    Start,
    /// No column is needed: only the number of rows left.
    Counting(usize),
    /// All columns are read, and tested if there is a test.
    Reading(PieceReader),
    /// The columns of the test were read and tested; the others follow for what is left.
    Rest(Vec<Tested>, Option<PieceReader>),
    Done,
}

pub(super) struct ParquetMorsel {
    pub(super) piece: RowGroupPiece,
    pub(super) state: DecodeState,
}

/// A batch of the tested columns: the rows that stay.
pub(super) struct Tested {
    keep: BooleanArray,
    kept: Batch,
}

impl ParquetMorsel {
    /// Decides how the piece is read; gives the rows that are skipped by statistics.
    fn start(&mut self, test: Option<&mut dyn RowTest>) -> Result<Decoded> {
        let piece = &self.piece;
        let wanted = piece.shared.request.columns.clone();
        let rows = piece.to - piece.from;
        let Some(selection) = piece.selection()? else {
            self.state = DecodeState::Done;
            return Ok(piece.skipped(rows));
        };
        let selected = selection.row_count();
        let skipped = piece.skipped(rows - selected);
        let selection = piece.unless_whole(selection);
        self.state = match test {
            _ if wanted.is_empty() => DecodeState::Counting(selected),
            Some(test) if test.columns().len() < wanted.len() => {
                let tested: Vec<usize> =
                    test.columns().iter().filter_map(|i| wanted.get(*i).copied()).collect();
                let others: Vec<usize> = (0..wanted.len())
                    .filter(|i| !test.columns().contains(i))
                    .filter_map(|i| wanted.get(i).copied())
                    .collect();
                let mut reader = piece.reader(tested, selection.clone())?;
                let mut parts = Vec::new();
                while let Some(batch) = piece.next_of(&mut reader)? {
                    let keep = test.test(&batch)?;
                    parts.push(Tested { kept: batch.filter(&keep)?, keep });
                }
                parts.reverse();
                let rest = match left(&parts, selection, piece) {
                    Some(selection) => Some(piece.reader(others, selection)?),
                    None => None,
                };
                DecodeState::Rest(parts, rest)
            }
            _ => DecodeState::Reading(piece.reader(wanted, selection)?),
        };
        Ok(skipped)
    }

    /// The tested columns and the others, as they were asked for.
    fn joined(&self, test: &dyn RowTest, tested: Tested, others: Option<Batch>) -> Result<Batch> {
        let wanted = &self.piece.shared.request.columns;
        let mut others = match others {
            Some(batch) => batch.filter(&tested.keep)?.columns,
            None => {
                let none =
                    (0..wanted.len()).filter(|i| !test.columns().contains(i)).filter_map(|i| wanted.get(i));
                let data = |c: &usize| self.piece.shared.united.columns.get(*c).map(|c| c.data.clone());
                none.filter_map(data).map(|d| arrow_array::new_empty_array(&d)).collect()
            }
        }
        .into_iter();
        let column = |i: usize| match test.columns().iter().position(|t| *t == i) {
            Some(place) => tested.kept.columns.get(place).cloned(),
            None => others.next(),
        };
        let columns: Option<Vec<ArrayRef>> = (0..wanted.len()).map(column).collect();
        let lost = || Error::new(ErrorKind::Internal, "A column of a Parquet file was lost.");
        Ok(Batch { columns: columns.ok_or_else(lost)?, rows: tested.kept.rows })
    }
}

/// What is left to read of the other columns: whole batches without a row that stays are left out. The outer
/// `None` says that nothing is.
#[allow(clippy::option_option)]
fn left(
    parts: &[Tested],
    selection: Option<RowSelection>,
    piece: &RowGroupPiece,
) -> Option<Option<RowSelection>> {
    if parts.iter().all(|p| p.kept.rows == 0) {
        return None;
    }
    if parts.iter().all(|p| p.kept.rows > 0) {
        return Some(selection);
    }
    let selector = |part: &Tested| {
        let rows = part.keep.len();
        if part.kept.rows > 0 { RowSelector::select(rows) } else { RowSelector::skip(rows) }
    };
    let within = RowSelection::from(parts.iter().rev().map(selector).collect::<Vec<_>>());
    let outer =
        selection.unwrap_or_else(|| RowSelection::from(vec![RowSelector::select(piece.to - piece.from)]));
    Some(Some(outer.and_then(&within)))
}

impl Morsel for ParquetMorsel {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, mut test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        loop {
            match std::mem::replace(&mut self.state, DecodeState::Done) {
                DecodeState::Start => {
                    let skipped = self.start(match &mut test {
                        Some(test) => Some(&mut **test),
                        None => None,
                    })?;
                    if skipped.skipped > 0 {
                        return Ok(Some(skipped));
                    }
                }
                DecodeState::Counting(rows) => {
                    return Decoded::tested(Batch { columns: Vec::new(), rows }, test).map(Some);
                }
                DecodeState::Reading(mut reader) => {
                    let Some(batch) = self.piece.next_of(&mut reader)? else { return Ok(None) };
                    self.state = DecodeState::Reading(reader);
                    let rows = batch.rows;
                    let batch = match test {
                        Some(test) => {
                            // The test's columns are all columns, perhaps in another order.
                            let part = Batch { columns: batch.columns_at(test.columns()), rows };
                            batch.filter(&test.test(&part)?)?
                        }
                        None => batch,
                    };
                    return Ok(Some(Decoded::of(batch, rows)));
                }
                DecodeState::Rest(mut parts, mut reader) => {
                    let (Some(tested), Some(test)) = (parts.pop(), test) else { return Ok(None) };
                    let rows = tested.keep.len();
                    let others = match &mut reader {
                        Some(reader) if tested.kept.rows > 0 => {
                            let lost = || {
                                Error::new(ErrorKind::Internal, "A Parquet file lost rows between columns.")
                            };
                            Some(self.piece.next_of(reader)?.ok_or_else(lost)?)
                        }
                        _ => None,
                    };
                    let batch = self.joined(&*test, tested, others)?;
                    self.state = DecodeState::Rest(parts, reader);
                    return Ok(Some(Decoded::of(batch, rows)));
                }
                DecodeState::Done => return Ok(None),
            }
        }
    }
}
