//! Churn reshapes large tables: filter, join, group, pivot, window.
//!
//! A [`Flow`] is a lazy chain of steps. It is checked before it runs, streams over its files on all cores within
//! the memory it is given, and accounts for every row in its [`Ledger`].
//!
//! ```text
//!  steps, as text, as typed pieces, as SQL
//!       |  check: names and types, before a row is read
//!       v
//!  plan: only the columns and rows that the answer needs
//!       |  run: morsel by morsel on all cores, past the memory with files
//!       v
//!  Table, record batches, files   +   ledger: what became of every row
//! ```
//!
//! ```no_run
//! use churn::Flow;
//!
//! let by_farm = Flow::read("deliveries-*.csv")
//!     .filter("litres > 0 and collected_on >= date '2026-01-01'")
//!     .require("fat between 2 and 9")
//!     .fill("protein", "mean(protein) per grade")
//!     .group("farm", "litres = sum(litres), days = count_distinct(collected_on)")
//!     .add("share = litres / sum(litres) per table")
//!     .sort("share desc");
//!
//! println!("{}", by_farm.plan()?); // what it will read and do
//! let table = by_farm.run()?;
//! println!("{}", table.ledger()); // what became of every row
//! by_farm.write("by-farm.csv")?;
//! # Ok::<(), churn::Error>(())
//! ```
//!
//! Steps and expressions may also be built: [`steps`] has a struct for each step, [`column()`], [`lit`] and the other
//! functions build expressions. Both make the same steps, and what is built stays what it is: no name and no value can become
//! a part of another step.
//!
//! ```no_run
//! use churn::{BadCells, Flow, ReadOptions, Type, column, count, sum};
//!
//! let options = ReadOptions::new().type_of("collected_on", Type::Date).bad_cells(BadCells::Null);
//! let by_farm = Flow::read_with("deliveries-*.csv", options)
//!     .filter(column("litres").gt(0).and(column("grade").is_in(["A", "B"])))
//!     .group([column("farm")], [sum(column("litres")).named("litres"), count().named("loads")])
//!     .add((column("litres") / sum(column("litres")).per_table()).named("share"))
//!     .sort([column("share").desc()]);
//! let shares: Vec<f64> = by_farm.run()?.column("share")?;
//! # Ok::<(), churn::Error>(())
//! ```
//!
//! What is missing can be added: functions, aggregates, window functions, tables, formats and stores of your own, see
//! [`extend`].
//!
//! | to … | look at |
//! | --- | --- |
//! | read files that are not plain | [`Flow::read_with`], [`ReadOptions`] |
//! | choose and compute | [`Flow::filter`], [`Flow::select`], [`Flow::add`], [`column()`], [`case()`] |
//! | group, and look at neighbours | [`Flow::group`], [`Flow::window`], [`Frame`] |
//! | bring tables together | [`Flow::join`], [`Flow::append`], [`Flow::with_table`] |
//! | turn wide into long and back | [`Flow::pivot`], [`Flow::unpivot`] |
//! | ask in SQL, or run a recipe | [`Flow::sql`], [`Flow::recipe_file`] |
//! | take the answer | [`Table::column`], [`Flow::batches`], [`Flow::rows`], [`Flow::write`] |
//! | bound threads and memory, stop, follow | [`RunOptions`] |
//! | see what is wrong, will be done, was done | [`Error`], [`CheckedPlan`], [`Ledger`] |
//! | hand a run on to colleagues | [`Flow::report`] |
//! | know a table, and see it | [`Flow::profile`], [`Flow::chart`], [`Table::draw`] |
//!
//! | feature | what it adds; all are on by default |
//! | --- | --- |
//! | `formats` | all formats: `parquet`, `arrow-ipc`, `avro`, `json`, `workbook`, read and written, `orc`, read; delimited text needs none |
//! | `http` | addresses on the web are read |
//! | `sql` | chains may start with a query of the SQL standard: [`Flow::sql`] |
//! | `charts` | what flows through a chain is drawn: [`Flow::chart`], [`steps::Draw`] |
//! | `ffi` | tables go to other languages, and come from them, by the C stream interface of Arrow |
//!
//! Without any of them this is a core for delimited text: a program of one chain is 17.8 MB without symbols, and is built for
//! release from nothing in four and a half minutes on two cores.
//!
//! The language of steps and expressions is described in `docs/language.md`; [`functions`], [`aggregates`] and
//! [`STEPS`] give its catalogue to programs.

#![forbid(unsafe_code)]
#![deny(missing_docs)]

#[cfg(feature = "charts")]
mod draw;
pub mod extend;
mod flow;
mod lang;
mod options;
mod profile;
#[cfg(feature = "charts")]
mod report;
pub mod steps;
mod table;
mod topics;

/// The version of Arrow whose batches go in and out.
pub use arrow_array;
pub use arrow_schema;
pub use churn_core::aligned::wrapped;
pub use churn_core::aligned::{mark as control_mark, on_one_line};
pub use churn_core::error::nearest;
pub use churn_core::readable::{
    bytes as readable_bytes, grouped as readable_count, plural as readable_plural,
};
pub use churn_core::{
    Error, ErrorKind, Event, Interval, JoinKind, Ledger, LedgerStep, Place, Result, Scalar, SourceText, Span,
    Type,
};
#[cfg(feature = "charts")]
pub use churn_draw::terminal::Screen;
pub use churn_exec::Progress;
pub use churn_expr::Expr;
pub use churn_expr::aggregates::{Aggregate, all as aggregates};
pub use churn_expr::ast::{ColumnRef, ColumnSet, Edge, Frame, Unit};
pub use churn_expr::build::*;
pub use churn_expr::functions::{Family, Function, all as functions};
pub use churn_expr::windows::{WindowFunction, all as window_functions};
pub use churn_io::csv::{BadCells, BadRows, Encoding};
pub use churn_io::format::TextEncoding;
pub use churn_io::store::go_offline;
pub use churn_io::target::{Mode as WriteMode, write_file};
pub use churn_io::temporary::abandon as abandon_temporary_files;
/// The version of serde by which the states of your own aggregates are written to disk.
pub use serde;

#[cfg(feature = "charts")]
pub use draw::{Chart, ChartKind};
pub use flow::{
    ArrowReader, BatchReader, CheckedPlan, Flow, IntoColumns, IntoExpr, IntoItems, IntoOther, IntoPivot,
    IntoPivotItems, IntoRequire, IntoSortKeys, IntoStep, Join, RowReader, SourceView, Window,
};
pub use options::RunOptions;
pub use profile::{
    Bin, ColumnProfile, Count, Detail, Frequent, Lengths, PairProfile, Profile, ProfileView, Quartiles,
};
#[cfg(feature = "charts")]
pub use report::{Report, ReportChart, ReportInput, ReportOutput, ReportRows, ReportStep};
pub use steps::{CATALOGUE as STEPS, ReadOptions, StepKind, WriteOptions, find as step};
pub use table::{Cell, Table, View};
pub use topics::{Topic, TopicKind, search_topics, topics, topics_named};

/// The examples of the guide's page on Rust, which run as tests.
#[cfg(doctest)]
#[doc = include_str!("../docs/guide/from-rust.md")]
mod guide {}
