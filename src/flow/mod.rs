//! `Flow`: a chain of steps that nothing has run yet.

mod batches;
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
use churn_core::{Batch, Error, ErrorKind, Ledger, Result, Scalar, SourceText, Span, Type, deep};
use churn_exec::RunOptions;
use churn_expr::moment::Moment;
use churn_io::memory::Memory;
use churn_io::source::SourceColumn;
use churn_plan::{Find, Plan, Wanted, rules};

pub use batches::BatchReader;
pub use plan::{CheckedPlan, SourceView};
pub use tables::{IntoOther, Join, Window};

use crate::lang::recipe::{self, Chain, CheckRequest, PlacedStep, Recipe};
use crate::steps::Given;
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
///     .filter(column("litres").above(50))
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
    /// The first mistake of a step's text.
    mistake: Option<Error>,
}

/// The text of a step's part: as it is, or from an expression.
pub trait IntoText {
    /// Gives the text.
    fn into_text(self) -> String;
}

impl<T: Display> IntoText for T {
    fn into_text(self) -> String {
        self.to_string()
    }
}

impl Flow {
    /// Starts from a path: a file, a glob, a folder, or `-` for standard input.
    ///
    /// What stands there is looked at when the chain is checked.
    pub fn read(path: impl AsRef<Path>) -> Flow {
        Flow::empty().then(&crate::steps::read_text(path.as_ref()))
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
        let source = Arc::new(Memory::new(columns, held));
        let text = Arc::new(SourceText { name: "batches".into(), text: String::new() });
        let placed = PlacedStep { step: Arc::new(Given(source)), span: Span::default(), source: text };
        let mut flow = Flow::empty();
        Arc::make_mut(&mut flow.recipe).main.steps.push(placed);
        Ok(flow)
    }

    fn empty() -> Flow {
        let source = Arc::new(SourceText { name: "flow".into(), text: String::new() });
        let main = Chain { name: String::new(), steps: Vec::new() };
        let recipe = Recipe { source, givens: Vec::new(), defines: Vec::new(), tables: Vec::new(), main };
        Flow { recipe: Arc::new(recipe), givens: Vec::new(), base: PathBuf::new(), mistake: None }
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
        let name = if self.recipe.main.steps.is_empty() {
            "the first step".into()
        } else {
            format!("step {}", self.recipe.main.steps.len() + 1)
        };
        let source = Arc::new(SourceText { name, text: text.to_owned() });
        match recipe::parse_chain(&source) {
            Ok(steps) => {
                for placed in steps {
                    let first = self.recipe.main.steps.is_empty();
                    if placed.step.starts() != first {
                        self.mistake = Some(misplaced(&placed));
                        return self;
                    }
                    Arc::make_mut(&mut self.recipe).main.steps.push(placed);
                }
            }
            Err(error) => self.mistake = Some(error),
        }
        self
    }

    /// Adds a step with a comma list, or items below it.
    fn with(self, keyword: &str, rest: &str) -> Flow {
        self.then(&format!("{keyword} {rest}"))
    }

    /// Adds a step with items, which may stand on several lines.
    fn with_items(self, head: &str, items: &str) -> Flow {
        let below: Vec<String> =
            items.lines().filter(|l| !l.trim().is_empty()).map(|l| format!("  {}", l.trim())).collect();
        self.then(&format!("{head}\n{}", below.join("\n")))
    }

    /// Sets a parameter of the recipe; the text is read as its default's type.
    #[must_use]
    pub fn given(mut self, name: &str, value: impl Display) -> Flow {
        self.givens.push((name.to_owned(), value.to_string()));
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
    pub fn filter(self, condition: impl IntoText) -> Flow {
        self.with("filter", &condition.into_text())
    }

    /// Keeps exactly these columns: `"farm, day = collected_on"`.
    #[must_use]
    pub fn select(self, items: impl IntoText) -> Flow {
        self.with("select", &items.into_text())
    }

    /// Keeps all columns but these.
    #[must_use]
    #[allow(clippy::should_implement_trait)] // The step's own name.
    pub fn drop(self, columns: &str) -> Flow {
        self.with("drop", columns)
    }

    /// Gives columns other names: `"day = collected_on"`.
    #[must_use]
    pub fn rename(self, pairs: &str) -> Flow {
        self.with("rename", pairs)
    }

    /// Adds columns, or replaces them in place: `"share = litres / sum(litres) per table"`.
    #[must_use]
    #[allow(clippy::should_implement_trait)] // The step's own name; a chain is never added up.
    pub fn add(self, items: impl IntoText) -> Flow {
        self.with_items("add", &items.into_text())
    }

    /// Sorts, stably: `"litres desc, farm"`.
    #[must_use]
    pub fn sort(self, keys: &str) -> Flow {
        self.with("sort", keys)
    }

    /// Keeps the first rows.
    #[must_use]
    pub fn first(self, rows: usize) -> Flow {
        self.with("first", &rows.to_string())
    }

    /// Keeps the last rows.
    #[must_use]
    pub fn last(self, rows: usize) -> Flow {
        self.with("last", &rows.to_string())
    }

    /// Keeps so many random rows, the same ones for the same seed.
    #[must_use]
    pub fn sample(self, rows: usize, seed: u64) -> Flow {
        self.with("sample", &format!("{rows} seed {seed}"))
    }

    /// Keeps the first of each set of equal rows; with columns, of the rows that are equal in those.
    #[must_use]
    pub fn distinct(self, by: &str) -> Flow {
        self.then(&if by.is_empty() { "distinct".to_owned() } else { format!("distinct by {by}") })
    }

    /// Makes one row of each group: `.group("farm", "litres = sum(litres), n = count()")`.
    #[must_use]
    pub fn group(self, keys: &str, items: impl IntoText) -> Flow {
        self.with_items(&format!("group by {keys}"), &items.into_text())
    }

    /// Makes one row of the whole table.
    #[must_use]
    pub fn total(self, items: impl IntoText) -> Flow {
        self.with_items("total", &items.into_text())
    }

    /// Replaces missing values: `.fill("protein", "mean(protein) per grade")`.
    #[must_use]
    pub fn fill(self, columns: &str, with: impl IntoText) -> Flow {
        self.then(&format!("fill {columns} with {}", with.into_text()))
    }

    /// Stops the run unless a condition holds on every row.
    #[must_use]
    pub fn require(self, condition: impl IntoText) -> Flow {
        self.with("require", &condition.into_text())
    }

    /// Stops the run where two rows are equal in these columns.
    #[must_use]
    pub fn require_unique(self, columns: &str) -> Flow {
        self.then(&format!("require unique by {columns}"))
    }

    /// Writes what flows here to a file, in the format of its name; the path is relative to the working folder.
    #[must_use]
    pub fn then_write(self, path: impl AsRef<Path>) -> Flow {
        let path = path.as_ref();
        let path = if path == Path::new("-") || churn_io::web::is_address(path) {
            path.to_owned()
        } else {
            std::path::absolute(path).unwrap_or_else(|_| path.to_owned())
        };
        self.then(&format!("write {}", Scalar::Text(path.to_string_lossy().into_owned())))
    }

    /// Checks the chain: every mistake that the files' headings and types can show.
    ///
    /// # Errors
    /// The mistakes, as one error with the others in [`Error::others`].
    pub fn check(&self) -> Result<()> {
        self.plan().map(|_| ())
    }

    fn checked(&self, options: Option<&RunOptions>, moment: &Moment) -> Result<Plan> {
        if let Some(mistake) = &self.mistake {
            return Err(mistake.clone());
        }
        if self.recipe.main.steps.is_empty() {
            return Err(Error::new(ErrorKind::Syntax, "There are no steps.")
                .next("A chain starts with read or values."));
        }
        let resources = options.map(RunOptions::read_resources).unwrap_or_default();
        let request = CheckRequest {
            givens: self.givens.clone(),
            base: self.base.clone(),
            resources,
            moment: moment.clone(),
        };
        let find = |plan: Plan, wanted: &Wanted| {
            churn_exec::find(&rules::rewrite_plan(plan), options.unwrap_or(&RunOptions::default()), wanted)
        };
        let cancel = options.map(RunOptions::cancelled).unwrap_or_default();
        deep::with_room_for(self.recipe.length(), || {
            cancel.within(|| {
                moment.within(|| recipe::check(&self.recipe, &request, options.map(|_| &find as Find<'_>)))
            })
        })
    }

    /// The plan as it will run.
    fn rewritten(&self, options: Option<&RunOptions>, moment: &Moment) -> Result<Plan> {
        let plan = self.checked(options, moment)?;
        Ok(deep::with_room_for(plan.length(), || rules::rewrite_plan(plan)))
    }

    /// The checked plan: what will be read and done; it can be run as it is.
    ///
    /// # Errors
    /// As [`Flow::check`].
    pub fn plan(&self) -> Result<CheckedPlan> {
        Ok(CheckedPlan { plan: self.rewritten(None, &Moment::default())?, flow: self.clone() })
    }

    /// The plan with all its columns known: where a pivot makes columns of the values that it finds, the steps up to
    /// it run for them, once.
    ///
    /// # Errors
    /// As [`Flow::check`], and whatever the data hold against the steps that run.
    pub fn plan_with(&self, options: &RunOptions) -> Result<CheckedPlan> {
        Ok(CheckedPlan { plan: self.rewritten(Some(options), &Moment::default())?, flow: self.clone() })
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
    let (what, next) = if placed.step.starts() {
        ("A chain has one start.", "Start a second chain for a second table.")
    } else {
        ("A chain starts with read or values.", "Start with Flow::read(\"deliveries-2026.csv\").")
    };
    Error::new(ErrorKind::Syntax, what).at(&placed.source, placed.span).next(next)
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
