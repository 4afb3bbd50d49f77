//! Wide to long, long to wide, and cells that hold more than one thing.

use super::{Flow, IntoColumns, IntoPivot, IntoPivotItems, IntoStep};
use crate::steps::{self, Step};

impl Flow {
    /// Turns values of keys into columns: `.pivot("grade by farm", "litres = sum(litres)")`, or
    /// `.pivot(PivotKey::new("grade"), [sum(column("litres")).named("litres")])`.
    ///
    /// Besides items, lines may say `fill 0`, `totals`, `named grade || ': ' || item`. Keys that name their values,
    /// `"grade in ('A', 'B') by farm"`, let the result's columns be known before the run; else a run finds them first.
    ///
    /// ```
    /// use churn::{Flow, Scalar};
    /// let milk = Flow::steps("values farm, grade, litres: ('F001', 'A', 10), ('F002', 'B', 5), ('F001', 'A', 7)");
    /// let table = milk.clone().pivot("grade by farm", "litres = sum(litres)").run()?;
    /// assert_eq!(table.value(0, "A")?, Scalar::Int(17));
    /// assert_eq!(table.value(0, "B")?, Scalar::Null);
    /// // One value for each cell is wanted here, and there are two.
    /// let error = milk.pivot("grade by farm", "litres").run().unwrap_err();
    /// assert!(error.to_string().contains("farm = 'F001', grade = 'A': 10, 7"));
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn pivot(self, keys: impl IntoPivot, items: impl IntoPivotItems) -> Flow {
        let pivot = || keys.into_pivot().and_then(|pivot| items.add_to(pivot)?.whole());
        self.made(pivot().map(Step::from))
    }

    /// Turns columns into rows: `.unpivot("litres for month in each 'm_*' skip nulls")`, or
    /// `.unpivot(steps::Unpivot::new("litres", "month", [each().like("m_*")]))`.
    ///
    /// ```
    /// use churn::{Flow, Scalar};
    /// let quota = Flow::steps("values farm, m_1, m_2: ('F001', 900, 850)");
    /// let table = quota.unpivot("litres for month in each 'm_*'").run()?;
    /// assert_eq!(table.value(1, "month")?, Scalar::from("m_2"));
    /// assert_eq!(table.value(1, "litres")?, Scalar::Int(850));
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn unpivot(self, columns: impl IntoStep<steps::Unpivot>) -> Flow {
        self.made(columns.into_step())
    }

    /// Cuts a text column into several: `.split("code at '-' as district, number int")`, or
    /// `.split(steps::Split::at("code", "-").part("district").typed("number", Type::Int))`.
    ///
    /// ```
    /// use churn::{Flow, Scalar};
    /// let table = Flow::steps("values code: ('N-12')").split("code at '-' as district, number int").run()?;
    /// assert_eq!(table.value(0, "number")?, Scalar::Int(12));
    /// let error = Flow::steps("values code: ('N-1-2')").split("code at '-' as district, number").run().unwrap_err();
    /// assert!(error.to_string().contains("more than 2 parts: 'N-1-2'"));
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn split(self, how: impl IntoStep<steps::Split>) -> Flow {
        self.made(how.into_step())
    }

    /// Adds rows for combinations of keys and steps of series that do not occur:
    /// `.densify("month by interval '1' month per farm")`, or `.densify([steps::DenseKey::values("farm")])`.
    ///
    /// ```
    /// # use churn::Flow;
    /// let milk = Flow::steps("values day, litres: (date '2026-03-01', 10), (date '2026-03-04', 20)");
    /// assert_eq!(milk.densify("day by interval '1' day").run()?.len(), 4);
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn densify(self, keys: impl IntoStep<steps::Densify>) -> Flow {
        self.made(keys.into_step())
    }

    /// Makes one row for each value of lists.
    ///
    /// ```
    /// use churn::Flow;
    /// let words = Flow::steps("values note: ('gate closed'), (null)").add("word = parts(note, ' ')").unnest("word");
    /// assert_eq!(words.run()?.len(), 3);
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn unnest(self, columns: impl IntoColumns) -> Flow {
        self.made(columns.into_columns().map(|columns| steps::Unnest::new(columns).into()))
    }

    /// Replaces missing values by the last value before them, in groups if `by` names columns.
    ///
    /// ```
    /// use churn::{Flow, Scalar};
    /// let table = Flow::steps("values grade: ('A'), (null)").fill_down("grade", "").run()?;
    /// assert_eq!(table.value(1, "grade")?, Scalar::from("A"));
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn fill_down(self, columns: impl IntoColumns, by: impl IntoColumns) -> Flow {
        let fill = || Ok(steps::Carry::down(columns.into_columns()?).by(by.into_columns()?).into());
        self.made(fill())
    }

    /// Replaces missing values by the next value after them, in groups if `by` names columns.
    #[must_use]
    pub fn fill_up(self, columns: impl IntoColumns, by: impl IntoColumns) -> Flow {
        let fill = || Ok(steps::Carry::up(columns.into_columns()?).by(by.into_columns()?).into());
        self.made(fill())
    }
}
