//! `Flow`: a chain of steps that nothing has run yet.

mod arguments;
mod batches;
#[cfg(feature = "charts")]
mod draw;
mod from_rows;
mod plan;
mod profile;
#[cfg(test)]
mod rewrites;
mod shapes;
mod tables;

use std::fmt::{self, Display};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::RecordBatch;
use churn_core::{Batch, Error, ErrorKind, Ledger, Result, SourceText, Span, Type, deep};
use churn_expr::moment::Moment;
use churn_io::memory::Memory;
use churn_io::own::{Own, OwnSource};
use churn_io::source::{Source, SourceColumn};
use churn_plan::{Find, Plan, Wanted, rules};

pub use arguments::{
    IntoColumns, IntoExpr, IntoItems, IntoOther, IntoPivot, IntoPivotItems, IntoRequire, IntoSortKeys,
    IntoStep,
};
pub use batches::{ArrowReader, BatchReader, RowReader};
pub use plan::{CheckedPlan, SourceView};
pub use tables::{Join, Window};

use crate::extend::Catalogue;
use crate::lang::recipe::{self, Chain, CheckRequest, Checked, PlacedStep, Recipe};
use crate::options::RunOptions;
use crate::steps::{self, Given, ReadOptions, Step};
use crate::table::Table;

/// A lazy chain of steps: each method adds one, nothing is read until it is run.
///
/// Steps take text in the language, or expressions built from [`column`](crate::column); both make the same
/// plan. A mistake is kept until [`check`](Flow::check) or a run tells it with its place, so a chain needs one
/// `?`. Cheap to clone.
///
/// ```
/// use churn::{column, sum, Flow};
///
/// let flow = Flow::steps("values farm, litres: ('F001', 120.0), ('F002', 80.0), ('F001', 30.5)")
///     .filter(column("litres").gt(50))
///     .group("farm", sum(column("litres")).named("litres"))
///     .sort("litres desc");
/// let table = flow.run()?;
/// assert_eq!(table.value(0, "litres")?, churn::Scalar::Float(120.0));
/// # Ok::<(), churn::Error>(())
/// ```
///
/// A name that is not there is told before anything is read:
///
/// ```
/// let flow = churn::Flow::steps("values farm, litres: ('F001', 120)").filter("liters > 50");
/// let error = flow.check().unwrap_err();
/// assert!(error.to_string().contains("Did you mean litres?"));
/// ```
#[derive(Clone)]
pub struct Flow {
    recipe: Arc<Recipe>,
    givens: Vec<(String, String)>,
    base: PathBuf,
    /// What the user adds to the language.
    catalogue: Arc<Catalogue>,
    /// The first mistake of a step's text.
    mistake: Option<Error>,
}

impl Flow {
    /// Starts from a path: a file, a glob, a folder, or `-` for standard input.
    ///
    /// What stands there is looked at when the chain is checked.
    pub fn read(path: impl AsRef<Path>) -> Flow {
        Flow::empty().step(steps::reading(path.as_ref()))
    }

    /// Starts from a path, read as the options say.
    ///
    /// ```
    /// use churn::{Flow, ReadOptions, Type};
    /// let flow = Flow::read_with("quota.csv", ReadOptions::new().type_of("farm", Type::Text).separator(';'));
    /// assert_eq!(flow.to_string(), "read 'quota.csv' with (types = (farm text), separator = ';')\n");
    /// ```
    pub fn read_with(path: impl AsRef<Path>, options: ReadOptions) -> Flow {
        Flow::empty().step(steps::Read::new(path).with(options))
    }

    /// Starts from the step that starts a chain: [`steps::Read`], [`steps::Values`], …
    pub fn of(step: impl Into<Step>) -> Flow {
        Flow::empty().step(step)
    }

    /// Starts from steps written in the language, one a line.
    pub fn steps(text: &str) -> Flow {
        Flow::empty().then(text)
    }

    /// Starts from a whole recipe; its paths are relative to the working folder.
    pub fn recipe(text: &str) -> Flow {
        Flow::parsed(SourceText { name: "recipe".into(), text: text.to_owned() }, PathBuf::new())
    }

    /// Starts from a recipe file; its paths are relative to the file's folder.
    ///
    /// # Errors
    /// The file cannot be read. What is wrong in it is told by [`Flow::check`].
    pub fn recipe_file(path: impl AsRef<Path>) -> Result<Flow> {
        let path = path.as_ref();
        let text = recipe::read_file(path)?;
        let base = path.parent().map(Path::to_owned).unwrap_or_default();
        Ok(Flow::parsed(SourceText { name: path.display().to_string(), text }, base))
    }

    /// Starts from a query of the SQL standard, which becomes the steps that it means.
    ///
    /// In its `from` stand files in single quotes, and tables that [`Flow::with_table`] gives. [`Flow::expanded`] shows
    /// the steps.
    ///
    /// ```
    /// use churn::Flow;
    /// let milk = Flow::steps("values farm, litres: ('F001', 120.0), ('F002', 80.0), ('F001', 30.5)");
    /// let by_farm = Flow::sql("select farm, sum(litres) as litres from milk group by farm order by litres desc")
    ///     .with_table("milk", &milk);
    /// assert_eq!(by_farm.run()?.column::<f64>("litres")?, [150.5, 80.0]);
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[cfg(feature = "sql")]
    pub fn sql(query: &str) -> Flow {
        Flow::query(SourceText { name: "the query".into(), text: query.trim().to_owned() }, PathBuf::new())
    }

    /// Starts from a file that holds a query; the paths in it are relative to the file's folder.
    ///
    /// # Errors
    /// The file cannot be read. What is wrong in it is told by [`Flow::check`].
    #[cfg(feature = "sql")]
    pub fn sql_file(path: impl AsRef<Path>) -> Result<Flow> {
        let path = path.as_ref();
        let text = recipe::read_query(path)?;
        let base = path.parent().map(Path::to_owned).unwrap_or_default();
        Ok(Flow::query(SourceText { name: path.display().to_string(), text }, base))
    }

    #[cfg(feature = "sql")]
    fn query(source: SourceText, base: PathBuf) -> Flow {
        let (step, span) = (steps::Sql::of_file(&source.text), Span { start: 0, end: source.text.len() });
        let placed = PlacedStep { step: step.into(), span, source: Arc::new(source) };
        let mut flow = Flow { base, ..Flow::empty() };
        flow.mistake = flow.push(placed).err();
        flow
    }

    /// The flow with the steps that its queries mean in place of the queries: a recipe, as `Display` prints it.
    ///
    /// # Errors
    /// As [`Flow::check`], as far as it must be known what the columns are.
    ///
    /// ```
    /// let flow = churn::Flow::sql("select n + 1 as n from (values (1), (2)) as t(n) where n > 1").expanded()?;
    /// assert_eq!(flow.to_string(), "values column_1\n  1\n  2\nfilter column_1 > 1\nselect n = column_1 + 1\n");
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[cfg(feature = "sql")]
    pub fn expanded(&self) -> Result<Flow> {
        if let Some(mistake) = &self.mistake {
            return Err(mistake.clone());
        }
        let request = self.request(None, &Moment::default())?;
        let recipe = deep::with_room_for(self.recipe.length(), || recipe::expanded(&self.recipe, &request))?;
        Ok(Flow { recipe: Arc::new(recipe), ..self.clone() })
    }

    /// Starts from record batches, without a copy.
    ///
    /// # Errors
    /// The batches have different schemas, or a column has a type that the language lacks.
    ///
    /// ```
    /// use std::sync::Arc;
    /// use arrow_array::{ArrayRef, Int32Array, RecordBatch};
    ///
    /// let litres: ArrayRef = Arc::new(Int32Array::from(vec![120, 80]));
    /// let batch = RecordBatch::try_from_iter([("litres", litres)]).unwrap();
    /// let table = churn::Flow::batches_of(vec![batch])?.total("litres = sum(litres)").run()?;
    /// assert_eq!(table.value(0, "litres")?, churn::Scalar::Int(200));
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn batches_of(batches: Vec<RecordBatch>) -> Result<Flow> {
        let Some(schema) = batches.first().map(RecordBatch::schema) else {
            return Err(Error::new(ErrorKind::Input, "There is no batch, and so no columns are known."));
        };
        let mut columns = Vec::new();
        for field in schema.fields() {
            if Type::of(field.data_type()).is_none() {
                let what = format!(
                    "The column {} is {}, which the language lacks.",
                    field.name(),
                    field.data_type()
                );
                return Err(Error::new(ErrorKind::Type, what));
            }
            columns.push(SourceColumn {
                name: field.name().clone(),
                data: field.data_type().clone(),
                open: false,
            });
        }
        let mut held = Vec::new();
        for batch in &batches {
            let same =
                batch.schema().fields().iter().map(|f| f.data_type()).eq(columns.iter().map(|c| &c.data));
            if !same {
                return Err(Error::new(ErrorKind::Input, "The batches have different columns."));
            }
            held.push(Batch { columns: batch.columns().to_vec(), rows: batch.num_rows() });
        }
        Ok(Flow::over(Arc::new(Memory::new(columns, held)), "batches in memory".into()))
    }

    /// Starts from a source of your own, which is read as the run goes on; see [`extend::Source`](crate::extend::Source).
    ///
    /// # Errors
    /// It has no column, or one of a type that the language lacks.
    pub fn of_source(source: impl OwnSource) -> Result<Flow> {
        let shown = source.name();
        Ok(Flow::over(Arc::new(Own::new(source)?), shown))
    }

    /// Starts from a source that has no text in the language.
    fn over(source: Arc<dyn Source>, shown: String) -> Flow {
        let text = Arc::new(SourceText { name: shown.clone(), text: String::new() });
        let placed = PlacedStep { step: Given { source, shown }.into(), span: Span::default(), source: text };
        let mut flow = Flow::empty();
        Arc::make_mut(&mut flow.recipe).main.steps.push(placed);
        flow
    }

    fn empty() -> Flow {
        let source = Arc::new(SourceText { name: "flow".into(), text: String::new() });
        let main = Chain { name: String::new(), steps: Vec::new() };
        let recipe = Recipe { source, givens: Vec::new(), defines: Vec::new(), tables: Vec::new(), main };
        Flow {
            recipe: Arc::new(recipe),
            givens: Vec::new(),
            base: PathBuf::new(),
            catalogue: Arc::default(),
            mistake: None,
        }
    }

    fn parsed(source: SourceText, base: PathBuf) -> Flow {
        match recipe::parse(&Arc::new(source)) {
            Ok(recipe) => Flow { recipe: Arc::new(recipe), base, ..Flow::empty() },
            Err(error) => Flow { mistake: Some(error), base, ..Flow::empty() },
        }
    }

    /// Adds steps written in the language, one a line.
    #[must_use]
    pub fn then(mut self, text: &str) -> Flow {
        if self.mistake.is_some() {
            return self;
        }
        let source = Arc::new(SourceText { name: self.next_name(), text: text.to_owned() });
        let added = recipe::parse_chain(&source)
            .and_then(|steps| steps.into_iter().try_for_each(|step| self.push(step)));
        self.mistake = added.err();
        self
    }

    /// Adds a step that was built in Rust.
    ///
    /// ```
    /// use churn::{Flow, column, steps};
    /// let flow = Flow::read("deliveries-2026.csv").step(steps::Filter::new(column("litres").gt(0)));
    /// assert_eq!(flow, Flow::steps("read 'deliveries-2026.csv'\nfilter litres > 0"));
    /// ```
    #[must_use]
    pub fn step(mut self, step: impl Into<Step>) -> Flow {
        if self.mistake.is_none() {
            let placed = PlacedStep::located(step.into(), self.next_name());
            self.mistake = placed.and_then(|placed| self.push(placed)).err();
        }
        self
    }

    /// Adds a step of what it is given, or keeps the mistake in that.
    fn made(mut self, step: Result<Step>) -> Flow {
        match step {
            Ok(step) => self.step(step),
            Err(error) => {
                self.mistake.get_or_insert(error);
                self
            }
        }
    }

    /// The steps of the chain, its tables' left out; none where a text could not be read.
    pub fn chain(&self) -> impl Iterator<Item = &Step> {
        self.recipe.main.steps.iter().map(|placed| &placed.step)
    }

    /// What messages call the next step.
    fn next_name(&self) -> String {
        match self.recipe.main.steps.len() {
            0 => "the first step".into(),
            before => format!("step {}", before + 1),
        }
    }

    /// Adds a step, unless it stands where it cannot.
    fn push(&mut self, placed: PlacedStep) -> Result<()> {
        if placed.step.check().starts() != self.recipe.main.steps.is_empty() {
            return Err(misplaced(&placed));
        }
        Arc::make_mut(&mut self.recipe).main.steps.push(placed);
        Ok(())
    }

    /// Sets a parameter of the recipe; the text is read as its default's type.
    #[must_use]
    pub fn given(mut self, name: &str, value: impl Display) -> Flow {
        self.givens.push((name.to_owned(), value.to_string()));
        self
    }

    /// Lets steps and expressions use what is your own; see [`extend`](crate::extend).
    #[must_use]
    pub fn extended(mut self, catalogue: &Catalogue) -> Flow {
        self.catalogue = Arc::new(catalogue.clone());
        self
    }

    /// Sets the folder that paths are relative to.
    #[must_use]
    pub fn in_folder(mut self, folder: impl Into<PathBuf>) -> Flow {
        self.base = folder.into();
        self
    }

    /// Keeps the rows where a condition is true.
    #[must_use]
    pub fn filter(self, condition: impl IntoExpr) -> Flow {
        self.made(condition.into_expr().map(|condition| steps::Filter::new(condition).into()))
    }

    /// Keeps exactly these columns: `"farm, day = collected_on"`.
    #[must_use]
    pub fn select(self, items: impl IntoItems) -> Flow {
        self.made(items.into_items().map(|items| steps::Select::new(items).into()))
    }

    /// Keeps all columns but these: `"note, each 't*'"`, or `["note"]`.
    #[must_use]
    #[allow(clippy::should_implement_trait)] // The step's own name.
    pub fn drop(self, columns: impl IntoColumns) -> Flow {
        self.made(columns.into_columns().map(|columns| steps::Drop::new(columns).into()))
    }

    /// Gives columns other names: `"day = collected_on"`, or `[("day", "collected_on")]`.
    #[must_use]
    pub fn rename(self, pairs: impl IntoStep<steps::Rename>) -> Flow {
        self.made(pairs.into_step())
    }

    /// Adds columns, or replaces them in place: `"share = litres / sum(litres) per table"`.
    #[must_use]
    #[allow(clippy::should_implement_trait)] // The step's own name; a chain is never added up.
    pub fn add(self, items: impl IntoItems) -> Flow {
        self.made(items.into_items().map(|items| steps::Add::new(items).into()))
    }

    /// Sorts, stably: `"litres desc, farm"`, or `[column("litres").desc()]`.
    #[must_use]
    pub fn sort(self, keys: impl IntoSortKeys) -> Flow {
        self.made(keys.into_sort_keys().map(|keys| steps::Sort::by(keys).into()))
    }

    /// Keeps the first rows.
    #[must_use]
    pub fn first(self, rows: usize) -> Flow {
        self.step(steps::End::first(rows))
    }

    /// Keeps the last rows.
    #[must_use]
    pub fn last(self, rows: usize) -> Flow {
        self.step(steps::End::last(rows))
    }

    /// Keeps so many random rows, the same ones for the same seed.
    #[must_use]
    pub fn sample(self, rows: usize, seed: u64) -> Flow {
        self.step(steps::Sample::rows(rows).seed(seed))
    }

    /// Keeps the first of each set of equal rows; with columns, of the rows that are equal in those.
    #[must_use]
    pub fn distinct(self, by: impl IntoColumns) -> Flow {
        self.made(by.into_columns().map(|by| steps::Distinct::by(by).into()))
    }

    /// Makes one row of each group: `.group("farm", "litres = sum(litres), n = count()")`, or
    /// `.group([column("farm")], [sum(column("litres")).named("litres")])`.
    #[must_use]
    pub fn group(self, keys: impl IntoItems, items: impl IntoItems) -> Flow {
        let group = || Ok(steps::Group::by(keys.into_items()?).items(items.into_items()?).into());
        self.made(group())
    }

    /// Makes one row of the whole table.
    #[must_use]
    pub fn total(self, items: impl IntoItems) -> Flow {
        self.made(items.into_items().map(|items| steps::Group::total().items(items).into()))
    }

    /// Replaces missing values: `.fill("protein", "mean(protein) per grade")`.
    #[must_use]
    pub fn fill(self, columns: impl IntoColumns, with: impl IntoExpr) -> Flow {
        let fill = || Ok(steps::Fill::new(columns.into_columns()?, with.into_expr()?).into());
        self.made(fill())
    }

    /// Stops the run unless a condition holds on every row: `"fat between 2 and 9, 'fat out of range'"`, or
    /// `(column("fat").between(2, 9), "fat out of range")`.
    #[must_use]
    pub fn require(self, condition: impl IntoRequire) -> Flow {
        self.made(condition.into_require().map(Step::from))
    }

    /// Stops the run where two rows are equal in these columns.
    #[must_use]
    pub fn require_unique(self, columns: impl IntoColumns) -> Flow {
        self.made(columns.into_columns().map(|columns| steps::RequireUnique::by(columns).into()))
    }

    /// Writes what flows here to a file, in the format of its name; the path is relative to the working folder.
    #[must_use]
    pub fn then_write(self, path: impl AsRef<Path>) -> Flow {
        let path = path.as_ref();
        let path = if path == Path::new("-") || churn_io::store::has_scheme(path) {
            path.to_owned()
        } else {
            std::path::absolute(path).unwrap_or_else(|_| path.to_owned())
        };
        self.step(steps::Write::new(path))
    }

    /// Checks the chain: every mistake that the files' headings and types can show.
    ///
    /// # Errors
    /// The mistakes, as one error with the others in [`Error::others`].
    pub fn check(&self) -> Result<()> {
        self.plan().map(|_| ())
    }

    fn checked(&self, options: Option<&RunOptions>, moment: &Moment) -> Result<Checked> {
        if let Some(mistake) = &self.mistake {
            return Err(mistake.clone());
        }
        if self.recipe.main.steps.is_empty() {
            return Err(Error::new(ErrorKind::Syntax, "There are no steps.")
                .next("A chain starts with read or values."));
        }
        let request = self.request(options, moment)?;
        let default = RunOptions::default();
        let settings = options.unwrap_or(&default).settings();
        let find =
            |plan: Plan, wanted: &Wanted| churn_exec::find(&rules::rewrite_plan(plan), settings, wanted);
        let cancel = settings.cancelled();
        deep::with_room_for(self.recipe.length(), || {
            cancel.within(|| {
                moment.within(|| recipe::check(&self.recipe, &request, options.map(|_| &find as Find<'_>)))
            })
        })
    }

    /// The values that parameters are given.
    #[cfg(feature = "charts")]
    pub(crate) fn given_values(&self) -> &[(String, String)] {
        &self.givens
    }

    /// Another chain in the same folder, with the same catalogue.
    #[cfg(feature = "charts")]
    pub(crate) fn start_again(&self, start: steps::Read) -> Flow {
        let (base, catalogue) = (self.base.clone(), self.catalogue.clone());
        Flow { base, catalogue, ..Flow::of(start) }
    }

    /// What the check is told beside the recipe.
    fn request(&self, options: Option<&RunOptions>, moment: &Moment) -> Result<CheckRequest> {
        Ok(CheckRequest {
            givens: self.givens.clone(),
            base: self.base.clone(),
            resources: options.map(|options| options.settings().read_resources()).unwrap_or_default(),
            moment: moment.clone(),
            catalogue: self.catalogue_with(options)?,
        })
    }

    /// What the flow and its run add to the language.
    fn catalogue_with(&self, options: Option<&RunOptions>) -> Result<Arc<Catalogue>> {
        match options.and_then(RunOptions::own) {
            Some(own) => Ok(Arc::new(Catalogue::clone(&self.catalogue).together(own)?)),
            None => Ok(self.catalogue.clone()),
        }
    }

    /// The plan as it will run.
    fn rewritten(&self, options: Option<&RunOptions>, moment: &Moment) -> Result<CheckedPlan> {
        let checked = self.checked(options, moment)?;
        Ok(CheckedPlan {
            plan: deep::with_room_for(checked.plan.length(), || rules::rewrite_plan(checked.plan)),
            flow: self.clone(),
            #[cfg(feature = "charts")]
            drawing: checked.drawing,
            #[cfg(feature = "charts")]
            charts: checked.charts,
        })
    }

    /// The checked plan: what will be read and done; it can be run as it is.
    ///
    /// # Errors
    /// As [`Flow::check`].
    pub fn plan(&self) -> Result<CheckedPlan> {
        self.rewritten(None, &Moment::default())
    }

    /// The plan with all its columns known: where a pivot makes columns of the values that it finds, the steps up to
    /// it run for them, once.
    ///
    /// # Errors
    /// As [`Flow::check`], and whatever the data hold against the steps that run.
    pub fn plan_with(&self, options: &RunOptions) -> Result<CheckedPlan> {
        self.rewritten(Some(options), &Moment::default())
    }

    /// Runs the chain and holds its rows.
    ///
    /// # Errors
    /// As [`Flow::check`], and whatever the data hold against it.
    pub fn run(&self) -> Result<Table> {
        self.run_with(&RunOptions::default())
    }

    /// Runs the chain with options.
    ///
    /// # Errors
    /// As [`Flow::run`].
    pub fn run_with(&self, options: &RunOptions) -> Result<Table> {
        self.plan_with(options)?.run_with(options)
    }

    /// Runs the chain and writes its rows to a file, in the format of its name, complete or not at all.
    ///
    /// # Errors
    /// As [`Flow::run`]; the file cannot be written, and is then as it was.
    pub fn write(&self, path: impl AsRef<Path>) -> Result<Ledger> {
        self.write_with(path, &RunOptions::default())
    }

    /// As [`Flow::write`], with options.
    ///
    /// # Errors
    /// As [`Flow::write`].
    pub fn write_with(&self, path: impl AsRef<Path>, options: &RunOptions) -> Result<Ledger> {
        self.clone().then_write(path).plan_with(options)?.run_for_effect(options)
    }
}

fn misplaced(placed: &PlacedStep) -> Error {
    let (what, next) = if placed.step.check().starts() {
        ("A chain has one start.", "Start a second chain for a second table.")
    } else {
        ("A chain starts with read or values.", "Start with Flow::read(\"deliveries-2026.csv\").")
    };
    Error::new(ErrorKind::Syntax, what).at(&placed.source, placed.span).next(next)
}

/// Flows are equal if they say the same: their steps, tables, functions and parameters, and the folder of their paths.
impl PartialEq for Flow {
    fn eq(&self, other: &Flow) -> bool {
        self.recipe == other.recipe
            && self.givens == other.givens
            && self.base == other.base
            && self.mistake == other.mistake
    }
}

/// The chain in canonical text, which reads back as the same chain.
impl Display for Flow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.recipe.fmt(f)
    }
}

impl fmt::Debug for Flow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Flow({self})")
    }
}
