//! `churn convert IN OUT`: another format.

use super::{account, input, options, tell_notes};
use crate::Outcome;
use crate::arguments::Convert;
use crate::progress;

pub(crate) fn run(arguments: &Convert) -> Outcome {
    let flow = input(&arguments.input);
    let resources = &arguments.running;
    tell_notes(&flow, resources.quiet)?;
    let (options, bar) = progress::shown(options(resources), resources.quiet);
    let ledger = flow.write_with(&arguments.output, &options)?;
    drop(bar);
    account(&ledger, resources)
}
