//! `split COL at 'SEP' as a, b` and `split COL after 4, 6 as a, b, c`: one text column into several.

use std::fmt;
use std::sync::Arc;

use arrow_array::builder::StringViewBuilder;
use churn_core::names::{comma, name};
use churn_core::{Column, Error, ErrorKind, Event, Field, Position, Result, Scalar, Type};
use churn_expr::expand::unknown_column;
use churn_expr::functions::{Arguments, arg};
use churn_expr::text::Cursor;
use churn_expr::{Bound, cast};
use churn_plan::Relation;
use churn_plan::operators::Compute;

use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "split",
    usage: "split COL at 'SEP' as a [TYPE], b [TYPE] … [keep] | split COL after N, … as a [TYPE], …",
    summary: "Cuts a text column into several, standing where it stood; a missing part is null, one too many an error.",
    example: "split farm after 1 as letter, number int keep",
    parse: |text| Ok(Step::from(text.one(read)?)),
};

/// `split`: a text column cut into several, standing where it stood.
///
/// ```
/// use churn::{Type, steps};
/// let split = steps::Split::at("code", "-").part("district").typed("number", Type::Int);
/// assert_eq!(split.to_string(), "split code at '-' as district, number int");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Split {
    column: (String, Position),
    cut: SplitMethod,
    parts: Vec<SplitPart>,
    keep: bool,
    span: Position,
}

/// Where a text is cut.
#[derive(Clone, Debug, PartialEq)]
enum SplitMethod {
    /// At each of these texts.
    At(String),
    /// Behind so many characters.
    After(Vec<usize>),
}

#[derive(Clone, Debug, PartialEq)]
struct SplitPart {
    name: String,
    kind: Option<Type>,
    span: Position,
}

impl Split {
    fn of(column: &str, cut: SplitMethod) -> Split {
        let (column, span) = ((column.to_owned(), Position::default()), Position::default());
        Split { column, cut, parts: Vec::new(), keep: false, span }
    }

    /// Cuts a column at each separator.
    pub fn at(column: &str, separator: &str) -> Split {
        Split::of(column, SplitMethod::At(separator.to_owned()))
    }

    /// Cuts a column behind so many characters; the numbers rise.
    pub fn after(column: &str, places: impl IntoIterator<Item = usize>) -> Split {
        Split::of(column, SplitMethod::After(places.into_iter().collect()))
    }

    /// Names the next part.
    #[must_use]
    pub fn part(self, name: &str) -> Split {
        self.with(name, None)
    }

    /// Names the next part, which is of a type.
    #[must_use]
    pub fn typed(self, name: &str, kind: Type) -> Split {
        self.with(name, Some(kind))
    }

    fn with(mut self, name: &str, kind: Option<Type>) -> Split {
        self.parts.push(SplitPart { name: name.to_owned(), kind, span: Position::default() });
        self
    }

    /// Leaves the column, too.
    #[must_use]
    pub fn keep(self) -> Split {
        Split { keep: true, ..self }
    }
}

fn read(c: &mut Cursor<'_>) -> Result<Split> {
    let start = c.span();
    let column = c.name("the column to cut")?;
    let cut = if c.take_word("at") {
        let (separator, span) = c.text("what stands between the parts, in single quotes")?;
        if separator.is_empty() {
            return Err(c
                .error_at(span, "A text cannot be cut at nothing.")
                .next("To cut by position write: split code after 2, 4 as …"));
        }
        SplitMethod::At(separator)
    } else if c.take_word("after") {
        let start = c.span();
        let places = c.list(|c| c.count("a number of characters"))?;
        if !places.is_sorted_by(|a, b| a < b) || places.first() == Some(&0) {
            let error = c.error_at(c.since(start), "The places rise from 1 on.");
            return Err(error.next("They count from the start of the text: after 4, 6"));
        }
        SplitMethod::After(places)
    } else {
        return Err(c.unexpected(
            "at and a separator, or after and positions: split farm at '-' as district, number",
        ));
    };
    c.expect_word("as", "and the names of the parts")?;
    let parts = c.list(|c| {
        let (name, span) = c.name("the name of a part")?;
        let ends = c.at_end() || c.is_symbol_at(0, ",") || c.is_word_at(0, "keep");
        let kind = if ends { None } else { Some(c.type_name()?) };
        Ok(SplitPart { name, kind, span })
    })?;
    let keep = c.take_word("keep");
    let split = Split { column, cut, parts, keep, span: c.since(start) };
    if let SplitMethod::After(places) = &split.cut
        && places.len() + 1 != split.parts.len()
    {
        let what = format!(
            "{} cuts make {} parts, and {} are named.",
            places.len(),
            places.len() + 1,
            split.parts.len()
        );
        return Err(c.error_at(split.span, what));
    }
    Ok(split)
}

impl SplitMethod {
    /// The part of a text; the outer `None` if it has too many.
    fn part<'a>(&self, text: &'a str, part: usize, parts: usize) -> Option<Option<&'a str>> {
        match self {
            SplitMethod::At(separator) => {
                let mut found = text.split(separator.as_str());
                let wanted = found.nth(part);
                (part + 1 < parts || found.next().is_none()).then_some(wanted)
            }
            SplitMethod::After(places) => {
                let byte = |chars: usize| text.char_indices().nth(chars).map(|(at, _)| at);
                let from = match part.checked_sub(1) {
                    None => Some(0),
                    Some(before) => places.get(before).and_then(|chars| byte(*chars)),
                };
                let to = places.get(part).and_then(|chars| byte(*chars)).unwrap_or(text.len());
                Some(from.filter(|from| *from < text.len()).and_then(|from| text.get(from..to)))
            }
        }
    }

    /// The call that gives a part; the last one counts texts with too few.
    fn call(&self, column: &Field, part: usize, parts: usize) -> Bound {
        let cut = self.clone();
        let shown = name(&column.name);
        let args = Arguments { name: "split", usage: "split", values: vec![Bound::column(column)] };
        args.fallible_call(Type::Text, move |args, rows, events| {
            let column = arg(args, 0);
            let texts = column.texts();
            let mut found = StringViewBuilder::with_capacity(rows);
            let mut missing = 0;
            for row in 0..rows {
                let text = texts.get(row);
                let value = match text.map(|text| cut.part(text, part, parts)) {
                    None => None,
                    Some(Some(value)) => value,
                    Some(None) => return Err(too_many(&shown, text.unwrap_or_default(), parts)),
                };
                missing += usize::from(text.is_some() && value.is_none() && part + 1 == parts);
                found.append_option(value);
            }
            events.add(Event::MissingPart, missing);
            Ok(Column::Array(Arc::new(found.finish())))
        })
    }
}

fn too_many(column: &str, text: &str, parts: usize) -> Error {
    let text = Scalar::Text(text.to_owned());
    Error::new(ErrorKind::Data, format!("{column} has a text of more than {parts} parts: {text}."))
        .next("Name one more part, or cut only what is regular: filter such rows out before.")
}

impl Check for Split {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let step = checker.step();
        let source = checker.source.clone();
        let Some(column) = input.fields.iter().find(|f| f.name == self.column.0).cloned() else {
            checker.errors.push(unknown_column(&self.column.0, &input.fields, &source, self.column.1));
            return None;
        };
        if !matches!(column.kind, Type::Text | Type::Null | Type::Unknown) {
            let what = format!("{} is {}, and only text can be cut.", name(&column.name), column.kind);
            let next = format!("Turn it into text before: add {0} = cast({0} as text)", name(&column.name));
            checker.wrong(self.column.1, Error::new(ErrorKind::Type, what).next(next));
            return None;
        }
        let mut made: Vec<Field> = Vec::new();
        let mut computed = Vec::new();
        for (place, part) in self.parts.iter().enumerate() {
            let mut bound = self.cut.call(&column, place, self.parts.len());
            if let Some(kind) = &part.kind {
                if !cast::is_possible(&Type::Text, kind) {
                    checker
                        .wrong(part.span, Error::new(ErrorKind::Type, format!("Text cannot become {kind}.")));
                    continue;
                }
                bound = cast::explicitly(bound, kind, None, false);
            }
            let field = Field::new(checker.ids.fresh(), &part.name, bound.kind.clone());
            let taken = |f: &&Field| f.name == part.name && (self.keep || f.name != column.name);
            if made.iter().any(|f| f.name == part.name) || input.fields.iter().any(|f| taken(&f)) {
                let what = format!("There is a column {} already.", name(&part.name));
                checker
                    .wrong(part.span, Error::new(ErrorKind::Name, what).next("Give the part another name."));
            }
            made.push(field.clone());
            computed.push((field, bound));
        }
        let mut relation = input.then(Compute { columns: computed }, step);
        let at = relation.fields.iter().position(|f| f.name == column.name).unwrap_or(0);
        let after = at + usize::from(self.keep);
        relation.fields.splice(at + usize::from(self.keep)..after + usize::from(!self.keep), made);
        Some(relation)
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

impl fmt::Display for Split {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "split {}", name(&self.column.0))?;
        match &self.cut {
            SplitMethod::At(separator) => write!(f, " at {}", Scalar::Text(separator.clone()))?,
            SplitMethod::After(places) => write!(f, " after {}", comma(places))?,
        }
        let part = |part: &SplitPart| match &part.kind {
            Some(kind) => format!("{} {kind}", name(&part.name)),
            None => name(&part.name),
        };
        write!(f, " as {}", comma(self.parts.iter().map(part)))?;
        f.write_str(if self.keep { " keep" } else { "" })
    }
}
