//! The expression tree as it is written: names not yet looked up, types not yet known.

mod frame;

use churn_core::{Position, Scalar, Span, Type, deep};
pub use frame::{Edge, Frame, Unit};

/// An expression with its place in the text. Two are equal if they say the same, wherever they stand.
#[derive(Clone, Debug)]
pub struct Expr {
    /// What it is.
    pub kind: Kind,
    /// Where it stands.
    pub span: Span,
}

impl PartialEq for Expr {
    fn eq(&self, other: &Expr) -> bool {
        deep::guarded(|| self.kind == other.kind)
    }
}

/// The forms of an expression.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Kind {
    /// A literal.
    Literal(Scalar),
    /// A column's name.
    Name(String),
    /// A parameter, `$name`.
    Parameter(String),
    /// `-x`.
    Negate(Box<Expr>),
    /// `not x`.
    Not(Box<Expr>),
    /// Two operands and an operator.
    Binary(Binary, Box<Expr>, Box<Expr>),
    /// `x between low and high`.
    Between(Box<Expr>, Box<Expr>, Box<Expr>, Sense),
    /// `x in (a, b)`.
    In(Box<Expr>, Vec<Expr>, Sense),
    /// `x in NAME`: whether x is among the values of a table of one column.
    InTable(Box<Expr>, String, Sense),
    /// `$NAME.column`: the value of a column of a table that has one row.
    TableValue(String, String),
    /// `x like pattern escape 'c'`.
    Like(Box<Expr>, Box<Expr>, Option<char>, Sense),
    /// `x is null`.
    IsNull(Box<Expr>, Sense),
    /// `x is distinct from y`.
    IsDistinct(Box<Expr>, Box<Expr>, Sense),
    /// `case when c then a … else e end`.
    Case(Vec<(Expr, Expr)>, Option<Box<Expr>>),
    /// `case x when v then a … else e end`: the first value that x equals.
    CaseOf(Box<Expr>, Vec<(Expr, Expr)>, Option<Box<Expr>>),
    /// `name(a, b)`.
    Call(String, Vec<Expr>),
    /// `cast(x as T format 'p')`, or `try_cast`.
    Cast(Box<Cast>),
    /// `aggregate where (condition)`.
    Where(Box<Expr>, Box<Expr>),
    /// `aggregate per keys`.
    Per(Box<Expr>, Keys),
    /// `call over frame`.
    Over(Box<Expr>, Box<Frame>),
    /// `each …`: one output for each column of a set.
    Each(ColumnSet),
    /// A value that the body uses more than once, then the body; made where a function of the user's own is put in
    /// its place, never written.
    Let(Local, Box<Expr>, Box<Expr>),
    /// The value of a [`Kind::Let`] around it.
    Local(Local),
}

/// A value with a number in place of a name.
#[derive(Clone, Debug, PartialEq)]
pub struct Local {
    /// Unlike that of any other.
    pub number: u64,
    /// The value as it is written.
    pub text: String,
}

/// A cast's parts.
#[derive(Clone, Debug, PartialEq)]
pub struct Cast {
    /// What is cast.
    pub from: Expr,
    /// The type it becomes.
    pub to: Type,
    /// The strftime pattern, if one is given.
    pub format: Option<String>,
    /// Whether a bad value is null instead of an error.
    pub lenient: bool,
}

/// Whether `not` stands in a predicate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sense {
    /// As it is.
    Plain,
    /// With `not`.
    Not,
}

/// The operators between two operands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Binary {
    Or,
    And,
    Equal,
    NotEqual,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
    Add,
    Subtract,
    Concat,
    Multiply,
    Divide,
    Div,
    Mod,
}

impl Binary {
    /// The operator as it is written.
    pub fn symbol(self) -> &'static str {
        match self {
            Binary::Or => "or",
            Binary::And => "and",
            Binary::Equal => "=",
            Binary::NotEqual => "<>",
            Binary::Less => "<",
            Binary::LessEqual => "<=",
            Binary::Greater => ">",
            Binary::GreaterEqual => ">=",
            Binary::Add => "+",
            Binary::Subtract => "-",
            Binary::Concat => "||",
            Binary::Multiply => "*",
            Binary::Divide => "/",
            Binary::Div => "div",
            Binary::Mod => "mod",
        }
    }

    /// How tightly it binds; larger is tighter.
    pub(crate) fn tightness(self) -> u8 {
        match self {
            Binary::Or => 1,
            Binary::And => 2,
            Binary::Add | Binary::Subtract | Binary::Concat => 5,
            Binary::Multiply | Binary::Divide | Binary::Div | Binary::Mod => 6,
            _ => 4,
        }
    }

    /// Whether it compares.
    pub fn is_comparison(self) -> bool {
        self.tightness() == 4
    }
}

/// What an aggregate is taken over.
#[derive(Clone, Debug, PartialEq)]
pub enum Keys {
    /// `per table`: all rows.
    Table,
    /// `per (a, b)`.
    Columns(Vec<ColumnRef>),
}

/// A column's name, or a set of them.
#[derive(Clone, Debug, PartialEq)]
pub enum ColumnRef {
    /// One column.
    Name(String, Position),
    /// A set.
    Set(ColumnSet),
}

/// A set of columns: `each number except litres`.
#[derive(Clone, Debug, PartialEq)]
pub struct ColumnSet {
    /// Which columns.
    pub of: SetOf,
    /// Columns left out.
    pub except: Vec<(String, Position)>,
    /// Where it stands.
    pub span: Position,
}

/// Which columns a set takes.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum SetOf {
    All,
    Number,
    Text,
    Date,
    Bool,
    /// A pattern with `*` and `?`.
    Like(String),
    /// A regular expression.
    Matching(String),
    /// Positions, from 1, both ends included.
    Positions(usize, usize),
    /// Names.
    Names(Vec<String>),
}

/// The arms of a case: what is tested, and the value that it gives.
type Arms = Vec<(Expr, Expr)>;

fn for_each_of_case<'a>(arms: &'a [(Expr, Expr)], otherwise: Option<&'a Expr>, f: &mut dyn FnMut(&'a Expr)) {
    for (test, value) in arms {
        f(test);
        f(value);
    }
    otherwise.into_iter().for_each(f);
}

fn map_case(
    arms: &[(Expr, Expr)],
    otherwise: Option<&Expr>,
    f: &mut dyn FnMut(&Expr) -> Expr,
) -> (Arms, Option<Box<Expr>>) {
    let arms = arms.iter().map(|(test, value)| (f(test), f(value))).collect();
    (arms, otherwise.map(|x| Box::new(f(x))))
}

impl Expr {
    /// Makes an expression at a place.
    pub fn new(kind: Kind, span: impl Into<Span>) -> Expr {
        Expr { kind, span: span.into() }
    }

    /// Calls `f` on each direct part.
    pub fn for_each_part<'a>(&'a self, f: &mut dyn FnMut(&'a Expr)) {
        match &self.kind {
            Kind::Literal(_)
            | Kind::Name(_)
            | Kind::Parameter(_)
            | Kind::TableValue(..)
            | Kind::Each(_)
            | Kind::Local(_) => {}
            Kind::Negate(x) | Kind::Not(x) | Kind::IsNull(x, _) | Kind::InTable(x, ..) | Kind::Per(x, _) => {
                f(x)
            }
            Kind::Binary(_, a, b)
            | Kind::Like(a, b, _, _)
            | Kind::IsDistinct(a, b, _)
            | Kind::Where(a, b)
            | Kind::Let(_, a, b) => {
                f(a);
                f(b);
            }
            Kind::Between(a, b, c, _) => [a, b, c].into_iter().for_each(|x| f(x)),
            Kind::In(x, list, _) => {
                f(x);
                list.iter().for_each(f);
            }
            Kind::Case(arms, otherwise) => for_each_of_case(arms, otherwise.as_deref(), f),
            Kind::CaseOf(x, arms, otherwise) => {
                f(x);
                for_each_of_case(arms, otherwise.as_deref(), f);
            }
            Kind::Call(_, args) => args.iter().for_each(f),
            Kind::Cast(cast) => f(&cast.from),
            Kind::Over(x, frame) => {
                f(x);
                frame.parts().into_iter().for_each(f);
            }
        }
    }

    /// Rebuilds the expression with each direct part replaced.
    pub fn map_parts(&self, f: &mut dyn FnMut(&Expr) -> Expr) -> Expr {
        let f = &mut |part: &Expr| deep::guarded(|| f(part));
        let mut boxed = |x: &Expr| Box::new(f(x));
        let kind = match &self.kind {
            Kind::Literal(_)
            | Kind::Name(_)
            | Kind::Parameter(_)
            | Kind::TableValue(..)
            | Kind::Each(_)
            | Kind::Local(_) => self.kind.clone(),
            Kind::Let(local, value, body) => Kind::Let(local.clone(), boxed(value), boxed(body)),
            Kind::Negate(x) => Kind::Negate(boxed(x)),
            Kind::Not(x) => Kind::Not(boxed(x)),
            Kind::IsNull(x, s) => Kind::IsNull(boxed(x), *s),
            Kind::Per(x, keys) => Kind::Per(boxed(x), keys.clone()),
            Kind::Binary(op, a, b) => Kind::Binary(*op, boxed(a), boxed(b)),
            Kind::Like(a, b, escape, s) => Kind::Like(boxed(a), boxed(b), *escape, *s),
            Kind::IsDistinct(a, b, s) => Kind::IsDistinct(boxed(a), boxed(b), *s),
            Kind::Where(a, b) => Kind::Where(boxed(a), boxed(b)),
            Kind::Between(a, b, c, s) => Kind::Between(boxed(a), boxed(b), boxed(c), *s),
            Kind::In(x, list, s) => Kind::In(boxed(x), list.iter().map(f).collect(), *s),
            Kind::InTable(x, table, s) => Kind::InTable(boxed(x), table.clone(), *s),
            Kind::Case(arms, otherwise) => {
                let (arms, otherwise) = map_case(arms, otherwise.as_deref(), f);
                Kind::Case(arms, otherwise)
            }
            Kind::CaseOf(x, arms, otherwise) => {
                let x = Box::new(f(x));
                let (arms, otherwise) = map_case(arms, otherwise.as_deref(), f);
                Kind::CaseOf(x, arms, otherwise)
            }
            Kind::Call(name, args) => Kind::Call(name.clone(), args.iter().map(f).collect()),
            Kind::Over(x, frame) => Kind::Over(Box::new(f(x)), Box::new(frame.map(f))),
            Kind::Cast(cast) => Kind::Cast(Box::new(Cast { from: f(&cast.from), ..(**cast).clone() })),
        };
        Expr { kind, span: self.span }
    }

    /// Adds the names of the columns that it uses, as they are written.
    pub fn names(&self, into: &mut Vec<String>) {
        if let Kind::Name(name) = &self.kind {
            into.push(name.clone());
        }
        self.for_each_part(&mut |part| deep::guarded(|| part.names(into)));
    }

    /// The first column set in the expression.
    pub fn first_set(&self) -> Option<&ColumnSet> {
        if let Kind::Each(set) = &self.kind {
            return Some(set);
        }
        let mut found = None;
        self.for_each_part(&mut |part| {
            if found.is_none() {
                found = deep::guarded(|| part.first_set());
            }
        });
        found
    }
}
