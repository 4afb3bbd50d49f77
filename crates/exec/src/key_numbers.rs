//! Different values of a column, numbered from 0 in the order in which they first come.

use arrow_array::ArrayRef;
use churn_core::widen::widen;
use churn_core::{Result, Scalar, Type};

use crate::keys::KeyTable;

/// The different values of a column; null is one of them.
pub struct KeyNumbers(KeyTable);

impl KeyNumbers {
    /// None yet, of a type that can be compared.
    pub fn new(kind: Type) -> KeyNumbers {
        KeyNumbers(KeyTable::new(vec![kind]))
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The number of each row's value; new ones are added.
    ///
    /// # Errors
    /// A fault of this crate: the column is of another type.
    pub fn numbers(&mut self, column: &ArrayRef) -> Result<Vec<u32>> {
        let mut numbers = Vec::with_capacity(column.len());
        self.0.numbers(std::slice::from_ref(column), column.len(), &mut numbers)?;
        Ok(numbers)
    }

    /// The values, by their numbers.
    ///
    /// # Errors
    /// As [`KeyNumbers::numbers`].
    pub fn values(&self) -> Result<Vec<Scalar>> {
        let all: Vec<u32> = (0..self.len() as u32).collect();
        let columns = self.0.arrays(&all)?;
        let column = columns.first().map(widen).transpose()?;
        Ok(column
            .map(|column| (0..all.len()).map(|row| Scalar::from_array(&column, row)).collect())
            .unwrap_or_default())
    }
}
