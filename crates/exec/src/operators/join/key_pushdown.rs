//! What a join chooses among the left table's rows while they are read, before their other columns are decoded.
//!
//! Where the left rows come straight from a source and those that match none are dropped, the keys of the other
//! table are a test of the source, and the least and the greatest of them a range that it may skip by. Rows that
//! are left out so are counted as having matched none, as the join itself would count them. If most rows match,
//! to look twice costs more than it saves, and the test gives up.

use std::sync::atomic::{AtomicUsize, Ordering};

use arrow_array::BooleanArray;
use churn_core::{Batch, ColumnId, Event, JoinKind, Result, Scalar, Type};
use churn_expr::Bound;
use churn_expr::compare::order_of;
use churn_io::ranges::Range;
use churn_io::source::Capability;
use churn_plan::operators::Join;

use super::spec::ProbeInput;
use crate::keys::UNKNOWN;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::scan_test::{ScanFilter, all_rows};

/// Rows after which it is decided whether the test is worth its while.
const TRIED: usize = 1 << 15;

/// The most rows of the other table of which the least and the greatest key are looked for.
const RANGED: usize = 1 << 20;

/// Left rows whose keys the other table has.
struct KeyFilter {
    shared: ProbeInput,
    /// The left keys, placed among the columns of the test.
    keys: Vec<Bound>,
    tried: AtomicUsize,
    kept: AtomicUsize,
}

impl ScanFilter for KeyFilter {
    fn keep(&self, batch: &Batch, work: &mut MorselOutput) -> Result<BooleanArray> {
        let (tried, kept) = (self.tried.load(Ordering::Relaxed), self.kept.load(Ordering::Relaxed));
        if tried > TRIED && kept * 2 > tried {
            return Ok(all_rows(batch.rows));
        }
        let (how, side) = &self.shared;
        let keys = how.evaluated(&self.keys, batch, work)?;
        let keep: BooleanArray =
            side.groups_of(&keys, batch.rows)?.iter().map(|group| Some(*group != UNKNOWN)).collect();
        let stay = keep.true_count();
        self.tried.fetch_add(batch.rows, Ordering::Relaxed);
        self.kept.fetch_add(stay, Ordering::Relaxed);
        work.counters.event(how.step, Event::MatchedNone, batch.rows - stay);
        Ok(keep)
    }

    fn skipped(&self, rows: usize, work: &mut MorselOutput) {
        work.counters.event(self.shared.0.step, Event::MatchedNone, rows);
    }
}

/// Has the left table's source test the keys, if its rows come straight from there.
pub(super) fn push(join: &Join, left: &mut Pipeline, shared: &ProbeInput) -> Result<()> {
    let drops = matches!(join.kind, JoinKind::Inner | JoinKind::Semi) && !join.expect_all;
    let is_infallible = join.keys.iter().all(|key| key.left.is_infallible());
    if !(drops && is_infallible) || join.keys.is_empty() {
        return Ok(());
    }
    let mut used = Vec::new();
    join.keys.iter().for_each(|key| key.left.columns(&mut used));
    let is_first = left.legs.iter().all(|leg| leg.test.is_none());
    let filter = |ids: &[ColumnId]| -> Result<Box<dyn ScanFilter>> {
        let keys = join.keys.iter().map(|key| key.left.placed(ids)).collect::<Result<_>>()?;
        let (tried, kept) = (AtomicUsize::new(0), AtomicUsize::new(0));
        Ok(Box::new(KeyFilter { shared: shared.clone(), keys, tried, kept }))
    };
    let place = |id: ColumnId| left.layout.iter().position(|own| *own == id);
    let first = join.keys.first().and_then(|key| key.left.as_column()).and_then(place);
    if left.test_source(&used, filter)?
        && is_first
        && let (Some(place), [leg]) = (first, left.legs.as_mut_slice())
        && let Some(range) = range(shared, join)
    {
        leg.scan.enable(Capability::Ranges(&[(place, range)]));
    }
    Ok(())
}

/// The least and the greatest of the other table's first keys.
fn range((how, side): &ProbeInput, join: &Join) -> Option<Range> {
    let kind = &join.keys.first()?.kind;
    if !matches!(kind, Type::Int | Type::Date | Type::Timestamp | Type::Text) || side.rows.rows > RANGED {
        return None;
    }
    let (keys, _) = how.of_side(&side.rows);
    let keys = keys.first()?;
    let mut bounds: Option<(Scalar, Scalar)> = None;
    for row in 0..side.rows.rows {
        let key = Scalar::from_array(keys, row);
        if key.is_null() {
            continue;
        }
        bounds = Some(match bounds {
            None => (key.clone(), key),
            Some((low, high)) if order_of(&key, &low).is_lt() => (key, high),
            Some((low, high)) if order_of(&key, &high).is_gt() => (low, key),
            Some(both) => both,
        });
    }
    let (low, high) = bounds?;
    Some(Range { low: Some((low, true)), high: Some((high, true)) })
}
