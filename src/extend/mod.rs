//! What a user adds to the language from Rust: functions that the checker knows, offers and calls as it does ours, tables
//! that recipes read by name, formats of files, and stores of files that have addresses.
//!
//! ```
//! use churn::Flow;
//! use churn::extend::{Catalogue, ScalarFunction};
//!
//! let quality = ScalarFunction::of_values("quality", |fat: Option<f64>, cells: Option<i64>| {
//!     Some(fat? * 10.0 - cells? as f64 / 100.0)
//! });
//! let catalogue = Catalogue::new().with(quality)?;
//! let milk = Flow::steps("values fat, cells: (4.1, 200), (3.9, null)").extended(&catalogue);
//! let table = milk.clone().add("q = quality(fat, cells)").run()?;
//! assert_eq!(table.column::<Option<f64>>("q")?, [Some(39.0), None]);
//! // It is offered where its name is mistyped.
//! let error = milk.filter("qualty(fat, cells) > 1").check().unwrap_err();
//! assert_eq!(error.advice(), ["Did you mean quality?"]);
//! # Ok::<(), churn::Error>(())
//! ```

mod catalogue;

pub use catalogue::Catalogue;
pub use churn_expr::extend::{
    AddValues, AggregateFunction, AggregateState, OverValues, OwnFunction, RowAfterRow, ScalarFunction,
    Value, WindowFunction,
};
pub use churn_io::format::{OwnFormat as Format, OwnWriter as Writer};
pub use churn_io::own::{OwnBatches as Batches, OwnSource as Source};
pub use churn_io::store::{Store, StoredFile, StoredStream};
