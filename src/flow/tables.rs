//! A second table in a chain, and windows: what `join`, `append`, `paste` and `window` are given in Rust.

use std::sync::Arc;

use churn_core::{Error, ErrorKind, JoinKind, Result};
use churn_expr::ast::ColumnRef;
use churn_expr::{Expr, SortKey};

use super::{Flow, IntoColumns, IntoExpr, IntoItems, IntoOther, IntoSortKeys};
use crate::extend::Catalogue;
use crate::lang::recipe::Chain;
use crate::steps;

/// How two tables are joined.
///
/// ```
/// use churn::{Flow, Join};
///
/// let farms = Flow::steps("values farm, district: ('F001', 'Lakes'), ('F002', 'North Vale')");
/// let milk = Flow::steps("values farm, litres: ('F002', 80.0), ('F003', 12.5), ('F001', 120.0)")
///     .join(&farms, Join::left().on("farm").expect_one());
/// let table = milk.run()?;
/// assert_eq!(table.value(0, "district")?, churn::Scalar::from("North Vale"));
/// assert_eq!(table.value(1, "district")?, churn::Scalar::Null);
/// assert_eq!(table.ledger().total(churn::Event::MatchedNone), 1);
/// # Ok::<(), churn::Error>(())
/// ```
///
/// A doubled key in a lookup table would multiply rows; [`Join::expect_one`] stops the run instead:
///
/// ```
/// # use churn::{Flow, Join};
/// let farms = Flow::steps("values farm, district: ('F001', 'Lakes'), ('F001', 'Upper Fen')");
/// let milk = Flow::steps("values farm, litres: ('F001', 120.0)");
/// let error = milk.join(&farms, Join::left().on("farm").expect_one()).run().unwrap_err();
/// assert!(error.to_string().contains("A row matches 2 rows of other_1, and one is expected."));
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct Join {
    kind: JoinKind,
    asof: bool,
    /// The keys, or the first mistake in one.
    keys: Result<Vec<Expr>>,
    prefix: Option<String>,
    expect_one: bool,
    expect_all: bool,
}

impl Join {
    /// A join of some kind.
    pub fn of(kind: JoinKind) -> Join {
        Join { kind, asof: false, keys: Ok(Vec::new()), prefix: None, expect_one: false, expect_all: false }
    }

    /// The rows that match.
    pub fn inner() -> Join {
        Join::of(JoinKind::Inner)
    }

    /// The rows that match, and the left rows that match none.
    pub fn left() -> Join {
        Join::of(JoinKind::Left)
    }

    /// The rows that match, and the other table's rows that match none.
    pub fn right() -> Join {
        Join::of(JoinKind::Right)
    }

    /// The rows that match, and the rows of either side that match none.
    pub fn full() -> Join {
        Join::of(JoinKind::Full)
    }

    /// The left rows that match some row.
    pub fn semi() -> Join {
        Join::of(JoinKind::Semi)
    }

    /// The left rows that match none.
    pub fn anti() -> Join {
        Join::of(JoinKind::Anti)
    }

    /// Every left row with every row of the other table.
    pub fn cross() -> Join {
        Join::of(JoinKind::Cross)
    }

    /// Takes only the nearest of the rows that match, by the one inequality among the keys.
    pub fn asof(self) -> Join {
        Join { asof: true, ..self }
    }

    /// Adds a key: `"farm"`, `"day = valid_on"`, `"litres between low and high"`.
    pub fn on(self, key: impl IntoExpr) -> Join {
        let keys = self.keys.and_then(|mut keys| {
            keys.push(key.into_expr()?);
            Ok(keys)
        });
        Join { keys, ..self }
    }

    /// Puts a text before the names of the other table's columns.
    pub fn prefix(self, prefix: &str) -> Join {
        Join { prefix: Some(prefix.to_owned()), ..self }
    }

    /// Stops the run where a row matches several rows.
    pub fn expect_one(self) -> Join {
        Join { expect_one: true, ..self }
    }

    /// Stops the run where a row matches none.
    pub fn expect_all(self) -> Join {
        Join { expect_all: true, ..self }
    }

    fn step(self, other: steps::Other) -> Result<steps::Step> {
        let mut join = steps::Join::new(other, self.kind);
        for key in self.keys? {
            join = join.on(key);
        }
        join = if self.asof { join.asof() } else { join };
        join = if self.expect_one { join.expect_one() } else { join };
        join = if self.expect_all { join.expect_all() } else { join };
        Ok(match &self.prefix {
            Some(prefix) => join.prefix(prefix).into(),
            None => join.into(),
        })
    }
}

/// The partitions of a window and the order in them.
///
/// ```
/// use churn::{Flow, Window};
///
/// let milk = Flow::steps("values farm, day, litres: ('F001', 1, 10), ('F002', 1, 5), ('F001', 2, 30)")
///     .window(Window::by("farm").order("day"), "so_far = sum(litres) over rows so far, before = lag(litres)");
/// let table = milk.run()?;
/// assert_eq!(table.value(2, "so_far")?, churn::Scalar::Int(40));
/// assert_eq!(table.value(2, "before")?, churn::Scalar::Int(10));
/// # Ok::<(), churn::Error>(())
/// ```
///
/// A rank needs an order:
///
/// ```
/// # use churn::{Flow, Window};
/// let milk = Flow::steps("values litres: (10), (30)").window(Window::whole(), "place = rank()");
/// assert!(milk.check().unwrap_err().to_string().contains("rank needs an order."));
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct Window {
    by: Result<Vec<ColumnRef>>,
    order: Result<Vec<SortKey>>,
}

impl Window {
    /// A partition for each value of these columns: `"farm, grade"`, or `["farm", "grade"]`.
    pub fn by(columns: impl IntoColumns) -> Window {
        Window { by: columns.into_columns(), order: Ok(Vec::new()) }
    }

    /// One partition, the whole table.
    pub fn whole() -> Window {
        Window { by: Ok(Vec::new()), order: Ok(Vec::new()) }
    }

    /// The order in a partition: `"collected_on desc, litres"`.
    pub fn order(self, keys: impl IntoSortKeys) -> Window {
        Window { order: keys.into_sort_keys(), ..self }
    }
}

impl Flow {
    /// Sets the rows of another table beside those that they match.
    #[must_use]
    pub fn join(mut self, other: impl IntoOther, how: Join) -> Flow {
        let other = other.into_other(&mut self);
        self.made(how.step(other))
    }

    /// Sets the rows of another table below, columns matched by name.
    ///
    /// ```
    /// use churn::Flow;
    /// let old = Flow::steps("values farm, litres: ('F001', 80)");
    /// let both = Flow::steps("values farm, litres, grade: ('F002', 9.5, 'A')").append(&old);
    /// let table = both.run()?;
    /// assert_eq!(table.value(1, "litres")?, churn::Scalar::Float(80.0));
    /// assert_eq!(table.value(1, "grade")?, churn::Scalar::Null);
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn append(mut self, other: impl IntoOther) -> Flow {
        let other = other.into_other(&mut self);
        self.step(steps::Append::new(other))
    }

    /// As [`Flow::append`], where differing columns are a mistake.
    #[must_use]
    pub fn append_strict(mut self, other: impl IntoOther) -> Flow {
        let other = other.into_other(&mut self);
        self.step(steps::Append::new(other).strict())
    }

    /// Sets the columns of another table beside, row by row; it must have as many rows.
    #[must_use]
    pub fn paste(mut self, other: impl IntoOther) -> Flow {
        let other = other.into_other(&mut self);
        self.step(steps::Paste::new(other))
    }

    /// Adds columns worked out from each row's neighbours; the rows stay where they are.
    #[must_use]
    pub fn window(self, window: Window, items: impl IntoItems) -> Flow {
        let step = || {
            let items = steps::Window::new(items.into_items()?);
            Ok(items.by(window.by?).order(window.order?).into())
        };
        self.made(step())
    }

    /// Makes another flow a table of this one, by which its steps and queries can name it.
    ///
    /// ```
    /// use churn::{Flow, Join};
    /// let farms = Flow::steps("values farm, district: ('F001', 'Lakes')");
    /// let milk = Flow::steps("values farm, litres: ('F001', 120.0)").with_table("farms", &farms);
    /// let table = milk.then("join farms on farm").run()?;
    /// assert_eq!(table.column::<String>("district")?, ["Lakes"]);
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn with_table(mut self, name: &str, other: &Flow) -> Flow {
        if self.recipe.tables.iter().any(|table| table.name == name) {
            let what = format!("There is a table {} already.", churn_core::names::name(name));
            let error = Error::new(ErrorKind::Name, what).next("Give this one another name.");
            self.mistake.get_or_insert(error);
            return self;
        }
        self.adopt_as(Some(name), other);
        self
    }

    /// Makes another flow a table of this one; gives its name.
    pub(super) fn adopt(&mut self, other: &Flow) -> String {
        self.adopt_as(None, other)
    }

    fn adopt_as(&mut self, name: Option<&str>, other: &Flow) -> String {
        let mistake = |what: String| Some(Error::new(ErrorKind::Name, what));
        if self.mistake.is_none() {
            self.mistake = other.mistake.clone();
        }
        if self.mistake.is_none() && self.base != other.base {
            self.mistake =
                mistake("The two flows read from different folders; give both the same one.".into());
        }
        match Catalogue::clone(&self.catalogue).together(&other.catalogue) {
            Ok(catalogue) => self.catalogue = Arc::new(catalogue),
            Err(error) => drop(self.mistake.get_or_insert(error)),
        }
        let own = Arc::make_mut(&mut self.recipe);
        let mut twice = None;
        for given in &other.recipe.givens {
            match own.givens.iter().find(|g| g.name == given.name) {
                Some(same) if same.default != given.default => twice = Some(given.name.clone()),
                Some(_) => {}
                None => own.givens.push(given.clone()),
            }
        }
        for (name, define) in &other.recipe.defines {
            match own.defines.iter().find(|(n, _)| n == name) {
                Some((_, same)) if same.body.to_string() != define.body.to_string() => {
                    twice = Some(name.clone())
                }
                Some(_) => {}
                None => own.defines.push((name.clone(), define.clone())),
            }
        }
        for table in &other.recipe.tables {
            let text = |chain: &Chain| chain.steps.iter().map(|p| p.step.to_string()).collect::<Vec<_>>();
            match own.tables.iter().find(|t| t.name == table.name) {
                Some(same) if text(same) != text(table) => twice = Some(table.name.clone()),
                Some(_) => {}
                None => own.tables.push(table.clone()),
            }
        }
        let is_free = |name: &String| !own.tables.iter().any(|t| t.name == *name);
        let numbered = || (1..).map(|n| format!("other_{n}")).find(is_free).unwrap_or_default();
        let name = name.map_or_else(numbered, str::to_owned);
        own.tables.push(Chain { name: name.clone(), steps: other.recipe.main.steps.clone() });
        self.givens.extend(other.givens.iter().cloned());
        if let (None, Some(twice)) = (&self.mistake, twice) {
            self.mistake = mistake(format!("Both flows declare {twice}, and not alike."));
        }
        name
    }
}
