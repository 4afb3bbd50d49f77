//! `join [asof] [KIND] OTHER on KEYS [options]`: rows of another table beside those that they match.

use std::fmt;

use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Field, JoinKind, Position, Result, Type};
use churn_expr::ast::{Binary, Expr, Kind, Sense};
use churn_expr::bind::Place;
use churn_expr::text::{Cursor, expression};
use churn_expr::{Bound, cast};
use churn_plan::Relation;
use churn_plan::operators::{Comparison, KeyPair, PrefilterTests};

use super::item::guarded;
use super::other::Other;
use super::{Check, Checker, Step, StepKind, StepText};

pub(super) const KIND: StepKind = StepKind {
    keyword: "join",
    usage: "join [asof] [inner | left | right | full | semi | anti | cross] OTHER on KEYS \
            [prefix 'TEXT'] [expect one] [expect all]",
    summary: "Sets the rows of another table beside those that they match by keys; order is kept, nulls match nothing.",
    example: "join left 'farms.csv' on farm expect one prefix 'farm_'",
    parse,
};

/// `join`: the rows of another table beside those that they match by keys.
#[derive(Clone, Debug, PartialEq)]
pub struct Join {
    asof: bool,
    /// As it is written; inner if it is left out.
    kind: Option<JoinKind>,
    other: Other,
    keys: Vec<Expr>,
    prefix: Option<String>,
    expect_one: bool,
    expect_all: bool,
    span: Position,
}

fn parse(text: StepText<'_>) -> Result<Step> {
    let StepText { mut head, lines, .. } = text;
    let start = head.span();
    let asof = head.take_word("asof");
    let kind = JoinKind::ALL.into_iter().find(|kind| head.take_word(kind.word()));
    if head.is_word_at(0, "outer") && !head.is_word_at(1, "on") {
        return Err(head.error("outer is no kind of join.").next(
            "full keeps the rows of both tables, left and right those of one: join left 'farms.csv' on farm.",
        ));
    }
    let other = Other::read(&mut head)?;
    let span = head.since(start);
    let mut join = Join { asof, kind, span, ..Join::new(other, JoinKind::Inner) };
    while join.option(&mut head)? {}
    if head.take_word("on") {
        head.take_symbol(":");
        if head.at_end() && lines.is_empty() {
            return Err(head.unexpected("the keys: join 'farms.csv' on farm"));
        }
        join.contents(&mut head)?;
    } else if kind != Some(JoinKind::Cross) && !head.at_end() {
        return Err(head.unexpected("on and the keys: join 'farms.csv' on farm"));
    }
    while join.option(&mut head)? {}
    head.expect_end()?;
    for mut line in lines {
        join.contents(&mut line)?;
        line.expect_end()?;
    }
    match (kind, join.keys.is_empty()) {
        (Some(JoinKind::Cross), false) => Err(head
            .error_at(join.keys.first().map_or(*span, |k| k.span), "A cross join has no keys.")
            .next("Leave cross out, or the keys.")),
        (Some(JoinKind::Cross), true) if asof => {
            Err(head.error_at(span, "asof looks for the nearest row, and cross takes all of them."))
        }
        (kind, true) if kind != Some(JoinKind::Cross) => Err(head
            .error_at(span, "A join needs keys.")
            .next(format!("Write: join {} on farm; for all pairs of rows, join cross.", join.other))),
        _ => Ok(Step::from(join)),
    }
}

impl Join {
    /// Joins another table in some way; made by [`Flow::join`](crate::Flow::join) and [`crate::Join`].
    pub fn new(other: impl Into<Other>, kind: JoinKind) -> Join {
        Join {
            asof: false,
            kind: Some(kind),
            other: other.into(),
            keys: Vec::new(),
            prefix: None,
            expect_one: false,
            expect_all: false,
            span: Position::default(),
        }
    }

    /// Takes only the nearest of the rows that match, by the one inequality among the keys.
    #[must_use]
    pub fn asof(self) -> Join {
        Join { asof: true, ..self }
    }

    /// Adds a key: a column of both sides, or a comparison whose left side is of the rows that come in.
    #[must_use]
    pub fn on(mut self, key: impl Into<Expr>) -> Join {
        self.keys.push(key.into());
        self
    }

    /// Puts a text before the names of the other table's columns.
    #[must_use]
    pub fn prefix(self, prefix: &str) -> Join {
        Join { prefix: Some(prefix.to_owned()), ..self }
    }

    /// Stops the run where a row matches several rows.
    #[must_use]
    pub fn expect_one(self) -> Join {
        Join { expect_one: true, ..self }
    }

    /// Stops the run where a row matches none.
    #[must_use]
    pub fn expect_all(self) -> Join {
        Join { expect_all: true, ..self }
    }

    /// Reads keys, with commas between them, and options, with commas or without.
    fn contents(&mut self, c: &mut Cursor<'_>) -> Result<()> {
        let mut may_be_key = true;
        while !c.at_end() {
            if self.option(c)? {
                may_be_key = c.take_symbol(",");
            } else if may_be_key {
                self.keys.push(expression(c)?);
                may_be_key = c.take_symbol(",");
            } else {
                break;
            }
        }
        Ok(())
    }

    /// Reads an option, if one stands here.
    fn option(&mut self, c: &mut Cursor<'_>) -> Result<bool> {
        if c.take_word("prefix") {
            self.prefix = Some(c.text("the text before the names of OTHER's columns, in single quotes")?.0);
        } else if c.take_word("expect") {
            if c.take_word("one") {
                self.expect_one = true;
            } else if c.take_word("all") {
                self.expect_all = true;
            } else {
                return Err(c.unexpected("one or all"));
            }
        } else {
            return Ok(false);
        }
        Ok(true)
    }

    fn join_kind(&self) -> JoinKind {
        self.kind.unwrap_or(JoinKind::Inner)
    }

    /// The conditions that a key as it is written stands for.
    fn conditions<'a>(
        &self,
        key: &'a Expr,
        checker: &mut Checker<'_>,
        into: &mut Vec<(Binary, &'a Expr, &'a Expr)>,
    ) {
        match &key.kind {
            Kind::Name(_) => into.push((Binary::Equal, key, key)),
            Kind::Binary(Binary::And, a, b) => {
                self.conditions(a, checker, into);
                self.conditions(b, checker, into);
            }
            Kind::Binary(op, a, b) if op.is_comparison() && *op != Binary::NotEqual => into.push((*op, a, b)),
            Kind::Between(x, low, high, Sense::Plain) => {
                into.push((Binary::GreaterEqual, x, low));
                into.push((Binary::LessEqual, x, high));
            }
            _ => {
                let error = Error::new(
                    ErrorKind::Check,
                    "A key of a join is a name, or compares both sides.",
                )
                .why("It reads farm, day = valid_on, day >= valid_from, or litres between low and high.")
                .next("Other conditions stand in a filter after the join.");
                checker.wrong(key.span, error);
            }
        }
    }

    /// Both sides of a condition in one type, or a note.
    fn sides(
        &self,
        (op, left, other): (Binary, &Expr, &Expr),
        input: &Relation,
        table: &Relation,
        checker: &mut Checker<'_>,
    ) -> Option<(Bound, Bound, Type)> {
        if let Some(error) = self.turned_round(op, left, other, input, table) {
            checker.wrong(left.span.to(other.span), error);
            return None;
        }
        let mut place = Place::NoAggregates("A key has one value in each row.");
        let mistakes = checker.errors.len();
        let a = checker.expression(left, &input.fields, &mut place);
        self.name_side(checker, mistakes, "on the left, among the columns that reach the join");
        let mistakes = checker.errors.len();
        let b = checker.expression(other, &table.fields, &mut place);
        self.name_side(checker, mistakes, &format!("on the right, in {}", self.other));
        if a.kind == Type::Unknown || b.kind == Type::Unknown {
            return None;
        }
        let span = left.span.to(other.span);
        let united = a.kind.common_type(&b.kind).filter(|k| k.has_order() && *k != Type::Binary);
        let Some(kind) = united else {
            checker.wrong(span, self.unlike(op, (left, &a.kind), (other, &b.kind)));
            return None;
        };
        let kind = if kind == Type::Null { Type::Bool } else { kind };
        Some((cast::silently(a, &kind)?, cast::silently(b, &kind)?, kind))
    }

    /// Says on which side a name was looked for.
    fn name_side(&self, checker: &mut Checker<'_>, mistakes: usize, side: &str) {
        if let Some(error) = checker.errors.get(mistakes).cloned()
            && let Some(slot) = checker.errors.get_mut(mistakes)
        {
            *slot = error.why(format!("It was looked for {side}."));
        }
    }

    /// The error of sides that stand the wrong way round.
    fn turned_round(
        &self,
        op: Binary,
        left: &Expr,
        other: &Expr,
        input: &Relation,
        table: &Relation,
    ) -> Option<Error> {
        let fits = |expr: &Expr, relation: &Relation| {
            let mut names = Vec::new();
            expr.names(&mut names);
            !names.is_empty() && names.iter().all(|n| relation.fields.iter().any(|f| f.name == *n))
        };
        let is_turned = fits(left, table) && !fits(left, input) && fits(other, input) && !fits(other, table);
        let turned = match op {
            Binary::Less => Binary::Greater,
            Binary::LessEqual => Binary::GreaterEqual,
            Binary::Greater => Binary::Less,
            Binary::GreaterEqual => Binary::LessEqual,
            op => op,
        };
        is_turned.then(|| {
            Error::new(ErrorKind::Name, "The sides of this condition stand the wrong way round.")
                .why(format!(
                    "Columns that reach the join stand before the operator, those of {} after it.",
                    self.other
                ))
                .next(format!("Write: {other} {} {left}", turned.symbol()))
        })
    }

    fn unlike(&self, op: Binary, (left, a): (&Expr, &Type), (other, b): (&Expr, &Type)) -> Error {
        let what =
            format!("{left} is {a} on the left, and {other} is {b} in {}: they never match.", self.other);
        let error = Error::new(ErrorKind::Type, what);
        match (a, b) {
            (Type::Text, kind) => error.next(format!(
                "Write: cast({left} as {kind}) {0} {other}, or {left} {0} cast({other} as text).",
                op.symbol()
            )),
            (kind, Type::Text) => error.next(format!(
                "Write: {left} {0} cast({other} as {kind}), or cast({left} as text) {0} {other}.",
                op.symbol()
            )),
            _ => error,
        }
    }

    /// The columns of the other table that are added, with their names.
    fn added(
        &self,
        table: &Relation,
        dropped: &[String],
        left: &[Field],
        keys_are_right: bool,
        checker: &mut Checker<'_>,
    ) -> Vec<Field> {
        if self.join_kind().only_filters() {
            if self.prefix.is_some() {
                let article = if self.join_kind() == JoinKind::Anti { "An" } else { "A" };
                let kind = self.join_kind();
                let what = format!("{article} {kind} join adds no columns, so there is nothing to prefix.");
                checker.wrong(self.span, Error::new(ErrorKind::Check, what).next("Leave prefix out."));
            }
            return Vec::new();
        }
        let prefix = self.prefix.as_deref().unwrap_or_default();
        let kept = table.fields.iter().filter(|field| !dropped.contains(&field.name));
        let added: Vec<Field> = kept
            .map(|field| Field {
                id: field.id,
                ..Field::new(0, format!("{prefix}{}", field.name), field.kind.clone())
            })
            .collect();
        let clash: Vec<&str> =
            added.iter().map(|f| f.name.as_str()).filter(|n| left.iter().any(|f| f.name == *n)).collect();
        // With wrong keys a column clashes that would appear once with the right ones.
        if !clash.is_empty() && keys_are_right {
            let names = comma(clash.iter().map(|n| name(n)));
            let what = format!("Columns of these names are on both sides: {names}.");
            let first = clash.first().copied().unwrap_or_default();
            let error = Error::new(ErrorKind::Name, what)
                .next(format!("Give those of {} a prefix: prefix '{}_'", self.other, self.short_name()))
                .next(format!(
                    "Or drop or rename them on one side before: rename other_{first} = {}",
                    name(first)
                ));
            checker.wrong(self.other.span(), error);
        }
        added
    }

    /// A word for the other table.
    fn short_name(&self) -> String {
        let text = self.other.to_string();
        let stem = text.trim_matches(['\'', '"']).rsplit('/').next().unwrap_or_default();
        stem.split('.').next().unwrap_or("other").to_owned()
    }
}

impl Check for Join {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let table = self.other.relation(checker);
        let (mut input, table) = (input?, table?);
        let step = checker.step();
        let kind = self.join_kind();
        let mistakes = checker.errors.len();
        let mut written = Vec::new();
        for key in &self.keys {
            self.conditions(key, checker, &mut written);
        }
        let (mut keys, mut tests): (Vec<KeyPair>, Vec<Comparison>) = (Vec::new(), Vec::new());
        // Columns that appear once, under the left name: with the key, the left column and the other one.
        let mut once: Vec<(usize, String, Option<String>)> = Vec::new();
        for (op, left, other) in written {
            let Some((a, b, shared)) = self.sides((op, left, other), &input, &table, checker) else {
                continue;
            };
            if op != Binary::Equal {
                tests.push(Comparison { left: a, op, other: b, kind: shared });
                continue;
            }
            if let Kind::Name(column) = &left.kind {
                let of_other = if let Kind::Name(n) = &other.kind { Some(n.clone()) } else { None };
                once.push((keys.len(), column.clone(), of_other));
            }
            keys.push(KeyPair { left: a, other: b, kind: shared, text: left.to_string() });
        }
        if self.asof && tests.len() != 1 && !checker.has_errors() {
            let error =
                Error::new(ErrorKind::Check, "An asof join needs one inequality, which says what is near.")
                    .next("Write: join asof left prices on grade, collected_on >= valid_from");
            checker.wrong(self.span, error);
        }
        let dropped: Vec<String> = once.iter().filter_map(|(_, _, other)| other.clone()).collect();
        let keys_are_right = checker.errors.len() == mistakes;
        let added = self.added(&table, &dropped, &input.fields, keys_are_right, checker);
        let mut merged = Vec::new();
        if kind.keeps_other() {
            for (key, column, _) in once {
                let Some(shared) = keys.get(key).map(|k| k.kind.clone()) else { continue };
                let field = Field::new(checker.ids.fresh(), &column, shared);
                if let Some(slot) = input.fields.iter_mut().find(|f| f.name == column) {
                    *slot = field.clone();
                    merged.push((field, key));
                }
            }
        }
        if kind.keeps_other() {
            // Beside nulls, columns are carried as they are computed.
            input.fields.iter_mut().for_each(|field| field.data = field.kind.arrow());
        }
        input.fields.extend(added.iter().cloned());
        let join = churn_plan::operators::Join {
            kind,
            asof: self.asof,
            prefilter: PrefilterTests::default(),
            unread: Vec::new(),
            other: Box::new(table.node),
            other_name: self.other.to_string(),
            keys,
            tests,
            added,
            merged,
            expect_one: self.expect_one,
            expect_all: self.expect_all,
        };
        Some(input.then(join, step))
    }

    fn joins(&self) -> Option<JoinKind> {
        Some(self.join_kind())
    }
}

impl fmt::Display for Join {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("join ")?;
        if self.asof {
            f.write_str("asof ")?;
        }
        if let Some(kind) = self.kind {
            write!(f, "{kind} ")?;
        }
        write!(f, "{}", self.other)?;
        if !self.keys.is_empty() {
            let keys = self.keys.iter().map(|key| guarded(key, &["prefix", "expect"]));
            write!(f, " on {}", comma(keys))?;
        }
        if let Some(prefix) = &self.prefix {
            write!(f, " prefix {}", churn_core::Scalar::Text(prefix.clone()))?;
        }
        for (expected, word) in [(self.expect_one, "one"), (self.expect_all, "all")] {
            if expected {
                write!(f, " expect {word}")?;
            }
        }
        Ok(())
    }
}
