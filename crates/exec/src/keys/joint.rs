//! A few keys, each numbered by a table of its own, and their numbers together: for groups that are few, where each of
//! the looks is cheap.

use arrow_array::ArrayRef;
use churn_core::Result;
use churn_kernels::dense::Dense;
use churn_kernels::numbering::Numbering;

use super::{KeyTable, TableKeys, encoding};

/// Joint keys past which a table keeps each whole.
const MANY_JOINT: usize = 1 << 17;

impl KeyTable {
    /// Numbers each key by itself, and their numbers together.
    pub(super) fn joint_numbers(
        &mut self,
        keys: &[ArrayRef],
        rows: usize,
        into: &mut Vec<u32>,
    ) -> Result<()> {
        let TableKeys::Joint { parts, .. } = &mut self.keys else { return Ok(()) };
        let (mut numbers, mut shifts, mut shift) = (Vec::with_capacity(parts.len()), Vec::new(), 0);
        for (part, key) in parts.iter_mut().zip(keys) {
            let mut own = Vec::with_capacity(rows);
            part.numbers(std::slice::from_ref(key), rows, &mut own)?;
            numbers.push(own);
            shifts.push(shift);
            shift += usize::BITS - part.len().leading_zeros();
        }
        if shifts != self.shifts {
            self.shifts = shifts;
            self.dense.iter_mut().for_each(Dense::clear);
        }
        let mut near =
            if shift < u32::BITS { numbers.first().cloned().unwrap_or_default() } else { Vec::new() };
        for (own, shift) in numbers.iter().zip(&self.shifts).skip(1) {
            near.iter_mut().zip(own).for_each(|(key, number)| *key |= number << shift);
        }
        let otherwise = |table: &mut Self, into: &mut Vec<u32>| {
            let TableKeys::Joint { numbering, .. } = &mut table.keys else { return Ok(()) };
            let mut joint = vec![0u128; rows];
            numbers.iter().enumerate().for_each(|(part, own)| join(&mut joint, own, part));
            numbering.number(&joint, into);
            // With so many keys it is better to keep each once.
            if table.len() > MANY_JOINT { table.unjoin() } else { Ok(()) }
        };
        if near.len() < rows { otherwise(self, into) } else { self.near_numbers(&near, into, otherwise) }
    }

    /// Appends the numbers of joint keys that the table has.
    pub(super) fn find_joint(&self, keys: &[ArrayRef], rows: usize, into: &mut Vec<u32>) -> Result<()> {
        let TableKeys::Joint { parts, numbering } = &self.keys else { return Ok(()) };
        let mut joint = vec![0u128; rows];
        let mut numbers = Vec::with_capacity(rows);
        for (i, (part, key)) in parts.iter().zip(keys).enumerate() {
            numbers.clear();
            part.find(std::slice::from_ref(key), rows, &mut numbers)?;
            join(&mut joint, &numbers, i);
        }
        numbering.find_all(&joint, into);
        Ok(())
    }

    /// From joint keys, whose numbers mean nothing outside the table, to whole ones; the numbers of keys stay.
    pub(super) fn unjoin(&mut self) -> Result<()> {
        let count = self.len();
        let arrays = self.arrays(&(0..count as u32).collect::<Vec<_>>())?;
        self.keys = match encoding::pack(&arrays, count, None) {
            Some(keys) => TableKeys::Packed(Numbering::of_distinct(keys)),
            None => TableKeys::Bytes(self.numbered(&encoding::encode(&arrays, count))),
        };
        self.dense = Some(Dense::default());
        Ok(())
    }
}

/// Puts the numbers of a part at their place in joint keys; one that is not known makes a key that none is.
fn join(joint: &mut [u128], numbers: &[u32], part: usize) {
    for (key, number) in joint.iter_mut().zip(numbers) {
        *key |= u128::from(*number) << (32 * part);
    }
}
