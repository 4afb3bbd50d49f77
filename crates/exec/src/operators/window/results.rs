//! Results of a call, put where the rows stand as partitions are worked out.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

use arrow_array::cast::AsArray;
use arrow_array::types::{
    ArrowPrimitiveType, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, PrimitiveArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use churn_core::{Error, ErrorKind, Result, Type};

/// The results of a call whose values have 64 bits, for all rows.
///
/// Each row's is stored once, by the thread that works on its partition.
pub(super) struct Results {
    kind: Type,
    words: Vec<AtomicU64>,
    /// Where there is none; made when the first null comes.
    nulls: OnceLock<Vec<AtomicBool>>,
}

impl Results {
    /// For so many rows; none for a type whose values have not 64 bits.
    pub(super) fn new(kind: &Type, rows: usize) -> Option<Results> {
        let is_word = matches!(kind, Type::Int | Type::Float | Type::Time | Type::Timestamp);
        let words = || std::iter::repeat_with(AtomicU64::default).take(rows).collect();
        is_word.then(|| Results { kind: kind.clone(), words: words(), nulls: OnceLock::new() })
    }

    /// Stores the results of some rows.
    ///
    /// # Errors
    /// They are of another type.
    pub(super) fn put(&self, rows: &[u32], results: &ArrayRef) -> Result<()> {
        match self.kind {
            Type::Float => self.store::<Float64Type>(rows, results, f64::to_bits),
            Type::Time => self.store::<Time64MicrosecondType>(rows, results, i64::cast_unsigned),
            Type::Timestamp => self.store::<TimestampMicrosecondType>(rows, results, i64::cast_unsigned),
            _ => self.store::<Int64Type>(rows, results, i64::cast_unsigned),
        }
    }

    fn store<T: ArrowPrimitiveType>(
        &self,
        rows: &[u32],
        results: &ArrayRef,
        bits: impl Fn(T::Native) -> u64,
    ) -> Result<()> {
        let lost = || Error::new(ErrorKind::Internal, "A window function gives values of another type.");
        let values = results.as_primitive_opt::<T>().ok_or_else(lost)?;
        for (row, value) in rows.iter().zip(values.values()) {
            if let Some(word) = self.words.get(*row as usize) {
                word.store(bits(*value), Ordering::Relaxed);
            }
        }
        let Some(nulls) = values.nulls().filter(|nulls| nulls.null_count() > 0) else { return Ok(()) };
        let are_null = self
            .nulls
            .get_or_init(|| std::iter::repeat_with(AtomicBool::default).take(self.words.len()).collect());
        for (row, _) in rows.iter().zip(nulls).filter(|(_, is_valid)| !is_valid) {
            if let Some(is_null) = are_null.get(*row as usize) {
                is_null.store(true, Ordering::Relaxed);
            }
        }
        Ok(())
    }

    /// The column of all rows.
    pub(super) fn finish(self) -> ArrayRef {
        let is_valid = |is_null: AtomicBool| !is_null.into_inner();
        let nulls = self.nulls.into_inner();
        let nulls =
            nulls.map(|nulls| NullBuffer::new(BooleanBuffer::from_iter(nulls.into_iter().map(is_valid))));
        fn of<T: ArrowPrimitiveType>(
            words: Vec<AtomicU64>,
            nulls: Option<NullBuffer>,
            value: impl Fn(u64) -> T::Native,
        ) -> ArrayRef {
            let values: Vec<T::Native> = words.into_iter().map(|word| value(word.into_inner())).collect();
            Arc::new(PrimitiveArray::<T>::new(values.into(), nulls))
        }
        match self.kind {
            Type::Float => of::<Float64Type>(self.words, nulls, f64::from_bits),
            Type::Time => of::<Time64MicrosecondType>(self.words, nulls, u64::cast_signed),
            Type::Timestamp => of::<TimestampMicrosecondType>(self.words, nulls, u64::cast_signed),
            _ => of::<Int64Type>(self.words, nulls, u64::cast_signed),
        }
    }
}
