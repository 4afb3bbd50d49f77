//! Expressions, functions, aggregates and windows of the evaluator.

use sqlparser::ast::{
    BinaryOperator, CaseWhen, DataType, DateTimeField, DuplicateTreatment, Expr, Function, FunctionArg,
    FunctionArgExpr, FunctionArguments, InTarget, NamedWindowExpr, OrderBySort, TrimWhereField,
    UnaryOperator, Value, WindowFrame, WindowFrameBound, WindowFrameUnits, WindowSpec, WindowType,
};

use crate::eval::{Context, Grouped, compared, is_same};
use crate::value::{V, and, arithmetic, like, or};

const AGGREGATES: [&str; 12] = [
    "count",
    "sum",
    "avg",
    "min",
    "max",
    "every",
    "any_value",
    "stddev_samp",
    "var_samp",
    "var_pop",
    "stddev_pop",
    "percentile_cont",
];

/// Whether an aggregate stands in an expression, and not over a window.
pub fn has_aggregate(expr: &Expr) -> bool {
    match expr {
        Expr::Function(f) if f.over.is_none() && AGGREGATES.contains(&name(f).as_str()) => true,
        Expr::Function(f) => arguments(f).into_iter().chain(spec_parts(f)).any(has_aggregate),
        Expr::Nested(x) | Expr::IsNull(x) | Expr::IsNotNull(x) | Expr::UnaryOp { expr: x, .. } => {
            has_aggregate(x)
        }
        Expr::Cast { expr, .. } | Expr::Floor { expr, .. } | Expr::Ceil { expr, .. } => has_aggregate(expr),
        Expr::BinaryOp { left, right, .. } => has_aggregate(left) || has_aggregate(right),
        Expr::Between { expr, low, high, .. } => [expr, low, high].into_iter().any(|x| has_aggregate(x)),
        Expr::Case { operand, conditions, else_result, .. } => {
            let arms = conditions.iter().flat_map(|CaseWhen { condition, result }| [condition, result]);
            arms.chain(operand.as_deref()).chain(else_result.as_deref()).any(has_aggregate)
        }
        _ => false,
    }
}

fn spec_parts(f: &Function) -> Vec<&Expr> {
    match &f.over {
        Some(WindowType::WindowSpec(spec)) => {
            spec.partition_by.iter().chain(spec.order_by.iter().map(|key| &key.expr)).collect()
        }
        _ => Vec::new(),
    }
}

fn name(f: &Function) -> String {
    f.name.to_string().to_lowercase()
}

fn arguments(f: &Function) -> Vec<&Expr> {
    let FunctionArguments::List(list) = &f.args else { return Vec::new() };
    let of = |arg| match arg {
        &FunctionArg::Unnamed(FunctionArgExpr::Expr(ref x)) => Some(x),
        _ => None,
    };
    list.args.iter().filter_map(of).collect()
}

fn is_distinct(f: &Function) -> bool {
    let FunctionArguments::List(list) = &f.args else { return false };
    list.duplicate_treatment == Some(DuplicateTreatment::Distinct)
}

impl Context<'_> {
    pub fn value(&self, expr: &Expr) -> V {
        if self.group.is_some() && self.left_out.contains(expr) {
            return V::Null;
        }
        let truth = |x: &Expr| self.value(x).truth();
        match expr {
            Expr::Nested(x) => self.value(x),
            Expr::Identifier(name) => self.named(None, name),
            Expr::CompoundIdentifier(parts) => self.named(Some(&parts[0]), &parts[1]),
            Expr::Value(value) => literal(&value.value),
            Expr::TypedString(typed) => {
                V::Date(typed.value.value.clone().into_string().unwrap().parse().unwrap())
            }
            Expr::Interval(interval) => {
                let n: i64 = self.value(&interval.value).text().parse().unwrap();
                match interval.leading_field.as_ref().unwrap() {
                    DateTimeField::Year => V::Interval(12 * n, 0),
                    DateTimeField::Month => V::Interval(n, 0),
                    DateTimeField::Day => V::Interval(0, n),
                    other => panic!("{other}"),
                }
            }
            Expr::UnaryOp { op: UnaryOperator::Not, expr } => V::from_truth(truth(expr).map(|x| !x)),
            Expr::UnaryOp { op: UnaryOperator::Minus, expr } => match self.value(expr) {
                V::Int(v) => V::Int(-v),
                V::Float(v) => V::Float(-v),
                other => other,
            },
            Expr::BinaryOp { left, op, right } => self.operation(left, op, right),
            Expr::IsNull(x) => V::Bool(self.value(x).is_null()),
            Expr::IsNotNull(x) => V::Bool(!self.value(x).is_null()),
            Expr::IsTrue(x) => V::Bool(truth(x) == Some(true)),
            Expr::IsNotTrue(x) => V::Bool(truth(x) != Some(true)),
            Expr::IsFalse(x) => V::Bool(truth(x) == Some(false)),
            Expr::IsNotFalse(x) => V::Bool(truth(x) != Some(false)),
            Expr::IsUnknown(x) => V::Bool(truth(x).is_none()),
            Expr::IsNotUnknown(x) => V::Bool(truth(x).is_some()),
            Expr::IsDistinctFrom(a, b) => V::Bool(!self.value(a).is_same(&self.value(b))),
            Expr::IsNotDistinctFrom(a, b) => V::Bool(self.value(a).is_same(&self.value(b))),
            Expr::Between { expr, negated, low, high } => {
                let x = self.value(expr);
                let at_least = ordered(&x, &self.value(low)).map(|o| o.is_ge());
                let at_most = ordered(&x, &self.value(high)).map(|o| o.is_le());
                turned(and(at_least, at_most), *negated)
            }
            Expr::In { expr, target: InTarget::List(list), negated, .. } => {
                let any = list.iter().map(|one| self.equal(expr, one));
                turned(any.fold(Some(false), or), *negated)
            }
            Expr::In { expr, target: InTarget::Subquery(sub), negated, .. } => {
                let x = self.tuple(expr);
                let any = self.ask(sub).rows.iter().map(|row| equal(&x, row)).fold(Some(false), or);
                turned(any, *negated)
            }
            Expr::Like { negated, expr, pattern, escape_char, .. } => {
                let (x, pattern) = (self.value(expr), self.value(pattern));
                if x.is_null() || pattern.is_null() {
                    return V::Null;
                }
                let chars = |v: &V| v.text().chars().collect::<Vec<char>>();
                let escape = escape_char.as_ref().map(|e| self.value(e).text().chars().next().unwrap());
                V::Bool(like(&chars(&x), &chars(&pattern), escape) != *negated)
            }
            Expr::Exists { subquery, negated } => V::Bool(self.ask(subquery).rows.is_empty() == *negated),
            Expr::Subquery(sub) => {
                let rows = self.ask(sub).rows;
                assert!(rows.len() <= 1, "several rows for one value");
                rows.first().map_or(V::Null, |row| row[0].clone())
            }
            Expr::AnyOp { left, compare_op, right, .. } => self.quantified(left, compare_op, right, true),
            Expr::AllOp { left, compare_op, right } => self.quantified(left, compare_op, right, false),
            Expr::Case { operand, conditions, else_result, .. } => {
                let hit = conditions.iter().find(|arm| match operand {
                    Some(of) => self.equal(of, &arm.condition) == Some(true),
                    None => truth(&arm.condition) == Some(true),
                });
                hit.map(|arm| &arm.result).or(else_result.as_deref()).map_or(V::Null, |x| self.value(x))
            }
            Expr::Cast { expr, data_type, .. } => cast(self.value(expr), data_type),
            Expr::Extract { field, expr, .. } => match self.value(expr) {
                V::Null => V::Null,
                x => V::Int(match field {
                    DateTimeField::Year => i64::from(x.date().year()),
                    DateTimeField::Month => i64::from(x.date().month()),
                    DateTimeField::Day => i64::from(x.date().day()),
                    other => panic!("{other}"),
                }),
            },
            Expr::Floor { expr, .. } => rounded(self.value(expr), f64::floor),
            Expr::Ceil { expr, .. } => rounded(self.value(expr), f64::ceil),
            Expr::Position { expr, r#in } => match (self.value(expr), self.value(r#in)) {
                (V::Null, _) | (_, V::Null) => V::Null,
                (part, x) => {
                    let x = x.text();
                    V::Int(x.find(&part.text()).map_or(0, |at| x[..at].chars().count() as i64 + 1))
                }
            },
            Expr::Substring { expr, substring_from, substring_for, .. } => {
                let (x, from) =
                    (self.value(expr), substring_from.as_ref().map_or(V::Int(1), |f| self.value(f)));
                let count = substring_for.as_ref().map(|f| self.value(f));
                if x.is_null() || from.is_null() || count == Some(V::Null) {
                    return V::Null;
                }
                let end = count.map_or(i64::MAX, |count| from.int() + count.int());
                let kept = x.text();
                let kept = kept.chars().zip(1..).filter(|(_, at)| (from.int()..end).contains(at));
                V::Text(kept.map(|(c, _)| c).collect())
            }
            Expr::Trim { trim_where, trim_what, expr, .. } => {
                let (x, what) =
                    (self.value(expr), trim_what.as_ref().map_or(V::Text(" ".into()), |w| self.value(w)));
                if x.is_null() || what.is_null() {
                    return V::Null;
                }
                let (x, what) = (x.text(), what.text().chars().next().unwrap());
                V::Text(match trim_where {
                    None | Some(TrimWhereField::Both) => x.trim_matches(what).to_owned(),
                    Some(TrimWhereField::Leading) => x.trim_start_matches(what).to_owned(),
                    Some(TrimWhereField::Trailing) => x.trim_end_matches(what).to_owned(),
                })
            }
            Expr::Overlay { expr, overlay_what, overlay_from, overlay_for } => {
                let (x, what, from) = (self.value(expr), self.value(overlay_what), self.value(overlay_from));
                if x.is_null() || what.is_null() {
                    return V::Null;
                }
                let count =
                    overlay_for.as_ref().map_or(what.text().chars().count() as i64, |f| self.value(f).int());
                let (x, from) = (x.text(), from.int());
                let part = |range: std::ops::Range<i64>| -> String {
                    x.chars().zip(1..).filter(|(_, at)| range.contains(at)).map(|(c, _)| c).collect()
                };
                V::Text(part(1..from) + &what.text() + &part(from + count..i64::MAX))
            }
            Expr::Function(f) => self.call(f),
            other => panic!("{other} is beyond the evaluator"),
        }
    }

    fn tuple(&self, expr: &Expr) -> Vec<V> {
        match expr {
            Expr::Tuple(parts) => parts.iter().map(|x| self.value(x)).collect(),
            Expr::Nested(x) => self.tuple(x),
            x => vec![self.value(x)],
        }
    }

    fn equal(&self, a: &Expr, b: &Expr) -> Option<bool> {
        equal(&self.tuple(a), &self.tuple(b))
    }

    fn operation(&self, a: &Expr, op: &BinaryOperator, b: &Expr) -> V {
        let truth = |x: &Expr| self.value(x).truth();
        match op {
            BinaryOperator::And => V::from_truth(and(truth(a), truth(b))),
            BinaryOperator::Or => V::from_truth(or(truth(a), truth(b))),
            BinaryOperator::Eq => V::from_truth(self.equal(a, b)),
            BinaryOperator::NotEq => V::from_truth(self.equal(a, b).map(|x| !x)),
            BinaryOperator::StringConcat => match (self.value(a), self.value(b)) {
                (V::Null, _) | (_, V::Null) => V::Null,
                (a, b) => V::Text(a.text() + &b.text()),
            },
            BinaryOperator::Plus => arithmetic('+', &self.value(a), &self.value(b)),
            BinaryOperator::Minus => arithmetic('-', &self.value(a), &self.value(b)),
            BinaryOperator::Multiply => arithmetic('*', &self.value(a), &self.value(b)),
            BinaryOperator::Divide => arithmetic('/', &self.value(a), &self.value(b)),
            op => V::from_truth(compare(&self.value(a), op, &self.value(b))),
        }
    }

    fn quantified(&self, x: &Expr, op: &BinaryOperator, right: &Expr, any: bool) -> V {
        let Expr::Subquery(sub) = right else { panic!("{right}") };
        let x = self.value(x);
        let rows = self.ask(sub).rows;
        let each = rows.iter().map(|row| compare(&x, op, &row[0]));
        V::from_truth(if any { each.fold(Some(false), or) } else { each.fold(Some(true), and) })
    }

    fn call(&self, f: &Function) -> V {
        let name = name(f);
        if let Some(over) = &f.over {
            return self.window(&name, f, over);
        }
        if name == "grouping" {
            return V::Int(i64::from(self.left_out.contains(arguments(f)[0])));
        }
        if AGGREGATES.contains(&name.as_str()) {
            let rows = self.group.expect("a group");
            let contexts: Vec<Context<'_>> = rows
                .iter()
                .map(|row| Context { row, group: None, left_out: &[], windows: None, ..*self })
                .collect();
            return aggregate(&name, f, &contexts.iter().collect::<Vec<_>>());
        }
        let args: Vec<V> = arguments(f).into_iter().map(|x| self.value(x)).collect();
        scalar(&name, &args)
    }

    fn window(&self, name: &str, f: &Function, over: &WindowType) -> V {
        let (all, at, select) = self.windows.expect("windows stand in select and order by");
        let mut spec = match over {
            WindowType::WindowSpec(spec) => spec.clone(),
            WindowType::NamedWindow(name) => named_window(select, &name.value),
        };
        if let Some(base) = spec.window_name.take() {
            let base = named_window(select, &base.value);
            spec.partition_by = base.partition_by;
            if spec.order_by.is_empty() {
                spec.order_by = base.order_by;
            }
        }
        let context = |i: usize| {
            let Grouped { row, group, left_out } = &all[i];
            Context { row, group: group.as_deref(), left_out, windows: None, ..*self }
        };
        let parts = |i: usize| spec.partition_by.iter().map(|x| context(i).value(x)).collect::<Vec<_>>();
        let order =
            |i: usize| spec.order_by.iter().map(|key| context(i).value(&key.expr)).collect::<Vec<_>>();
        let mut members: Vec<usize> = (0..all.len()).filter(|i| is_same(&parts(*i), &parts(at))).collect();
        members.sort_by(|a, b| compared(&order(*a), &order(*b), &spec.order_by));
        let place = members.iter().position(|i| *i == at).unwrap();
        let is_peer = |a: usize, b: usize| is_same(&order(members[a]), &order(members[b]));
        let first_peer = (0..=place).find(|i| is_peer(*i, place)).unwrap();
        let args = arguments(f);
        let arg = |i: usize, member: usize| context(members[member]).value(args[i]);
        match name {
            "row_number" => V::Int(place as i64 + 1),
            "rank" => V::Int(first_peer as i64 + 1),
            "dense_rank" => V::Int(1 + (1..=first_peer).filter(|i| !is_peer(*i, *i - 1)).count() as i64),
            "lag" | "lead" => {
                let n = args.get(1).map_or(1, |n| self.value(n).int());
                let to = place as i64 + if name == "lag" { -n } else { n };
                match usize::try_from(to).ok().filter(|to| *to < members.len()) {
                    Some(to) => arg(0, to),
                    None => args.get(2).map_or(V::Null, |x| self.value(x)),
                }
            }
            "ntile" => {
                let (n, rows) = (self.value(args[0]).int() as usize, members.len());
                let (size, more) = (rows / n, rows % n);
                let large = more * (size + 1);
                V::Int(
                    if place < large { place / (size + 1) } else { more + (place - large) / size.max(1) }
                        as i64
                        + 1,
                )
            }
            _ => {
                let frame = self.frame(&spec, place, &members, &order);
                match name {
                    "first_value" => frame.first().map_or(V::Null, |i| arg(0, *i)),
                    "last_value" => frame.last().map_or(V::Null, |i| arg(0, *i)),
                    "nth_value" => {
                        frame.get(self.value(args[1]).int() as usize - 1).map_or(V::Null, |i| arg(0, *i))
                    }
                    _ => {
                        let contexts: Vec<Context<'_>> = frame.iter().map(|i| context(members[*i])).collect();
                        aggregate(name, f, &contexts.iter().collect::<Vec<_>>())
                    }
                }
            }
        }
    }

    /// The places in the partition that a row's frame holds.
    fn frame(
        &self,
        spec: &WindowSpec,
        place: usize,
        members: &[usize],
        order: &dyn Fn(usize) -> Vec<V>,
    ) -> Vec<usize> {
        let so_far = WindowFrame {
            units: WindowFrameUnits::Range,
            start_bound: WindowFrameBound::Preceding(None),
            end_bound: Some(WindowFrameBound::CurrentRow),
        };
        let frame = match &spec.window_frame {
            Some(frame) => frame,
            None if spec.order_by.is_empty() => return (0..members.len()).collect(),
            None => &so_far,
        };
        let end = frame.end_bound.clone().unwrap_or(WindowFrameBound::CurrentRow);
        let key = |i: usize| order(members[i]);
        let group = |i: usize| (1..=i).filter(|j| !is_same(&key(*j), &key(*j - 1))).count() as i64;
        let descends =
            spec.order_by.first().is_some_and(|key| matches!(key.options.sort, Some(OrderBySort::Desc)));
        // How far a row is behind the current one, in the unit of the frame; none where that cannot be said.
        let distance = |i: usize| -> Option<i64> {
            match frame.units {
                WindowFrameUnits::Rows => Some(i as i64 - place as i64),
                WindowFrameUnits::Groups => Some(group(i) - group(place)),
                WindowFrameUnits::Range => match (&key(i)[0], &key(place)[0]) {
                    (V::Null, V::Null) => Some(0),
                    (V::Null, _) | (_, V::Null) => None,
                    (V::Date(a), V::Date(b)) => Some(i64::from(a.since(*b).unwrap().get_days())),
                    (a, b) => Some(a.int() - b.int()),
                }
                .map(|far| if descends { -far } else { far }),
            }
        };
        let is_peer = |i: usize| is_same(&key(i), &key(place));
        let by = |x: &Expr| match self.value(x) {
            V::Interval(0, days) => days,
            other => other.int(),
        };
        let current = |i: usize, side: fn(usize, usize) -> bool| match frame.units {
            WindowFrameUnits::Rows => side(i, place) || i == place,
            _ => side(i, place) || is_peer(i),
        };
        let starts = |i: usize| match &frame.start_bound {
            WindowFrameBound::Preceding(None) => true,
            WindowFrameBound::CurrentRow => current(i, |i, place| i > place),
            WindowFrameBound::Preceding(Some(x)) => distance(i).is_some_and(|far| far >= -by(x)),
            WindowFrameBound::Following(Some(x)) => distance(i).is_some_and(|far| far >= by(x)),
            WindowFrameBound::Following(None) => false,
        };
        let ends = |i: usize| match &end {
            WindowFrameBound::Following(None) => true,
            WindowFrameBound::CurrentRow => current(i, |i, place| i < place),
            WindowFrameBound::Preceding(Some(x)) => distance(i).is_some_and(|far| far <= -by(x)),
            WindowFrameBound::Following(Some(x)) => distance(i).is_some_and(|far| far <= by(x)),
            WindowFrameBound::Preceding(None) => false,
        };
        (0..members.len()).filter(|i| starts(*i) && ends(*i)).collect()
    }
}

fn named_window(select: &sqlparser::ast::Select, name: &str) -> WindowSpec {
    let found = select.named_window.iter().find(|window| window.0.value == name).expect("a window");
    match &found.1 {
        NamedWindowExpr::WindowSpec(spec) => spec.clone(),
        NamedWindowExpr::NamedWindow(other) => named_window(select, &other.value),
    }
}

fn turned(truth: Option<bool>, negated: bool) -> V {
    V::from_truth(truth.map(|x| x != negated))
}

fn ordered(a: &V, b: &V) -> Option<std::cmp::Ordering> {
    (!a.is_null() && !b.is_null()).then(|| a.order(b))
}

fn equal(a: &[V], b: &[V]) -> Option<bool> {
    a.iter().zip(b).map(|(a, b)| ordered(a, b).map(|o| o.is_eq())).fold(Some(true), and)
}

fn compare(a: &V, op: &BinaryOperator, b: &V) -> Option<bool> {
    let order = ordered(a, b)?;
    Some(match op {
        BinaryOperator::Eq => order.is_eq(),
        BinaryOperator::NotEq => order.is_ne(),
        BinaryOperator::Lt => order.is_lt(),
        BinaryOperator::LtEq => order.is_le(),
        BinaryOperator::Gt => order.is_gt(),
        BinaryOperator::GtEq => order.is_ge(),
        other => panic!("{other}"),
    })
}

fn literal(value: &Value) -> V {
    match value {
        Value::Number(text, _) => text.parse().map_or_else(|_| V::Float(text.parse().unwrap()), V::Int),
        Value::SingleQuotedString(text) => V::Text(text.clone()),
        Value::Boolean(value) => V::Bool(*value),
        Value::Null => V::Null,
        other => panic!("{other}"),
    }
}

fn rounded(x: V, round: fn(f64) -> f64) -> V {
    match x {
        V::Float(x) => V::Float(round(x)),
        other => other,
    }
}

fn cast(x: V, to: &DataType) -> V {
    match (x, to) {
        (V::Null, _) => V::Null,
        (x, DataType::Int(_) | DataType::Integer(_) | DataType::BigInt(_)) => match x {
            V::Text(text) => V::Int(text.parse().unwrap()),
            x => V::Int(x.int()),
        },
        (x, DataType::Double(_) | DataType::DoublePrecision | DataType::Real) => match x {
            V::Text(text) => V::Float(text.parse().unwrap()),
            x => V::Float(x.number()),
        },
        (x, DataType::Varchar(length)) => {
            let text = match x {
                V::Int(x) => x.to_string(),
                V::Date(x) => x.to_string(),
                x => x.text(),
            };
            match length {
                Some(length) => V::Text(text.chars().take(length.to_string().parse().unwrap()).collect()),
                None => V::Text(text),
            }
        }
        (x, DataType::Date) => V::Date(x.date()),
        (x, to) => panic!("{x:?} as {to}"),
    }
}

fn scalar(name: &str, args: &[V]) -> V {
    match name {
        "coalesce" => return args.iter().find(|v| !v.is_null()).cloned().unwrap_or(V::Null),
        "nullif" => {
            return if ordered(&args[0], &args[1]).is_some_and(|o| o.is_eq()) {
                V::Null
            } else {
                args[0].clone()
            };
        }
        _ => {}
    }
    if args.iter().any(V::is_null) {
        return V::Null;
    }
    match name {
        "upper" => V::Text(args[0].text().to_uppercase()),
        "lower" => V::Text(args[0].text().to_lowercase()),
        "char_length" | "character_length" | "length" => V::Int(args[0].text().chars().count() as i64),
        "abs" => match &args[0] {
            V::Int(x) => V::Int(x.abs()),
            x => V::Float(x.number().abs()),
        },
        "mod" if args[1].int() == 0 => V::Null,
        "mod" => V::Int(args[0].int() % args[1].int()),
        "sqrt" => V::Float(args[0].number().sqrt()),
        "power" => V::Float(args[0].number().powf(args[1].number())),
        "greatest" => args.iter().max_by(|a, b| a.order(b)).unwrap().clone(),
        "least" => args.iter().min_by(|a, b| a.order(b)).unwrap().clone(),
        "ceiling" => rounded(args[0].clone(), f64::ceil),
        other => panic!("{other} is beyond the evaluator"),
    }
}

/// An aggregate over rows.
fn aggregate(name: &str, f: &Function, rows: &[&Context<'_>]) -> V {
    let kept: Vec<&&Context<'_>> = rows
        .iter()
        .filter(|row| f.filter.as_ref().is_none_or(|only| row.value(only).truth() == Some(true)))
        .collect();
    let args = arguments(f);
    let Some(arg) = f.within_group.first().map(|key| &key.expr).or(args.first().copied()) else {
        return V::Int(kept.len() as i64);
    };
    let mut values: Vec<V> = kept.iter().map(|row| row.value(arg)).filter(|v| !v.is_null()).collect();
    if is_distinct(f) {
        let mut once: Vec<V> = Vec::new();
        for value in values {
            if !once.iter().any(|other| other.is_same(&value)) {
                once.push(value);
            }
        }
        values = once;
    }
    let n = values.len() as f64;
    let total = || values.iter().map(V::number).sum::<f64>();
    let squares = || values.iter().map(|v| (v.number() - total() / n).powi(2)).sum::<f64>();
    match name {
        "count" => return V::Int(values.len() as i64),
        _ if values.is_empty() => return V::Null,
        _ => {}
    }
    match name {
        "sum" if values.iter().all(|v| matches!(v, V::Int(_))) => V::Int(values.iter().map(V::int).sum()),
        "sum" => V::Float(total()),
        "avg" => V::Float(total() / n),
        "min" => values.iter().min_by(|a, b| a.order(b)).unwrap().clone(),
        "max" => values.iter().max_by(|a, b| a.order(b)).unwrap().clone(),
        "every" => V::Bool(values.iter().all(|v| *v == V::Bool(true))),
        "any_value" => values[0].clone(),
        "var_samp" | "stddev_samp" if n < 2.0 => V::Null,
        "var_samp" => V::Float(squares() / (n - 1.0)),
        "stddev_samp" => V::Float((squares() / (n - 1.0)).sqrt()),
        "var_pop" => V::Float(squares() / n),
        "stddev_pop" => V::Float((squares() / n).sqrt()),
        "percentile_cont" => {
            let share = rows.first().map_or(0.0, |row| row.value(args[0]).number());
            let descends = matches!(f.within_group[0].options.sort, Some(OrderBySort::Desc));
            let share = if descends { 1.0 - share } else { share };
            values.sort_by(V::order);
            let at = share * (n - 1.0);
            let (low, high) = (values[at.floor() as usize].number(), values[at.ceil() as usize].number());
            V::Float(low + (high - low) * (at - at.floor()))
        }
        other => panic!("{other}"),
    }
}
