//! A chain's columns, looked at in one pass.

use churn_core::Result;

use super::{CheckedPlan, Flow};
use crate::options::RunOptions;
use crate::profile::{Detail, Profile, asked};

impl Flow {
    /// Runs the chain and tells what its columns hold: missing values, zeros, different values, least and greatest,
    /// quartiles, mean, spread, the most frequent values, a histogram.
    ///
    /// One pass, in memory that does not grow with the rows. Up to 10 000 different values a column are counted
    /// exactly (fewer where there are more than 20 columns); past that the figures that rest on them are estimates
    /// and say so. The same on any number of threads.
    ///
    /// # Errors
    /// As [`Flow::run`].
    ///
    /// ```
    /// let flow = churn::Flow::steps("values farm, litres: ('F001', 120.0), ('F002', null), ('F001', 0.0)");
    /// let profile = flow.profile()?;
    /// let litres = &profile.columns[1];
    /// assert_eq!((profile.rows, litres.missing, litres.zeros), (3, 1, Some(1)));
    /// println!("{}", profile.view(100).full());
    /// # Ok::<(), churn::Error>(())
    /// ```
    ///
    /// A column that is not there is told before anything is read:
    ///
    /// ```
    /// let flow = churn::Flow::steps("values litres: (120.0)").select("liters");
    /// assert!(flow.profile().unwrap_err().to_string().contains("Did you mean litres?"));
    /// ```
    pub fn profile(&self) -> Result<Profile> {
        self.profile_with(Detail::Columns, &RunOptions::default())
    }

    /// As [`Flow::profile`], with options; on request with the correlations of number columns.
    ///
    /// # Errors
    /// As [`Flow::profile`].
    pub fn profile_with(&self, detail: Detail, options: &RunOptions) -> Result<Profile> {
        self.plan_with(options)?.profile_with(detail, options)
    }
}

impl CheckedPlan {
    /// Runs the plan and tells what its columns hold.
    ///
    /// # Errors
    /// As [`CheckedPlan::run_with`].
    pub fn profile_with(&self, detail: Detail, options: &RunOptions) -> Result<Profile> {
        let plan = &*self.complete(options)?;
        let fields = &plan.main.fields;
        let (found, ran) = churn_exec::run(plan, options.settings(), |run| {
            churn_exec::profile::sink(asked(fields, detail)?, run.threads().clone())
        })?;
        Profile::new(fields, detail, found, ran.ledger)
    }
}
