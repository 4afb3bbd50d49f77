//! `count_distinct` of many groups: the values of all of them in one set, each with the number of its group.
//!
//! With a set for each of many groups most of the time goes into making small sets and merging them. Here a value is
//! looked up once where it comes, if equal ones come with it, and once where it is merged. With few groups each has a set
//! of its own after all, which a bitmap may be: see [`churn_kernels::word_set`].

use std::any::Any;

use arrow_array::{Array, ArrayRef, LargeBinaryArray};
use churn_core::{Result, Type};

use super::super::external::FromSorted;
use super::super::{Accumulator, AggregateState, Sliding, States, column, of_different_kinds};
use super::counted;

/// Groups that have a set each, at most.
const FEW: usize = 64;

/// The values of many groups.
pub(super) trait PairSet: Default + Send + 'static {
    /// A set of the values of one group.
    type Set: AggregateState;

    /// Accumulators of a set a group.
    fn sets(states: Vec<Self::Set>) -> Sets<Self>;
    /// Adds the values of a column, null none, each to its group.
    fn add(&mut self, groups: &[u32], column: &ArrayRef);
    /// Adds all values of a set to a group.
    fn add_set(&mut self, group: u32, set: Self::Set);
    /// Adds the values of other groups; `ours` has the number here of each of them.
    fn merge(&mut self, other: Self, ours: &[u32]);
    /// A set for each of so many groups.
    fn into_sets(self, groups: usize) -> Vec<Self::Set>;
    /// Partitions the values to so many parts; `places` has the part of each group, and its number in there.
    fn partition(self, parts: usize, places: &[(usize, u32)]) -> Vec<Self>;
    /// How many different values each of so many groups has.
    fn counts(self, groups: usize) -> Vec<usize>;
    /// Bytes in use.
    fn memory(&self) -> usize;
}

/// A set a group.
pub(super) type Sets<P> = States<
    <P as PairSet>::Set,
    fn(&mut [<P as PairSet>::Set], &[u32], &[ArrayRef]) -> Result<()>,
    fn(&mut [<P as PairSet>::Set]) -> Result<ArrayRef>,
>;

/// The states of `count_distinct`.
pub(super) struct DistinctValues<P: PairSet> {
    groups: usize,
    /// A set for each group, while they are few.
    few: Sets<P>,
    /// All values once groups are many.
    many: Option<P>,
}

impl<P: PairSet> DistinctValues<P> {
    /// The sets of some groups.
    pub(super) fn of_few(states: Vec<P::Set>) -> DistinctValues<P> {
        DistinctValues { groups: states.len(), few: P::sets(states), many: None }
    }

    fn are_few(&self) -> bool {
        self.groups <= FEW && self.many.is_none()
    }

    /// The values of all groups, from now on in one set.
    fn pairs(&mut self) -> &mut P {
        self.many.get_or_insert_with(|| {
            let mut pairs = P::default();
            let sets = self.few.states.drain(..);
            (0u32..).zip(sets).for_each(|(group, set)| pairs.add_set(group, set));
            pairs
        })
    }

    /// A set for each group, from now on until values are added.
    fn sets(&mut self) -> &mut Sets<P> {
        if let Some(pairs) = self.many.take() {
            self.few.states = pairs.into_sets(self.groups);
        }
        self.few.grow(self.groups);
        &mut self.few
    }
}

impl<P: PairSet> Accumulator for DistinctValues<P> {
    fn grow(&mut self, groups: usize) {
        self.groups = self.groups.max(groups);
        if self.are_few() {
            self.few.grow(groups);
        }
    }

    fn update(&mut self, groups: &[u32], args: &[ArrayRef]) -> Result<()> {
        if self.are_few() {
            return self.few.update(groups, args);
        }
        self.pairs().add(groups, column(args, 0)?);
        Ok(())
    }

    fn merge(&mut self, other: &mut dyn Accumulator, pairs: &[(u32, u32)]) -> Result<()> {
        let other = other.as_any().downcast_mut::<Self>().ok_or_else(of_different_kinds)?;
        if self.are_few() && other.are_few() {
            return self.few.merge(&mut other.few, pairs);
        }
        let mut ours = vec![0; other.groups];
        for (theirs, our) in pairs {
            if let Some(slot) = ours.get_mut(*theirs as usize) {
                *slot = *our;
            }
        }
        other.pairs();
        let theirs = other.many.take().unwrap_or_default();
        self.pairs().merge(theirs, &ours);
        Ok(())
    }

    fn partition(&mut self, parts: &[Vec<u32>]) -> Vec<Box<dyn Accumulator>> {
        let boxed = |part: DistinctValues<P>| Box::new(part) as Box<dyn Accumulator>;
        let Some(pairs) = self.many.take() else {
            let states = &mut self.sets().states;
            let mut taken = |group: &u32| states.get_mut(*group as usize).map(std::mem::take);
            let mut few =
                |part: &Vec<u32>| DistinctValues::of_few(part.iter().filter_map(&mut taken).collect());
            return parts.iter().map(|part| boxed(few(part))).collect();
        };
        let mut places = vec![(0, 0); self.groups];
        for (i, part) in parts.iter().enumerate() {
            for (number, group) in (0u32..).zip(part) {
                if let Some(place) = places.get_mut(*group as usize) {
                    *place = (i, number);
                }
            }
        }
        let whole = |(many, part): (P, &Vec<u32>)| {
            boxed(DistinctValues { groups: part.len(), few: P::sets(Vec::new()), many: Some(many) })
        };
        pairs.partition(parts.len(), &places).into_iter().zip(parts).map(whole).collect()
    }

    fn save(&mut self) -> Result<LargeBinaryArray> {
        let saved = self.sets().save();
        self.groups = 0;
        saved
    }

    fn load(&mut self, saved: &LargeBinaryArray) -> Result<()> {
        self.sets().load(saved)?;
        self.groups += saved.len();
        Ok(())
    }

    fn finish(&mut self) -> Result<ArrayRef> {
        match self.many.take() {
            Some(pairs) => counted(pairs.counts(self.groups).into_iter()),
            None => self.sets().finish(),
        }
    }

    fn part(&mut self, most: usize) -> (Vec<u32>, Box<dyn Accumulator>) {
        let states = (0u32..).zip(&mut self.sets().states);
        let (groups, parts) = states.filter_map(|(group, state)| Some((group, state.part(most)?))).unzip();
        (groups, Box::new(DistinctValues::<P>::of_few(parts)))
    }

    fn external(&self) -> Option<Type> {
        self.few.external()
    }

    fn drain(&mut self, put: &mut dyn FnMut(usize, Vec<ArrayRef>) -> Result<()>) -> Result<()> {
        self.sets().drain(put)
    }

    fn sorted(&self, rows: &[u64]) -> Option<Box<dyn FromSorted>> {
        self.few.sorted(rows)
    }

    fn slide(&self, args: &[ArrayRef], rows: Option<&[u32]>, frames: &[(u32, u32)]) -> Result<ArrayRef> {
        self.few.slide(args, rows, frames)
    }

    fn sliding(&self) -> Box<dyn Sliding> {
        self.few.sliding()
    }

    fn memory(&self) -> usize {
        self.few.memory() + self.many.as_ref().map_or(0, P::memory)
    }

    fn as_any(&mut self) -> &mut dyn Any {
        self
    }
}
