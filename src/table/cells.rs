//! Columns as values of Rust.

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Result, Scalar};
use jiff::civil::{Date, DateTime, Time};

use super::Table;

/// What a value of a column can be in Rust: `bool`, whole numbers, `f64`, `String`, dates and times of `jiff`, a [`Scalar`], or an
/// `Option` of one of them where nulls may be.
pub trait Cell: Sized {
    /// What it is called in a message.
    const NAME: &'static str;

    /// The value; `None` if it is another one, or null.
    fn of(value: Scalar) -> Option<Self>;
}

macro_rules! cells {
    ($($kind:ty: $name:literal),*) => {$(
        impl Cell for $kind {
            const NAME: &'static str = $name;

            fn of(value: Scalar) -> Option<$kind> {
                value.try_into().ok()
            }
        }
    )*};
}

cells!(
    bool: "bool", i32: "i32", i64: "i64", u32: "u32", u64: "u64", usize: "usize", f64: "f64", String: "String",
    Scalar: "Scalar", Date: "Date", Time: "Time", DateTime: "DateTime"
);

impl<T: Cell> Cell for Option<T> {
    const NAME: &'static str = T::NAME;

    fn of(value: Scalar) -> Option<Option<T>> {
        if value.is_null() { Some(None) } else { T::of(value).map(Some) }
    }
}

impl Table {
    /// All values of a column as values of Rust.
    ///
    /// # Errors
    /// There is no such column; it is of another type; it holds a null, and no `Option` is asked for.
    ///
    /// ```
    /// let table = churn::Flow::steps("values farm, litres: ('F001', 120.5), ('F002', null)").run()?;
    /// assert_eq!(table.column::<String>("farm")?, ["F001", "F002"]);
    /// assert_eq!(table.column::<Option<f64>>("litres")?, [Some(120.5), None]);
    /// let error = table.column::<f64>("litres").unwrap_err();
    /// assert_eq!(error.what(), "The column litres is null in row 2.");
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn column<T: Cell>(&self, column: &str) -> Result<Vec<T>> {
        let values = self.values(column)?;
        let read = |(row, value): (usize, Scalar)| {
            let (is_null, kind) = (value.is_null(), value.kind());
            T::of(value).ok_or_else(|| {
                if is_null {
                    let what = format!("The column {} is null in row {}.", name(column), row + 1);
                    return Error::new(ErrorKind::Type, what)
                        .next(format!("Ask for values that may be null: column::<Option<{}>>.", T::NAME));
                }
                let what = format!("The column {} is {kind}, and {} was asked for.", name(column), T::NAME);
                Error::new(ErrorKind::Type, what)
                    .next("Ask for the column's own type, or cast it in a step before.")
            })
        };
        values.into_iter().enumerate().map(read).collect()
    }
}
