//! Everything that the language has, from the catalogues that the checker uses: for help, and to be searched.

mod clauses;
mod words;

use churn_expr::{aggregates, functions, windows};

use crate::steps;

/// What something of the language is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum TopicKind {
    /// A step.
    Step,
    /// A word within steps and expressions.
    Clause,
    /// A scalar function.
    Function,
    /// An aggregate, which is a window function too.
    Aggregate,
    /// A window function that is no aggregate.
    WindowFunction,
    /// An option of `read`.
    ReadOption,
    /// An option of `write`.
    WriteOption,
    /// An option of `draw`.
    DrawOption,
}

impl TopicKind {
    /// What it is called.
    pub fn title(self) -> &'static str {
        match self {
            TopicKind::Step => "step",
            TopicKind::Clause => "clause",
            TopicKind::Function => "function",
            TopicKind::Aggregate => "aggregate",
            TopicKind::WindowFunction => "window function",
            TopicKind::ReadOption => "option of read",
            TopicKind::WriteOption => "option of write",
            TopicKind::DrawOption => "option of draw",
        }
    }
}

/// One thing of the language.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Topic {
    /// What it is.
    pub kind: TopicKind,
    /// Its name.
    pub name: &'static str,
    /// How it is written.
    pub usage: &'static str,
    /// What it does, in a sentence.
    pub summary: &'static str,
    /// A step over the demo's data; of a function an expression.
    pub example: &'static str,
    /// What a function's example gives.
    pub gives: Option<&'static str>,
}

/// Everything, by kind, each kind in the order of its catalogue.
pub fn topics() -> impl Iterator<Item = Topic> {
    let topic =
        |kind, name, usage, summary, example| Topic { kind, name, usage, summary, example, gives: None };
    let steps = steps::CATALOGUE
        .iter()
        .map(move |s| topic(TopicKind::Step, s.keyword, s.usage, s.summary, s.example));
    let clauses =
        clauses::CLAUSES.iter().map(move |c| topic(TopicKind::Clause, c.name, c.usage, c.summary, c.example));
    let functions = functions::all().map(|f| Topic {
        kind: TopicKind::Function,
        name: f.name,
        usage: f.usage,
        summary: f.summary,
        example: f.example.0,
        gives: Some(f.example.1),
    });
    let aggregates =
        aggregates::all().map(move |a| topic(TopicKind::Aggregate, a.name, a.usage, a.summary, a.example));
    let windows =
        windows::all().map(move |w| topic(TopicKind::WindowFunction, w.name, w.usage, w.summary, w.example));
    let options = [
        (TopicKind::ReadOption, steps::READ_OPTIONS),
        (TopicKind::WriteOption, steps::WRITE_OPTIONS),
        #[cfg(feature = "charts")]
        (TopicKind::DrawOption, steps::DRAW_OPTIONS),
    ];
    let options = options.into_iter().flat_map(move |(kind, options)| {
        options.iter().map(move |o| topic(kind, o.name, o.usage, o.summary, o.example))
    });
    steps.chain(clauses).chain(functions).chain(aggregates).chain(windows).chain(options)
}

/// The topics of this name, in any case.
pub fn topics_named(name: &str) -> Vec<Topic> {
    topics().filter(|topic| topic.name.eq_ignore_ascii_case(name.trim())).collect()
}

/// The topics that have to do with a word or some words, the most likely first: those that the words are known to lead to,
/// those that have one in their name, and, if there are few, those whose sentence has one.
pub fn search_topics(text: &str) -> Vec<Topic> {
    let words: Vec<String> = text.split_whitespace().map(str::to_lowercase).collect();
    let leads: Vec<Vec<&str>> = words.iter().map(|word| words::names_for(word)).collect();
    let likely = |topic: &Topic| {
        let by_name = words.iter().filter(|word| has_word(topic.name, word)).count() * 20;
        let led = leads.iter().filter_map(|names| names.iter().position(|name| *name == topic.name));
        by_name + led.map(|place| 10 - place.min(9)).sum::<usize>()
    };
    let mut found: Vec<(usize, Topic)> = topics().map(|topic| (likely(&topic), topic)).collect();
    found.retain(|(likely, _)| *likely > 0);
    found.sort_by_key(|(likely, _)| std::cmp::Reverse(*likely));
    let mut found: Vec<Topic> = found.into_iter().map(|(_, topic)| topic).collect();
    if found.len() < FEW {
        let is_new =
            |topic: &Topic| !found.iter().any(|other| other.name == topic.name && other.kind == topic.kind);
        let told = |topic: &Topic| words.iter().any(|word| has_word(topic.summary, word));
        let more: Vec<Topic> = topics().filter(|topic| told(topic) && is_new(topic)).collect();
        found.extend(more);
    }
    found.truncate(MOST);
    found
}

/// Topics below which those are shown whose sentence alone has a word.
const FEW: usize = 3;

/// Topics that are shown of a search.
const MOST: usize = 15;

/// Whether a text has a word, or its plural, as a whole word.
fn has_word(text: &str, word: &str) -> bool {
    let text = text.to_lowercase();
    let mut own = text.split(|c: char| !c.is_alphanumeric() && c != '_').filter(|part| !part.is_empty());
    text == word || own.any(|part| part == word || part.strip_suffix('s') == Some(word))
}
