//! `churn profile INPUT [COLUMNS]`: what every column holds, in one pass.

use churn::Detail;

use super::{account, input, options, prepared};
use crate::Outcome;
use crate::arguments::{Profile, ProfileShape};
use crate::terminal::{Failure, is_terminal, out, width};

pub(crate) fn run(arguments: &Profile) -> Outcome {
    let mut flow = input(&arguments.input);
    if !arguments.columns.is_empty() {
        // A column set is several words, which need no quotes.
        let is_set = arguments.columns.first().is_some_and(|word| word == "each");
        flow = flow.select(arguments.columns.join(if is_set { " " } else { ", " }));
    }
    let resources = &arguments.resources;
    let options = options(resources);
    let plan = prepared(&flow, &options, resources)?;
    let (options, bar) = crate::progress::shown(options, resources.quiet);
    let detail = if arguments.pairs { Detail::Pairs } else { Detail::Columns };
    let profile = plan.profile_with(detail, &options)?;
    drop(bar);
    match arguments.format.unwrap_or(ProfileShape::Text) {
        ProfileShape::Json => {
            let json = serde_json::to_string_pretty(&profile).map_err(|e| Failure::File(e.to_string()))?;
            out(json + "\n")?;
        }
        ProfileShape::Text => {
            // In a pipe nothing is left out for want of width.
            let view = profile.view(if is_terminal() { width() } else { width().max(160) });
            out(if arguments.columns.is_empty() { view } else { view.full() })?;
        }
    }
    account(&profile.ledger, resources)
}
