//! What is known while steps are checked, and what is found.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::names::name;
use churn_core::{ColumnId, Counters, Error, ErrorKind, Field, Position, Scalar, SourceText, Span, StepId};
use churn_expr::Bound;
use churn_expr::ast::Expr;
use churn_expr::bind::{Beside, Binder, Ids, PerCall, Place};
use churn_expr::expand::Environment;
use churn_io::files::Files;
use churn_io::source::ReadResources;
use churn_plan::operators::{Compute, Per};
use churn_plan::{Find, Node, Relation, StepInfo};

use super::read::Opened;
use super::{Read, table_values};
use crate::extend::Catalogue;
use crate::lang::recipe::CheckRequest;

/// A table of a recipe, checked.
#[derive(Clone)]
pub(crate) struct DeclaredTable {
    pub(crate) name: String,
    /// Its number in the plan.
    pub(crate) number: usize,
    /// `None` if its chain holds a mistake.
    pub(crate) relation: Option<Relation>,
    /// Tables that it uses.
    pub(crate) needs: Vec<usize>,
    /// Whether a step before took its rows.
    pub(crate) is_used: bool,
    /// Whether it writes or requires something.
    pub(crate) acts: bool,
}

/// The result of a recipe that a step read.
#[derive(Clone)]
pub(crate) struct RecipeResult {
    /// The file, and the values for its parameters.
    pub(crate) of: (PathBuf, String),
    /// Its number in the plan.
    pub(crate) table: usize,
    pub(crate) relation: Relation,
}

/// Checks the steps of one request.
pub struct Checker<'a> {
    /// The text that places point into.
    pub(crate) source: Arc<SourceText>,
    /// Parameters, functions and tables that expressions may use.
    pub(crate) environment: Environment,
    pub(crate) ids: Ids,
    /// What the user adds to the language.
    pub(crate) catalogue: Arc<Catalogue>,
    /// The folder that paths are relative to.
    pub(crate) base: PathBuf,
    /// What may be used while files are opened.
    pub(crate) resources: ReadResources,
    /// Whether the files that steps open are kept for another check of the same steps.
    keeps_opened: bool,
    /// The files that a check of the same steps has opened, with the folder that its paths are relative to.
    pub(crate) opened: Vec<(Read, PathBuf, Opened)>,
    /// Inputs of steps before that can be read only once.
    pub(crate) streams: Vec<PathBuf>,
    /// The tables of the recipe being checked.
    pub(crate) tables: Vec<DeclaredTable>,
    /// How many tables the plan has, those of the recipes that it reads included.
    pub(crate) table_count: usize,
    /// The recipe files being checked, from the outermost to this one, and how messages show them; none for the
    /// request's own.
    pub(crate) recipes: Vec<(PathBuf, String)>,
    /// The results of recipes that were read, so that each runs once.
    pub(crate) results: Vec<RecipeResult>,
    /// Rows of tables that run for what they write or require.
    pub(crate) others: Vec<Relation>,
    /// What the chain draws that the program takes, if it ends so.
    #[cfg(feature = "charts")]
    pub(crate) drawing: Option<Arc<crate::draw::Drawing>>,
    /// The charts that steps write.
    #[cfg(feature = "charts")]
    pub(crate) charts: Vec<crate::draw::WrittenChart>,
    /// Whether a step checked since writes or requires something.
    pub(crate) acted: bool,
    /// Tables that the chain being checked uses.
    pub(crate) used: Vec<usize>,
    pub(crate) steps: Vec<StepInfo>,
    pub(crate) errors: Vec<Error>,
    /// What the columns of the step's condition are called.
    pub(crate) condition: Vec<(ColumnId, String)>,
    /// Whether a constant was worked out.
    pub(crate) folded: bool,
    pub(crate) notes: Vec<String>,
    /// What queries should tell before the run.
    #[cfg(feature = "sql")]
    pub(crate) query_notes: Vec<String>,
    /// Files that steps before read and write.
    pub(crate) files: Files,
    /// Finds columns that only a run can tell, if it may run.
    pub(crate) find: Option<Find<'a>>,
    /// Whether such columns were met and not found: what follows cannot be checked.
    pub(crate) open: bool,
    /// Whether the value of a table was met and not found.
    pub(crate) lacks_values: bool,
    /// What ran to find them, and what was counted then.
    pub(crate) ran: Vec<Node>,
    pub(crate) counted: Counters,
}

impl<'f> Checker<'f> {
    /// A checker that knows what this one knows before the first step: to look at columns before the steps are checked.
    #[cfg(feature = "sql")]
    pub(crate) fn scratch(&self) -> Checker<'f> {
        let request = CheckRequest {
            base: self.base.clone(),
            resources: self.resources.clone(),
            catalogue: self.catalogue.clone(),
            ..CheckRequest::default()
        };
        let new = Checker::new(self.source.clone(), self.environment.clone(), &request, self.find);
        Checker { recipes: self.recipes.clone(), keeps_opened: true, ..new }
    }
}

impl Checker<'_> {
    /// Starts a check over a recipe's text and parameters.
    pub(crate) fn new<'a>(
        source: Arc<SourceText>,
        environment: Environment,
        request: &CheckRequest,
        find: Option<Find<'a>>,
    ) -> Checker<'a> {
        Checker {
            source,
            environment,
            ids: Ids::default(),
            catalogue: request.catalogue.clone(),
            base: request.base.clone(),
            resources: request.resources.clone(),
            keeps_opened: false,
            opened: Vec::new(),
            streams: Vec::new(),
            tables: Vec::new(),
            table_count: 0,
            recipes: Vec::new(),
            results: Vec::new(),
            others: Vec::new(),
            #[cfg(feature = "charts")]
            drawing: None,
            #[cfg(feature = "charts")]
            charts: Vec::new(),
            acted: false,
            used: Vec::new(),
            steps: Vec::new(),
            errors: Vec::new(),
            condition: Vec::new(),
            folded: false,
            notes: Vec::new(),
            #[cfg(feature = "sql")]
            query_notes: Vec::new(),
            files: Files::default(),
            find,
            open: false,
            lacks_values: false,
            ran: Vec::new(),
            counted: Counters::new(0),
        }
    }

    /// What the ledger calls a table, or the main chain, of the recipe being checked.
    pub(crate) fn label(&self, table: Option<&str>) -> Option<String> {
        match (self.recipes.last(), table) {
            (None, table) => table.map(str::to_owned),
            (Some((_, recipe)), None) => Some(recipe.clone()),
            (Some((_, recipe)), Some(table)) => Some(format!("{recipe}: {table}")),
        }
    }

    /// The files of a step, if another check has opened them.
    pub(super) fn opened(&self, read: &Read) -> Option<Opened> {
        let known = self.opened.iter().find(|(known, base, _)| known == read && *base == self.base);
        known.map(|(.., opened)| opened.clone())
    }

    /// Keeps the files that a step opened, where another check needs them.
    pub(super) fn note_opened(&mut self, read: &Read, opened: &Opened) {
        if self.keeps_opened && self.opened(read).is_none() {
            self.opened.push((read.clone(), self.base.clone(), opened.clone()));
        }
    }

    /// A number for one more table of the plan.
    pub(crate) fn table_number(&mut self) -> usize {
        self.table_count += 1;
        self.table_count - 1
    }

    /// The step being checked.
    pub(crate) fn step(&self) -> StepId {
        self.steps.len()
    }

    /// Notes a mistake at a place.
    pub(crate) fn wrong(&mut self, span: impl Into<Span>, error: Error) {
        let source = self.source.clone();
        self.errors.push(error.at(&source, span));
    }

    /// Whether a mistake was noted.
    pub(crate) fn has_errors(&self) -> bool {
        !self.errors.is_empty()
    }

    /// Keeps a value, or notes its error.
    pub(crate) fn kept<T>(&mut self, result: churn_core::Result<T>) -> Option<T> {
        match result {
            Ok(value) => Some(value),
            Err(error) => {
                self.errors.push(error);
                None
            }
        }
    }

    /// What binds an expression; tables whose values it takes run before.
    fn binder<'b>(&'b mut self, expr: &Expr, fields: &'b [Field]) -> Binder<'b> {
        table_values::find(expr, self);
        Binder {
            source: &self.source,
            environment: &self.environment,
            fields,
            ids: &mut self.ids,
            errors: &mut self.errors,
            notes: &mut self.notes,
            folded: &mut self.folded,
            locals: Vec::new(),
        }
    }

    /// Binds an expression over rows; what must stand beside them is gathered.
    pub(crate) fn row_expression(&mut self, expr: &Expr, fields: &[Field], beside: &mut Beside) -> Bound {
        self.binder(expr, fields).bind(expr, &mut Place::Rows(beside))
    }

    /// Binds a condition over rows, and notes what its columns are called.
    pub(crate) fn row_condition(&mut self, expr: &Expr, fields: &[Field], beside: &mut Beside) -> Bound {
        let condition = self.binder(expr, fields).condition(expr, &mut Place::Rows(beside));
        let named = fields.iter().map(|field| (field.id, name(&field.name)));
        let aggregates = beside.aggregates.iter().map(|per| (per.call.field.id, per.call.text.clone()));
        let mut used = Vec::new();
        condition.columns(&mut used);
        self.condition = named.chain(aggregates).filter(|(id, _)| used.contains(id)).collect();
        condition
    }

    /// Binds an expression where aggregates may stand in some way.
    pub(crate) fn expression(&mut self, expr: &Expr, fields: &[Field], place: &mut Place<'_>) -> Bound {
        self.binder(expr, fields).bind(expr, place)
    }

    /// The rows with what expressions need beside them: whether values are in a table, then the aggregates of `per`,
    /// one operator for each set of keys.
    pub(crate) fn with_beside(&mut self, mut relation: Relation, beside: Beside) -> Relation {
        for member in beside.members {
            relation = table_values::with_member(relation, member, self);
        }
        let step = self.step();
        let mut left = beside.aggregates;
        while let Some(first) = left.first() {
            let keys = first.keys.clone();
            let (same, others): (Vec<PerCall>, Vec<PerCall>) = left.into_iter().partition(|p| p.keys == keys);
            let calls = same.into_iter().map(|p| p.call).collect();
            relation = relation.then(Per { keys, calls }, step);
            left = others;
        }
        relation
    }

    /// The rows with a computed column in the place of the one of its name, or behind all; gives the column as well.
    pub(crate) fn with_computed(
        &mut self,
        relation: Relation,
        name: &str,
        value: Bound,
    ) -> (Relation, Field) {
        let field = Field::new(self.ids.fresh(), name, value.kind.clone());
        let step = self.step();
        let mut relation = relation.then(Compute { columns: vec![(field.clone(), value)] }, step);
        relation.put(field.clone());
        (relation, field)
    }

    /// The value of an expression without columns, which may be an interval. Where it needs the value of a table that
    /// has not run, what follows cannot be checked yet.
    pub(crate) fn constant(&mut self, expr: &Expr) -> Option<Scalar> {
        if table_values::is_unknown(expr, self) {
            (self.lacks_values, self.open) = (true, true);
            return None;
        }
        self.binder(expr, &[]).constant(expr)
    }

    /// The text of an expression without columns, such as the name that `named` gives.
    pub(crate) fn constant_text(&mut self, expr: &Expr) -> Option<String> {
        let bound = self.binder(expr, &[]).bind(expr, &mut Place::NoAggregates("A name is no aggregate."));
        match bound.as_literal() {
            Some(Scalar::Text(text)) => Some(text.clone()),
            _ if bound.kind == churn_core::Type::Unknown => None,
            _ => {
                let what = "A name is made of texts.";
                self.wrong(
                    expr.span,
                    Error::new(ErrorKind::Type, what).next("Write named column || '_avg'."),
                );
                None
            }
        }
    }

    /// A path, which may be a parameter.
    pub(crate) fn path(&mut self, path: &Path) -> Option<Located> {
        let text = |text| Some(Located { text, raw: None });
        match path {
            Path::Raw(path) => {
                Some(Located { text: path.to_string_lossy().into_owned(), raw: Some(path.clone()) })
            }
            Path::Text(path, _) => text(path.clone()),
            Path::Parameter(parameter, span) => {
                let source = self.source.clone();
                match self.environment.given(parameter, &source, *span) {
                    Ok(Scalar::Text(path)) => text(path),
                    Ok(other) => {
                        let what = format!("A path is a text, and ${parameter} is {}.", other.kind());
                        self.wrong(*span, Error::new(ErrorKind::Type, what));
                        None
                    }
                    Err(error) => {
                        self.errors.push(error);
                        None
                    }
                }
            }
        }
    }
}

impl Checker<'_> {
    /// The place that a step writes to: as it is written, and as a path. A mistake is noted.
    pub(crate) fn target(&mut self, path: &Path, span: Position) -> Option<(String, PathBuf)> {
        let Located { text, raw } = self.path(path)?;
        let written = match &raw {
            Some(raw) => Ok(Some(self.base.join(raw))),
            None => self.catalogue.stores().written(&text),
        };
        match written {
            Ok(Some(path)) => Some((text, path)),
            Ok(None) if text == "-" => Some((text.clone(), text.into())),
            Ok(None) => Some((text.clone(), self.base.join(&text))),
            Err(error) => {
                self.wrong(span, error);
                None
            }
        }
    }
}

/// A number of rows as it is written: a literal or a parameter.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Count {
    Number(usize),
    Parameter(String, Position),
}

impl Count {
    /// Reads a number of rows, or a parameter.
    pub(crate) fn read(c: &mut churn_expr::text::Cursor<'_>) -> churn_core::Result<Count> {
        let span = c.span();
        if let Some(churn_expr::text::TokenKind::Parameter(name)) = c.peek() {
            c.advance();
            return Ok(Count::Parameter(name.clone(), span));
        }
        Ok(Count::Number(c.count("a number of rows")?))
    }

    /// The number; a parameter that is none is noted.
    pub(crate) fn resolved(&self, checker: &mut Checker<'_>) -> Option<usize> {
        let Count::Parameter(parameter, span) = self else {
            return if let Count::Number(n) = self { Some(*n) } else { None };
        };
        let source = checker.source.clone();
        let value = checker.environment.given(parameter, &source, *span);
        match checker.kept(value)? {
            Scalar::Int(n) if n >= 0 => usize::try_from(n).ok(),
            other => {
                let what = format!("A number of rows is needed here, and ${parameter} is {other}.");
                checker.wrong(*span, Error::new(ErrorKind::Type, what));
                None
            }
        }
    }
}

impl std::fmt::Display for Count {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Count::Number(n) => n.fmt(f),
            Count::Parameter(name, _) => write!(f, "${name}"),
        }
    }
}

/// A path as it is written: a text or a parameter.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Path {
    Text(String, Position),
    Parameter(String, Position),
    /// One that no text can be: it is not UTF-8. It means itself, whatever is in it.
    Raw(PathBuf),
}

/// Where a path leads.
pub(crate) struct Located {
    /// As messages show it.
    pub(crate) text: String,
    /// The path itself, if the text is not it.
    pub(crate) raw: Option<PathBuf>,
}

impl Path {
    /// A path that is written in Rust.
    pub(crate) fn of(path: &std::path::Path) -> Path {
        match path.to_str() {
            Some(text) => Path::Text(text.to_owned(), Position::default()),
            None => Path::Raw(path.to_owned()),
        }
    }

    pub(crate) fn span(&self) -> Position {
        match self {
            Path::Text(_, span) | Path::Parameter(_, span) => *span,
            Path::Raw(_) => Position::default(),
        }
    }

    /// Reads a path in single quotes, or a parameter.
    pub(crate) fn read(c: &mut churn_expr::text::Cursor<'_>) -> churn_core::Result<Path> {
        let span = c.span();
        if let Some(churn_expr::text::TokenKind::Parameter(name)) = c.peek() {
            c.advance();
            return Ok(Path::Parameter(name.clone(), span));
        }
        let (text, span) = c.text("a path in single quotes")?;
        Ok(Path::Text(text, span))
    }
}

impl std::fmt::Display for Path {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Path::Text(text, _) => Scalar::Text(text.clone()).fmt(f),
            Path::Parameter(name, _) => write!(f, "${name}"),
            Path::Raw(path) => Scalar::Text(path.to_string_lossy().into_owned()).fmt(f),
        }
    }
}
