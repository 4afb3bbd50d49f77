//! Chains that end in a chart.

use std::sync::PoisonError;

use churn_core::{Error, ErrorKind, Ledger, Result, deep};
use churn_draw::colour::Ground;
use churn_exec::ColumnarOutput;

use super::{CheckedPlan, Flow};
use crate::draw::{Chart, FigureOutput, plan_picture};
use crate::options::RunOptions;
use crate::steps::Draw;

impl Flow {
    /// Draws what flows here: to a file if the step says one, and the rows flow on; else at the end, for [`Flow::chart`] and
    /// the tool to show.
    ///
    /// ```
    /// use churn::{Flow, steps::Draw};
    /// let flow = Flow::read("deliveries-2026.csv").draw(Draw::histogram("litres").by("grade").to("litres.svg"));
    /// assert_eq!(flow.to_string(), "read 'deliveries-2026.csv'\ndraw histogram litres by grade to 'litres.svg'\n");
    /// ```
    #[must_use]
    pub fn draw(self, draw: Draw) -> Flow {
        self.step(draw)
    }

    /// Whether the chain ends in a `draw` without a file: a chart that is shown.
    pub fn ends_in_chart(&self) -> bool {
        self.recipe.main.steps.last().is_some_and(|placed| placed.step.check().shows())
    }

    /// Runs the chain and draws its rows. A file that the step names is left out: the chart is given to the program.
    ///
    /// # Errors
    /// As [`Flow::run`]; there is nothing to draw, or more keys than a picture can show.
    ///
    /// ```
    /// use churn::{Flow, steps::Draw};
    /// let milk = Flow::steps("values farm, litres: ('F001', 120.0), ('F002', 80.0)");
    /// let chart = milk.chart(Draw::bars(["litres"]).over("farm"))?;
    /// assert_eq!(chart.data()?.column::<f64>("litres")?, [120.0, 80.0]);
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn chart(&self, draw: Draw) -> Result<Chart> {
        self.clone().draw(draw.shown()).plan()?.chart_with(&RunOptions::default())
    }
}

impl CheckedPlan {
    /// The plan as a picture in SVG: a column of boxes for each chain, from its source to its result, each with how it will
    /// run.
    pub fn svg(&self, is_dark: bool) -> String {
        let ground = if is_dark { Ground::Dark } else { Ground::Light };
        deep::with_room_for(self.plan.length(), || churn_draw::svg::write(&plan_picture(&self.plan, ground)))
    }

    /// Runs the plan and draws its rows, as the `draw` at its end says.
    ///
    /// # Errors
    /// As [`Flow::chart`]; the chain does not end in a chart.
    pub fn chart_with(&self, options: &RunOptions) -> Result<Chart> {
        Ok(self.drawn_with(options)?.0)
    }

    /// As [`CheckedPlan::chart_with`], with what became of every row.
    ///
    /// # Errors
    /// As [`CheckedPlan::chart_with`].
    pub fn drawn_with(&self, options: &RunOptions) -> Result<(Chart, Ledger)> {
        let plan = self.complete(options)?;
        let Some(drawing) = &plan.checked().drawing else {
            return Err(Error::new(ErrorKind::Check, "The chain does not end in a chart.")
                .next("End it with: draw histogram litres"));
        };
        let (output, figure) = FigureOutput::new(drawing);
        let (_, ran) =
            churn_exec::run(&plan, options.settings(), |_| Ok(ColumnarOutput::sink(Box::new(output))))?;
        let figure = figure.lock().unwrap_or_else(PoisonError::into_inner).take();
        let lost = || Error::new(ErrorKind::Internal, "A chart was drawn and is not there.");
        Ok((Chart::new(figure.ok_or_else(lost)?, drawing), ran.ledger))
    }
}
