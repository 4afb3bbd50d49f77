//! Numbers, days and points in time.

use std::marker::PhantomData;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrowPrimitiveType};
use churn_kernels::dense::Dense;
use churn_kernels::known::known_part;
use churn_kernels::numbering::Numbering;
use parquet::file::statistics::{Statistics, ValueStatistics};

use super::{MinMax, PageBounds, ValueEncoder};

/// A number of fixed width: how it is stored, and what it is compared as.
pub(super) trait Stored: ArrowPrimitiveType {
    type Ordered: Copy + PartialOrd + Send;
    const WIDTH: usize;
    /// How many are no numbers; `None` for types that have none such.
    fn nans(values: &[Self::Native]) -> Option<i64>;
    /// `None` for what is no number.
    fn ordered(value: Self::Native) -> Option<Self::Ordered>;
    /// Its bits, in the low bytes.
    fn bits(value: Self::Native) -> u64;
    /// Zero has two signs: as the least value it is told with one, as the greatest with the other.
    fn told(least: Self::Ordered, greatest: Self::Ordered) -> (Self::Ordered, Self::Ordered) {
        (least, greatest)
    }
    fn bytes(value: Self::Ordered) -> Vec<u8>;
    fn statistics(told: ValueStatistics<Self::Ordered>) -> Statistics;
    /// The table that is asked before the one for any keys.
    fn find(_: &Dense, _: &[Self::Native], _: &mut Vec<u32>) -> bool {
        false
    }
    fn learn(_: &mut Dense, _: &[Self::Native], _: &[u32]) {}
}

macro_rules! whole {
    ($kind:ty, $native:ty) => {
        impl Stored for $kind {
            type Ordered = $native;
            const WIDTH: usize = size_of::<$native>();
            fn nans(_: &[$native]) -> Option<i64> {
                None
            }
            fn ordered(value: $native) -> Option<$native> {
                Some(value)
            }
            fn bits(value: $native) -> u64 {
                i64::from(value).cast_unsigned()
            }
            fn bytes(value: $native) -> Vec<u8> {
                value.to_le_bytes().to_vec()
            }
            fn statistics(told: ValueStatistics<$native>) -> Statistics {
                told.into()
            }
            fn find(near: &Dense, keys: &[$native], into: &mut Vec<u32>) -> bool {
                near.find(keys, into)
            }
            fn learn(near: &mut Dense, keys: &[$native], numbers: &[u32]) {
                if near.cover(keys) {
                    near.learn(keys, numbers);
                }
            }
        }
    };
}

whole!(Int64Type, i64);
whole!(Date32Type, i32);
whole!(Time64MicrosecondType, i64);
whole!(TimestampMicrosecondType, i64);

impl Stored for Float64Type {
    type Ordered = f64;
    const WIDTH: usize = 8;
    fn nans(values: &[f64]) -> Option<i64> {
        Some(values.iter().filter(|value| value.is_nan()).count() as i64)
    }
    fn ordered(value: f64) -> Option<f64> {
        (!value.is_nan()).then_some(value)
    }
    fn bits(value: f64) -> u64 {
        value.to_bits()
    }
    fn told(least: f64, greatest: f64) -> (f64, f64) {
        (if least == 0.0 { -0.0 } else { least }, if greatest == 0.0 { 0.0 } else { greatest })
    }
    fn bytes(value: f64) -> Vec<u8> {
        value.to_le_bytes().to_vec()
    }
    fn statistics(told: ValueStatistics<f64>) -> Statistics {
        told.into()
    }
}

/// Numbers, days and points in time.
pub(super) struct Fixed<T: Stored> {
    numbering: Numbering,
    near: Dense,
    bounds: MinMax<T::Ordered>,
    nans: Nans,
    keys: Vec<u128>,
    kind: PhantomData<T>,
}

/// How many values are no numbers, of the page and of all pages; `None` for types that have none such.
struct Nans {
    page: Option<i64>,
    all: Option<i64>,
}

impl<T: Stored> Default for Fixed<T> {
    fn default() -> Self {
        Fixed {
            numbering: Numbering::default(),
            near: Dense::default(),
            bounds: MinMax::default(),
            nans: Nans { page: T::nans(&[]), all: T::nans(&[]) },
            keys: Vec::new(),
            kind: PhantomData,
        }
    }
}

impl<T: Stored> Fixed<T> {
    /// Calls with the values that are not null, and takes note of their bounds.
    fn each(&mut self, array: &dyn Array, then: impl FnOnce(&mut Self, &[T::Native])) {
        let array = array.as_primitive::<T>();
        let some: Vec<T::Native>;
        let values = match array.nulls().filter(|nulls| nulls.null_count() > 0) {
            None => array.values().as_ref(),
            Some(_) => {
                some = array.iter().flatten().collect();
                &some
            }
        };
        if let (Some(page), Some(more)) = (&mut self.nans.page, T::nans(values)) {
            *page += more;
        }
        let mut ordered = values.iter().filter_map(|v| T::ordered(*v));
        if let Some(first) = ordered.next() {
            let (least, greatest) = ordered.fold((first, first), |(least, greatest), v| {
                (if v < least { v } else { least }, if v > greatest { v } else { greatest })
            });
            self.bounds.add(least, greatest);
        }
        then(self, values);
    }
}

impl<T: Stored> ValueEncoder for Fixed<T>
where
    Self: Send,
{
    fn number(&mut self, array: &dyn Array, into: &mut Vec<u32>) {
        self.each(array, |own, values| {
            if T::find(&own.near, values, into) {
                return;
            }
            let before = into.len();
            own.keys.clear();
            own.keys.extend(values.iter().map(|v| u128::from(T::bits(*v))));
            own.numbering.number(&own.keys, into);
            T::learn(&mut own.near, values, known_part(into, before..));
        });
    }

    fn end_numbers(&mut self) {
        self.numbering.end();
        self.near = Dense::default();
    }

    fn plain(&mut self, array: &dyn Array, into: &mut Vec<u8>) {
        self.each(array, |_, values| {
            into.reserve(values.len() * T::WIDTH);
            values.iter().for_each(|v| into.extend(T::bits(*v).to_le_bytes().iter().take(T::WIDTH)));
        });
    }

    fn len(&self) -> usize {
        self.numbering.keys().len()
    }

    fn size(&self) -> usize {
        self.len() * T::WIDTH
    }

    fn dictionary(&self) -> Vec<u8> {
        self.numbering.keys().iter().flat_map(|k| k.to_le_bytes().into_iter().take(T::WIDTH)).collect()
    }

    fn page(&mut self) -> PageBounds {
        self.keys = Vec::new();
        let bounds = self.bounds.end_page().map(|(a, b)| T::told(a, b));
        let least_and_greatest = bounds.map(|(a, b)| (T::bytes(a), T::bytes(b)));
        let nans = std::mem::replace(&mut self.nans.page, T::nans(&[]));
        self.nans.all = self.nans.all.zip(nans).map(|(a, b)| a + b);
        PageBounds { least_and_greatest, nans }
    }

    fn order(&self) -> (bool, bool) {
        (!self.bounds.falls, !self.bounds.rises)
    }

    fn statistics(&self, nulls: u64) -> Statistics {
        let (least, greatest) = self.bounds.all.map(|(a, b)| T::told(a, b)).unzip();
        let told = ValueStatistics::new(least, greatest, None, Some(nulls), false);
        T::statistics(told.with_nan_count(self.nans.all.map(i64::cast_unsigned)))
    }
}
