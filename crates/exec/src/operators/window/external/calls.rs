//! What each call gives for the rows of a file, a piece at a time.

use std::ops::Range;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{ArrayRef, Int64Array, UInt32Array};
use churn_core::{Error, ErrorKind, Result, taken};
use churn_expr::aggregates::{InPieces, Made, Sliding, quantiles};
use churn_expr::extend::{PartitionFunction, PartitionRun};
use churn_expr::windows::{Frame, Limit, Nth, Task};

use super::cursor::{Numbers, PartitionCursor, numbers};
use super::sorted::{PEER, SortedPartition, WORD};
use crate::keys::normal;
use crate::operators::group::ExternalStates;
use crate::operators::window::frames::{FramePartition, Reached, Reaches, by_rows};
use crate::operators::window::order::PlacedKey;
use crate::operators::window::tasks::{RowPlace, ntile, ranked, shifted, trues};
use crate::operators::window::{Window, WindowCall};
use crate::runtime::budget::Reservation;
use crate::spill::Disk;

/// A call at work.
pub(super) trait Worked {
    /// The results of a piece of a partition; pieces come in order.
    fn piece(&mut self, number: usize, partition: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef>;
}

/// Sets a call to work.
pub(super) fn worked<'a>(
    call: &'a WindowCall,
    window: &'a Window,
    sorted: &'a SortedPartition,
    disk: &Disk,
) -> Result<Box<dyn Worked + 'a>> {
    let arguments = || {
        let columns = call.args.iter().chain(&call.only).map(|column| sorted.place(*column));
        let cursor = sorted.cursor(&columns.collect::<Vec<_>>())?;
        Ok::<_, Error>(CallArguments { cursor, some: call.only.is_some(), rows: sorted.rows })
    };
    let frames = || Frames::new(&call.frame, window.order.first(), sorted);
    Ok(match &call.task {
        Task::RowNumber => Box::new(Counted(|row, _| row as i64 + 1)),
        Task::Ntile(parts) => Box::new(Counted(|row, rows| ntile(row, rows, *parts) as i64)),
        task @ (Task::Rank | Task::DenseRank | Task::PercentRank | Task::CumeDist) => Box::new(Ranked {
            task,
            peers: Numbers::new(sorted.cursor(&[PEER])?, sorted.rows),
            ahead: Numbers::new(sorted.cursor(&[PEER])?, sorted.rows),
            first: 0,
            end: 0,
        }),
        Task::Shift(by) => {
            let defaults = call.args.get(1).map(|column| sorted.cursor(&[sorted.place(*column)]));
            let values = call.args.first().map_or(usize::MAX, |column| sorted.place(*column));
            Box::new(Shifted { values: sorted.cursor(&[values])?, defaults: defaults.transpose()?, by: *by })
        }
        Task::Nth(which) => {
            Box::new(NthRow { values: arguments()?.cursor, frames: frames()?, which: *which })
        }
        Task::Aggregate(made) if call.frame == Frame::Partition => {
            Box::new(WholePartition(whole(made, arguments()?, sorted, disk)?))
        }
        Task::Aggregate(Made { quantile: Some(p), .. }) => {
            let reservation = disk.budget.reservation();
            Box::new(Quantiles { p: *p, values: arguments()?, frames: frames()?, reservation })
        }
        Task::Aggregate(made) => Box::new(Slid {
            sliding: (made.make)().sliding(),
            frames: frames()?,
            ahead: arguments()?,
            behind: arguments()?,
        }),
        Task::Own(function) => Box::new(OwnPieces { function, run: None, arguments: arguments()? }),
    })
}

/// A number that the place of a row and the rows of its partition give.
struct Counted<F>(F);

impl<F: Fn(usize, usize) -> i64> Worked for Counted<F> {
    fn piece(&mut self, _: usize, partition: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef> {
        let of = |row: usize| (self.0)(row - partition.rows.start, partition.rows.len());
        Ok(Arc::new(Int64Array::from_iter_values(rows.clone().map(of))))
    }
}

/// Ranks: by the rows that are equal in the order.
struct Ranked<'a> {
    task: &'a Task,
    peers: Numbers,
    ahead: Numbers,
    /// The rows that are equal to the last one.
    first: usize,
    end: usize,
}

impl Worked for Ranked<'_> {
    fn piece(&mut self, _: usize, partition: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef> {
        let start = partition.rows.start;
        let mut places = Vec::with_capacity(rows.len());
        for row in rows.clone() {
            let peer = self.peers.at(row)?;
            if row >= self.end {
                (self.first, self.end) = (row, row + 1);
                while self.end < partition.rows.end && self.ahead.at(self.end)? == peer {
                    self.end += 1;
                }
            }
            places.push(RowPlace {
                first: self.first - start,
                end: self.end - start,
                dense: peer as usize,
                rows: partition.rows.len(),
            });
        }
        ranked(self.task, places.into_iter())
    }
}

/// Values of rows so far away, or defaults.
struct Shifted {
    values: PartitionCursor,
    defaults: Option<PartitionCursor>,
    by: i64,
}

impl Worked for Shifted {
    fn piece(&mut self, _: usize, partition: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef> {
        let all = &partition.rows;
        let moved = |row: usize| (row as i64).saturating_add(self.by).clamp(all.start as i64, all.end as i64);
        let others = moved(rows.start) as usize..moved(rows.end) as usize;
        let first = |batch: churn_core::Batch| batch.columns.into_iter().next();
        let values = first(self.values.rows(others.clone())?);
        let defaults = match &mut self.defaults {
            Some(defaults) => first(defaults.rows(rows.clone())?),
            None => None,
        };
        let lost = || Error::new(ErrorKind::Internal, "A window function lacks its argument.");
        let place = |row: usize| {
            let other = usize::try_from((row as i64).saturating_add(self.by)).ok()?;
            others.contains(&other).then(|| (other - others.start) as u32)
        };
        shifted(&values.ok_or_else(lost)?, defaults.as_ref(), &rows.clone().map(place).collect())
    }
}

/// Values of certain rows of the frames.
struct NthRow<'a> {
    values: PartitionCursor,
    frames: Frames<'a>,
    which: Nth,
}

impl Worked for NthRow<'_> {
    fn piece(&mut self, _: usize, partition: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef> {
        let frames = self.frames.of(partition, rows)?;
        self.values.values_at(frames.into_iter().map(|frame| self.which.of(frame)))
    }
}

/// Results of whole partitions.
struct WholePartition(ArrayRef);

impl Worked for WholePartition {
    fn piece(&mut self, number: usize, _: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef> {
        taken(&self.0, &UInt32Array::from(vec![number as u32; rows.len()]))
    }
}

fn whole(
    made: &Made,
    mut arguments: CallArguments,
    sorted: &SortedPartition,
    disk: &Disk,
) -> Result<ArrayRef> {
    let mut accumulators = vec![(made.make)()];
    let mut outside = ExternalStates::default();
    let mut reservation = disk.budget.reservation();
    for (number, partition) in (0u32..).zip(&sorted.partitions) {
        for from in partition.rows.clone().step_by(super::PIECE) {
            let rows = from..partition.rows.end.min(from + super::PIECE);
            let (args, some) = arguments.of(rows.clone())?;
            let groups = vec![number; some.map_or(rows.len(), |some| some.len())];
            for accumulator in &mut accumulators {
                accumulator.grow(number as usize + 1);
                accumulator.update(&groups, &args)?;
            }
            outside.relieve(rows.len(), &mut accumulators, &mut reservation, disk)?;
        }
    }
    let mut results = outside.results(&mut accumulators, sorted.partitions.len())?;
    results.pop().ok_or_else(|| Error::new(ErrorKind::Internal, "An aggregate has no result."))
}

/// Quantiles of frames, each piece with all rows that its frames see.
struct Quantiles<'a> {
    p: f64,
    values: CallArguments,
    frames: Frames<'a>,
    reservation: Reservation,
}

impl Quantiles<'_> {
    /// Bytes that a row takes while its piece is worked on.
    const A_ROW: usize = 64;
}

impl Worked for Quantiles<'_> {
    fn piece(&mut self, _: usize, partition: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef> {
        let frames = self.frames.of(partition, rows)?;
        let seen = frames.iter().filter(|frame| !frame.is_empty());
        let from = seen.clone().map(|frame| frame.start).min().unwrap_or(rows.start);
        let to = seen.map(|frame| frame.end).max().unwrap_or(from);
        self.reservation.hold_whole((to - from) * Quantiles::A_ROW)?;
        let (args, some) = self.values.of(from..to)?;
        let lost = || Error::new(ErrorKind::Internal, "A quantile lacks its argument.");
        let values = args.first().and_then(|a| a.as_primitive_opt::<Float64Type>()).ok_or_else(lost)?;
        let near = |frame: Range<usize>| {
            let place = |row: usize| row.clamp(from, to) - from;
            (place(frame.start) as u32, place(frame.end) as u32)
        };
        let frames: Vec<(u32, u32)> = frames.into_iter().map(near).collect();
        Ok(Arc::new(quantiles(values, some.as_deref(), self.p, &frames)) as ArrayRef)
    }
}

/// An aggregate over frames that slide.
struct Slid<'a> {
    sliding: Box<dyn Sliding>,
    frames: Frames<'a>,
    ahead: CallArguments,
    behind: CallArguments,
}

impl Worked for Slid<'_> {
    fn piece(&mut self, _: usize, partition: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef> {
        let frames = self.frames.of(partition, rows)?;
        self.sliding.results(&frames, &mut self.ahead, &mut self.behind)
    }
}

/// What a function of a user's own gives; it starts anew with each partition.
struct OwnPieces<'a> {
    function: &'a PartitionFunction,
    run: Option<PartitionRun>,
    arguments: CallArguments,
}

impl Worked for OwnPieces<'_> {
    fn piece(&mut self, _: usize, partition: &FramePartition, rows: &Range<usize>) -> Result<ArrayRef> {
        let (args, _) = self.arguments.of(rows.clone())?;
        if rows.start == partition.rows.start {
            self.run = Some(self.function.start()?);
        }
        let lost = || Error::new(ErrorKind::Internal, "A piece of a partition is not its first.");
        self.run.as_mut().ok_or_else(lost)?.next(&args, rows.len())
    }
}

/// The arguments of a call, and behind them the condition that says of which rows they count.
struct CallArguments {
    cursor: PartitionCursor,
    some: bool,
    rows: usize,
}

impl InPieces for CallArguments {
    fn rows(&self) -> usize {
        self.rows
    }

    fn of(&mut self, rows: Range<usize>) -> Result<(Vec<ArrayRef>, Option<Vec<u32>>)> {
        let mut args = self.cursor.rows(rows)?.columns;
        let truth = if self.some { args.pop() } else { None };
        let Some(truth) = truth else { return Ok((args, None)) };
        let kept = trues(&truth);
        let places = UInt32Array::from(kept.clone());
        let args = args.iter().map(|arg| taken(arg, &places)).collect::<Result<_>>()?;
        Ok((args, Some(kept)))
    }
}

/// The frames of rows.
struct Frames<'a> {
    frame: &'a Frame,
    key: Option<&'a PlacedKey>,
    /// The first order key and its words.
    keys: Option<PartitionCursor>,
    words: Option<(Numbers, Numbers)>,
    reached: Reached,
}

impl<'a> Frames<'a> {
    fn new(frame: &'a Frame, key: Option<&'a PlacedKey>, sorted: &SortedPartition) -> Result<Frames<'a>> {
        let (mut keys, mut words) = (None, None);
        if let (Frame::Range(..), Some(key)) = (frame, key) {
            let numbers = || Ok::<_, Error>(Numbers::new(sorted.cursor(&[WORD])?, sorted.rows));
            keys = Some(sorted.cursor(&[sorted.place(key.place), WORD])?);
            words = Some((numbers()?, numbers()?));
        }
        Ok(Frames { frame, key, keys, words, reached: Reached::default() })
    }

    /// Those of a piece of a partition.
    fn of(&mut self, partition: &FramePartition, rows: &Range<usize>) -> Result<Vec<Range<usize>>> {
        let mut found = Vec::with_capacity(rows.len());
        match (self.frame, self.key, &mut self.keys, &mut self.words) {
            (Frame::Rows(from, to), ..) => {
                found.extend(rows.clone().map(|row| by_rows(*from, *to, &partition.rows, row)));
            }
            (Frame::Range(from, to), Some(key), Some(keys), Some((begin, end))) => {
                let reaches = reaches(key, keys, rows, from, to)?;
                let limit = |row: usize| row - rows.start;
                let words = (|row: usize| begin.at(row), |row: usize| end.at(row));
                let add = |frame| found.push(frame);
                reaches.frames(partition, rows.clone(), limit, &mut self.reached, words, add)?;
            }
            _ => found.extend(rows.clone().map(|_| partition.rows.clone())),
        }
        Ok(found)
    }
}

/// How far the frames of a piece reach.
fn reaches(
    key: &PlacedKey,
    keys: &mut PartitionCursor,
    rows: &Range<usize>,
    from: &Limit,
    to: &Limit,
) -> Result<Reaches> {
    let batch = keys.rows(rows.clone())?;
    let lost = || Error::new(ErrorKind::Internal, "A window lacks its order.");
    let column = normal(batch.columns.first().ok_or_else(lost)?)?;
    Ok(Reaches::new(key, &column, &numbers(&batch, 1), from, to))
}
