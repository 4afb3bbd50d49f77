//! `churn help`: the language, from the catalogues that the checker uses, and the tool's commands.

use churn::{Family, Topic, TopicKind};
use clap::CommandFactory;

use crate::Outcome;
use crate::arguments::{Arguments, Help};
use crate::terminal::{Failure, entries, help_width as width, out, wrapped};

pub(crate) fn run(arguments: &Help) -> Outcome {
    let topic = arguments.topic.join(" ").to_lowercase();
    match topic.as_str() {
        "" => {
            let mut command = Arguments::command().term_width(width());
            out(command.render_long_help())
        }
        "steps" => out(list(&[TopicKind::Step])),
        "functions" => out(functions()),
        "clauses" => out(list(&[TopicKind::Clause])),
        "options" => out(list(&[TopicKind::ReadOption, TopicKind::WriteOption])),
        name => out(about(name)?),
    }
}

/// Topics, each with how it is written and what it does.
fn listed(topics: impl Iterator<Item = Topic>) -> String {
    entries("  ", topics.map(|topic| (topic.usage, topic.summary)), width())
}

/// All topics of some kinds, under a title each.
fn list(kinds: &[TopicKind]) -> String {
    let of = |kind: &TopicKind| {
        let topics = churn::topics().filter(|topic| topic.kind == *kind);
        format!("{}\n{}\n", titled(*kind), listed(topics))
    };
    format!("{}churn help NAME tells more of one of them.\n", kinds.iter().map(of).collect::<String>())
}

fn titled(kind: TopicKind) -> &'static str {
    match kind {
        TopicKind::Step => "Steps",
        TopicKind::Clause => "Clauses",
        TopicKind::ReadOption => "Options of read: read 'FILE' with (OPTION, …)",
        TopicKind::WriteOption => "Options of write: write 'FILE' with (OPTION, …)",
        TopicKind::Aggregate => "Aggregates",
        TopicKind::WindowFunction => "In a window, with every aggregate",
        _ => "Functions",
    }
}

fn functions() -> String {
    let mut text = String::new();
    for family in [Family::Number, Family::Text, Family::Date, Family::Null, Family::List] {
        let names: Vec<&str> = churn::functions().filter(|f| f.family == family).map(|f| f.name).collect();
        let members = churn::topics().filter(|t| t.kind == TopicKind::Function && names.contains(&t.name));
        text.push_str(&format!("{}\n{}\n", family.title(), listed(members)));
    }
    text + &list(&[TopicKind::Aggregate, TopicKind::WindowFunction])
}

/// What has this name: commands, and things of the language; or else what has to do with the words.
fn about(name: &str) -> Result<String, Failure> {
    let mut parts = Vec::new();
    if let Some(command) = Arguments::command().find_subcommand_mut(name) {
        parts.push(
            command.clone().bin_name(format!("churn {name}")).term_width(width()).render_help().to_string(),
        );
    }
    parts.extend(churn::topics_named(name).into_iter().map(whole));
    if !parts.is_empty() {
        return Ok(parts.join("\n"));
    }
    let found = churn::search_topics(name);
    if found.is_empty() {
        let near = churn::nearest(name, churn::topics().map(|topic| topic.name));
        let near = near.map(|near| format!("\n  Did you mean {near}?")).unwrap_or_default();
        return Err(Failure::Request(format!(
            "Nothing has to do with {name}.{near}\n  churn help steps, functions, clauses and options list all that there is."
        )));
    }
    let items =
        found.into_iter().map(|topic| (topic.name, format!("{}: {}", topic.kind.title(), topic.summary)));
    let items: Vec<(&str, String)> = items.collect();
    let items = entries("  ", items.iter().map(|(name, text)| (*name, text.as_str())), width());
    Ok(format!("What has to do with {name}:\n\n{items}\nchurn help NAME tells more of one of them.\n"))
}

/// One topic with its example.
fn whole(topic: Topic) -> String {
    let width = width();
    let usage = wrapped(topic.usage, width, "    ");
    let summary = wrapped(topic.summary, width - 2, "").replace('\n', "\n  ");
    let stands = match topic.kind {
        TopicKind::Aggregate => "\n  An aggregate: it stands in group and total, and elsewhere with per.\n",
        TopicKind::WindowFunction => "\n  It stands in window.\n",
        TopicKind::ReadOption => "\n  An option of read.\n",
        TopicKind::WriteOption => "\n  An option of write.\n",
        _ => "",
    };
    let example = match topic.gives {
        Some(value) => format!("{} is {value}", topic.example),
        None => topic.example.to_owned(),
    };
    let lines: Vec<String> = example.lines().map(|line| wrapped(line, width - 4, "    ")).collect();
    format!(
        "{usage}\n\n  {summary}\n{stands}\n  Example:\n    {}\n",
        lines.join("\n").replace('\n', "\n    ")
    )
}
