//! What a flow is given beside the language.

use std::collections::BTreeMap;
use std::sync::Arc;

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Result};
use churn_expr::extend::{Functions, OwnFunction};
use churn_io::format::{Format, Formats, OwnFormat};
use churn_io::own::{Own, OwnSource};
use churn_io::source::Source;
use churn_io::store::{Store, Stores};

use crate::topics::{Topic, TopicKind, topics};

/// Functions, tables, formats and stores of a user's own, for the flows that are given them by [`Flow::extended`](crate::Flow::extended).
#[derive(Clone, Debug, Default)]
pub struct Catalogue {
    functions: Arc<Functions>,
    tables: BTreeMap<String, Arc<dyn Source>>,
    formats: Formats,
    stores: Stores,
}

impl Catalogue {
    /// Nothing beside what the language has.
    pub fn new() -> Catalogue {
        Catalogue::default()
    }

    /// With one more function: a [`ScalarFunction`](super::ScalarFunction), an
    /// [`AggregateFunction`](super::AggregateFunction) or a [`WindowFunction`](super::WindowFunction). Names are written in
    /// any case.
    ///
    /// # Errors
    /// The language, or this catalogue, has one of that name; the name is none that a call can be written with.
    pub fn with(mut self, function: impl Into<OwnFunction>) -> Result<Catalogue> {
        self.functions = Arc::new(Functions::clone(&self.functions).with(function.into())?);
        Ok(self)
    }

    /// With a source that recipes read as a table of this name: `read NAME`, `join NAME on …`. A table that a recipe
    /// declares itself comes before one of the same name here.
    ///
    /// # Errors
    /// This catalogue has one of that name; the source has no column, or one of a type that the language lacks.
    ///
    /// ```
    /// use std::sync::Arc;
    /// use churn::arrow_array::{ArrayRef, Int64Array, RecordBatch};
    /// use churn::arrow_schema::{DataType, Field, Schema, SchemaRef};
    /// use churn::extend::{Batches, Catalogue, Source};
    ///
    /// /// The numbers of a herd's stalls.
    /// #[derive(Debug)]
    /// struct Stalls(i64);
    ///
    /// impl Source for Stalls {
    ///     fn schema(&self) -> SchemaRef {
    ///         Arc::new(Schema::new(vec![Field::new("stall", DataType::Int64, false)]))
    ///     }
    ///     fn read(&self, columns: &[usize]) -> churn::Result<Batches> {
    ///         let schema = Arc::new(self.schema().project(columns).unwrap());
    ///         let stalls: ArrayRef = Arc::new(Int64Array::from_iter_values(1..=self.0));
    ///         let arrays = columns.iter().map(|_| stalls.clone()).collect();
    ///         Ok(Box::new(std::iter::once(Ok(RecordBatch::try_new(schema, arrays).unwrap()))))
    ///     }
    /// }
    ///
    /// let catalogue = Catalogue::new().with_table("stalls", Stalls(40))?;
    /// let table = churn::Flow::steps("read stalls\ntotal n = count(stall)").extended(&catalogue).run()?;
    /// assert_eq!(table.value(0, "n")?, churn::Scalar::Int(40));
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn with_table(mut self, table: &str, source: impl OwnSource) -> Result<Catalogue> {
        if self.tables.contains_key(table) {
            let what = format!("There is a table {} already.", name(table));
            return Err(Error::new(ErrorKind::Name, what).next("Give yours another name."));
        }
        self.tables.insert(table.to_owned(), Arc::new(Own::named(Arc::new(source), table.to_owned())?));
        Ok(self)
    }

    /// With one more format of files, which `read`, `write` and the names of files choose as they do ours.
    ///
    /// # Errors
    /// There is one that goes by one of its names.
    pub fn with_format(mut self, format: OwnFormat) -> Result<Catalogue> {
        self.formats = self.formats.with(Format::new(format))?;
        Ok(self)
    }

    /// With one more store, whose addresses are read, and written if it can, as those of the web are read.
    ///
    /// # Errors
    /// There is one for its scheme.
    pub fn with_store(mut self, store: impl Store) -> Result<Catalogue> {
        self.stores = self.stores.with(store)?;
        Ok(self)
    }

    /// Everything that the language has with this catalogue, for help and search: [`topics`], and what is added.
    pub fn topics(&self) -> Vec<Topic> {
        let own = self.functions.own().map(|function| {
            let kind = match function {
                OwnFunction::Scalar(_) => TopicKind::Function,
                OwnFunction::Aggregate(_) => TopicKind::Aggregate,
                OwnFunction::Window(_) => TopicKind::WindowFunction,
            };
            let [name, usage, summary, example] = function.described();
            Topic { kind, name, usage, summary, example, gives: None }
        });
        topics().chain(own).collect()
    }

    pub(crate) fn functions(&self) -> &Arc<Functions> {
        &self.functions
    }

    pub(crate) fn formats(&self) -> &Formats {
        &self.formats
    }

    pub(crate) fn stores(&self) -> &Stores {
        &self.stores
    }

    /// The source of a table.
    pub(crate) fn table(&self, name: &str) -> Option<&Arc<dyn Source>> {
        self.tables.get(name)
    }

    /// The names of all tables.
    pub(crate) fn table_names(&self) -> impl Iterator<Item = &str> {
        self.tables.keys().map(String::as_str)
    }

    /// Both catalogues together; what both have must be the same.
    ///
    /// # Errors
    /// Both have a function or a table of one name, and not the same.
    pub(crate) fn together(mut self, other: &Catalogue) -> Result<Catalogue> {
        self.functions = Arc::new(Functions::clone(&self.functions).together(&other.functions)?);
        self.formats = self.formats.together(&other.formats)?;
        self.stores = self.stores.together(&other.stores)?;
        for (table, source) in &other.tables {
            if let Some(own) = self.tables.insert(table.clone(), source.clone())
                && !Arc::ptr_eq(&own, source)
            {
                let what = format!("There are two tables {}, and not alike.", name(table));
                return Err(Error::new(ErrorKind::Name, what).next("Give one of them another name."));
            }
        }
        Ok(self)
    }
}
