//! `churn convert IN OUT`: another format.

use super::{account, input, options, prepared};
use crate::Outcome;
use crate::arguments::Convert;
use crate::progress;

pub(crate) fn run(arguments: &Convert) -> Outcome {
    let resources = &arguments.running;
    let options = options(resources);
    let flow = input(&arguments.input).then_write(&arguments.output);
    let plan = prepared(&flow, &options, resources)?;
    let (options, bar) = progress::shown(options, resources.quiet);
    let ledger = plan.run_for_effect(&options)?;
    drop(bar);
    account(&ledger, resources)
}
