//! Random tables, expressions and chains.

use super::aggregates::Agg;
use super::eval::E;
use super::reshape::{Cut, Pivot, Split, Unnest, Unpivot};
use super::steps::Step;
use super::two_tables::{Condition, Join, Other};
use super::value::{Data, Ty, V};
use super::windows::{Call, Edge, Frame, Item, Window};
use crate::densify::{Densify, Series};
use crate::table_values::{How, TableUse};

pub struct Random {
    state: u64,
    /// Whether forms and functions are drawn that came later: seeds that once showed a fault draw what they drew then.
    pub later: bool,
}

impl Random {
    pub fn new(seed: u64) -> Random {
        Random { state: seed, later: false }
    }

    fn next(&mut self) -> u64 {
        self.state = self.state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.state;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn below(&mut self, n: usize) -> usize {
        (self.next() % n as u64) as usize
    }

    fn chance(&mut self, percent: usize) -> bool {
        self.below(100) < percent
    }

    fn pick<T: Clone>(&mut self, of: &[T]) -> T {
        of[self.below(of.len())].clone()
    }
}

/// Whole numbers at both ends, and where floats cannot tell them apart.
const WIDE: [i64; 10] = [
    i64::MIN,
    i64::MIN + 1,
    -(1 << 53) - 1,
    -(1 << 53),
    -1,
    0,
    (1 << 53) + 1,
    1 << 53,
    i64::MAX - 1,
    i64::MAX,
];

/// What is added to a column whose mean is large beside its spread: a moment in microseconds.
const LARGE: i64 = 1_700_000_000_000_000;

/// A type to draw; now and then that of a wide column, where there is one.
fn any_type(r: &mut Random, data: &Data) -> Ty {
    let has_wide = data.columns.iter().any(|(_, ty)| *ty == Ty::Wide);
    if has_wide && r.chance(30) { Ty::Wide } else { r.pick(&TYPES) }
}

/// Makes some columns of a table extreme: numbers far from zero and near each other, numbers at both ends, texts that
/// would lose zeros if they were numbers, and columns without a value.
pub fn make_extreme(r: &mut Random, data: &mut Data) {
    for (place, (_, ty)) in data.columns.iter_mut().enumerate() {
        let how = r.below(3);
        if r.chance(15) {
            data.rows.iter_mut().for_each(|row| row[place] = V::Null);
            continue;
        }
        for row in data.rows.iter_mut().filter(|row| !row[place].is_null()) {
            match (&mut row[place], how) {
                (V::Int(v), 0) => *v += LARGE,
                (V::Int(v), 1) => *v = r.pick(&WIDE),
                (V::Text(v), 0) => *v = r.pick(&["0042", "42", "042", "+7", "7", "-0", "1e5"]).to_owned(),
                (V::Float(v), 0) => *v = if v.is_nan() { *v } else { *v + LARGE as f64 },
                (V::Float(v), 1) => *v = r.pick(&[0.0, -0.0, 5e-324, -5e-324]),
                _ => {}
            }
        }
        if *ty == Ty::Int && how == 1 {
            *ty = Ty::Wide;
        }
    }
}

const TYPES: [Ty; 5] = [Ty::Int, Ty::Float, Ty::Text, Ty::Date, Ty::Bool];

fn value(r: &mut Random, ty: Ty) -> V {
    match ty {
        Ty::Int => {
            V::Int(if r.chance(10) { r.below(2_000_000) as i64 - 1_000_000 } else { r.below(9) as i64 - 3 })
        }
        Ty::Wide => V::Int(r.pick(&WIDE)),
        Ty::Float => V::Float(match r.below(20) {
            0 => f64::NAN,
            1 => -0.0,
            2 => 1e9,
            3 => 1e-9,
            _ => (r.below(4000) as f64 - 1000.0) / 8.0,
        }),
        Ty::Text => V::Text(
            r.pick(&[
                "",
                "a",
                "A",
                "b",
                "ab",
                " x ",
                "12",
                "-7",
                "Höfe",
                "€ 5",
                "a,b",
                "say \"hi\"",
                "two\nlines",
                "a text that is longer than twelve bytes",
                "a text that is longer than twelve bytes too",
            ])
            .to_owned(),
        ),
        Ty::Date => V::Date(18_000 + if r.chance(70) { r.below(5) as i32 } else { r.below(4000) as i32 }),
        Ty::Bool => V::Bool(r.chance(50)),
        Ty::List(_) => panic!("lists are not drawn"),
    }
}

pub fn table(r: &mut Random) -> Data {
    let width = 2 + r.below(5);
    let columns: Vec<(String, Ty)> = (0..width).map(|i| (format!("c{i}"), r.pick(&TYPES))).collect();
    let count = if r.chance(10) { 0 } else { r.below(40) };
    let nulls = r.pick(&[0, 10, 50]);
    let constant = r.chance(10);
    let mut rows: Vec<Vec<V>> = Vec::new();
    for _ in 0..count {
        let row = columns.iter().map(|(_, t)| if r.chance(nulls) { V::Null } else { value(r, *t) }).collect();
        rows.push(if constant && !rows.is_empty() { rows[0].clone() } else { row });
    }
    Data { columns, rows }
}

/// Two more tables: one whose columns have names of their own, and one with some of the first table's.
pub fn others(r: &mut Random, data: &Data) -> Vec<Other> {
    let mut own = table(r);
    own.columns.iter_mut().for_each(|(name, _)| *name = name.replace('c', "u"));
    // Half of the values come from the first table, so that keys meet.
    for (place, (_, ty)) in own.columns.iter().enumerate() {
        if let Some(from) = data.columns.iter().position(|(_, t)| t == ty) {
            for row in own.rows.iter_mut().filter(|_| !data.rows.is_empty()) {
                if r.chance(60) {
                    row[place] = r.pick(&data.rows)[from].clone();
                }
            }
        }
    }
    let mut like = table(r);
    for (i, (_, ty)) in data.columns.iter().enumerate() {
        if let Some(column) = like.columns.get_mut(i) {
            let own = if *ty == Ty::Int && r.chance(30) { Ty::Float } else { *ty };
            column.1 = own;
            like.rows.iter_mut().for_each(|row| row[i] = if r.chance(20) { V::Null } else { value(r, own) });
        }
    }
    vec![Other { name: "u", data: own }, Other { name: "v", data: like }]
}

fn join(r: &mut Random, data: &Data, others: &[Other], number: usize) -> Step {
    let other = r.pick(others);
    let asof = r.chance(15);
    let kind = match asof {
        true => r.pick(&["", "left", "semi", "anti", "right", "full"]),
        false => r.pick(&["", "inner", "left", "left", "right", "full", "semi", "anti", "cross"]),
    };
    let mut on = Vec::new();
    if kind != "cross" {
        let equal = if asof { r.below(2) } else { r.pick(&[0, 1, 1, 1, 2]) };
        let unequal = if asof { 1 } else { r.pick(&[0, 0, 1, 2, 3]) };
        for i in 0..(equal + unequal).max(1) {
            let ty = r.pick(&data.columns).1;
            let ty = if ty.is_list() { Ty::Int } else { ty };
            let theirs = if ty == Ty::Int && r.chance(20) { Ty::Float } else { ty };
            let op = if i < equal || equal + unequal == 0 { "=" } else { r.pick(&["<", "<=", ">", ">="]) };
            let depth = usize::from(r.chance(30));
            let left = expr(r, data, ty, depth);
            let condition = Condition { left, op, other: expr(r, &other.data, theirs, depth), ty: theirs };
            on.push(condition);
        }
    }
    // Numbers of the right side, as bare columns where there are some, so that keys are merged.
    Step::Join(Box::new(Join { asof, kind, other, on, prefix: format!("o{number}_") }))
}

fn window(r: &mut Random, data: &Data, number: usize) -> Step {
    let by = if r.chance(30) { vec![] } else { some_columns(r, data) };
    let key = r.pick(&TYPES);
    let mut order = Vec::new();
    for i in 0..r.pick(&[0, 1, 1, 1, 2]) {
        let ty = if i == 0 { key } else { any_type(r, data) };
        let columns = columns_of(data, ty);
        let by = if columns.is_empty() { expr(r, data, ty, 1) } else { E::Col(r.pick(&columns)) };
        order.push((by, r.chance(40), r.chance(30)));
    }
    let items = (0..1 + r.below(3)).map(|i| item(r, data, &order, key, format!("w{number}_{i}"))).collect();
    Step::Window(Window { by, order, key, items })
}

fn item(r: &mut Random, data: &Data, order: &[(E, bool, bool)], key: Ty, name: String) -> Item {
    let any = any_type(r, data);
    let frame = if r.chance(80) { Some(frame(r, !order.is_empty(), key)) } else { None };
    if r.chance(50) {
        let agg = aggregate(r, data);
        return Item { name, ty: agg.ty, call: Call::Agg(agg), frame };
    }
    let x = expr(r, data, any, 1);
    let ranks = ["rank", "dense_rank", "percent_rank", "cume_dist"];
    let function =
        r.pick(&["row_number", "ntile", "lag", "lead", "first_value", "last_value", "nth_value", "rank"]);
    let function = if function == "rank" { r.pick(&ranks) } else { function };
    let function = if order.is_empty() && ranks.contains(&function) { "row_number" } else { function };
    let (call, ty) = match function {
        "lag" | "lead" => {
            let n = if r.chance(60) { Some(r.below(4) as i64) } else { None };
            let default = if n.is_some() && r.chance(50) { Some(expr(r, data, any, 1)) } else { None };
            (Call::Function(function, Some(x), n, default), any)
        }
        "first_value" | "last_value" => (Call::Function(function, Some(x), None, None), any),
        "nth_value" => (Call::Function(function, Some(x), Some(1 + r.below(4) as i64), None), any),
        "ntile" => (Call::Function(function, None, Some(1 + r.below(5) as i64), None), Ty::Int),
        "percent_rank" | "cume_dist" => (Call::Function(function, None, None, None), Ty::Float),
        _ => (Call::Function(function, None, None, None), Ty::Int),
    };
    let takes_frame = function.ends_with("_value");
    Item { name, ty, call, frame: frame.filter(|_| takes_frame) }
}

fn frame(r: &mut Random, has_order: bool, key: Ty) -> Frame {
    let ends = |r: &mut Random, far: bool| {
        let at = |r: &mut Random| if far { r.below(9) as i64 - 4 } else { 0 };
        let (a, b) = (at(r), at(r));
        let from = if r.chance(25) { Edge::Unbounded } else { Edge::At(a.min(b)) };
        let to = if r.chance(25) { Edge::Unbounded } else { Edge::At(a.max(b)) };
        (from, to)
    };
    let measured = matches!(key, Ty::Int | Ty::Float | Ty::Date);
    match r.below(3) {
        0 if has_order => {
            let (from, to) = ends(r, measured);
            Frame::Range(from, to)
        }
        1 if has_order && key == Ty::Date => Frame::Days(r.chance(50), 1 + r.below(5) as i64),
        _ => {
            let (from, to) = ends(r, true);
            Frame::Rows(from, to)
        }
    }
}

fn unpivot(r: &mut Random, data: &Data, number: usize) -> Step {
    let ty = data.columns[data.place(&some_columns(r, data)[0])].1;
    let alike = |t: Ty| t == ty || (matches!(t, Ty::Int | Ty::Float) && matches!(ty, Ty::Int | Ty::Float));
    let columns: Vec<String> =
        data.columns.iter().filter(|(_, t)| alike(*t)).map(|(n, _)| n.clone()).collect();
    let columns = columns[..1 + r.below(columns.len())].to_vec();
    let (value, name) = (format!("v{number}"), format!("n{number}"));
    Step::Unpivot(Unpivot { value, name, columns, skip_nulls: r.chance(40) })
}

/// A pivot; its columns have names that no later step could write plainly, so it ends the chain.
fn pivot(r: &mut Random, data: &Data, number: usize) -> Step {
    let keys: Vec<String> = [Ty::Int, Ty::Date, Ty::Bool].iter().flat_map(|t| columns_of(data, *t)).collect();
    let key = if keys.is_empty() { return Step::First(5, 0) } else { r.pick(&keys) };
    let by: Vec<String> = some_columns(r, data).into_iter().filter(|n| *n != key).collect();
    if by.is_empty() {
        return Step::First(5, 0);
    }
    let items = (0..1 + r.below(2)).map(|i| (format!("i{number}_{i}"), aggregate(r, data))).collect();
    let ty = data.columns[data.place(&key)].1;
    let values = r.chance(40).then(|| {
        let mut values: Vec<V> = Vec::new();
        for _ in 0..1 + r.below(3) {
            let new = value(r, ty);
            if !values.iter().any(|v| v.same(&new)) {
                values.push(new);
            }
        }
        values
    });
    Step::Pivot(Pivot { key, values, by, items })
}

/// A cut of a text column into as many parts as any of its texts has.
fn split(r: &mut Random, data: &Data, number: usize) -> Step {
    let texts = columns_of(data, Ty::Text);
    let Some(column) = (!texts.is_empty()).then(|| r.pick(&texts)) else { return Step::First(9, 0) };
    let (cut, parts) = if r.chance(50) {
        let separator = r.pick(&[" ", "a", "", ", "]);
        let cut = Cut::At(if separator.is_empty() { "t" } else { separator });
        let place = data.place(&column);
        let most = data.rows.iter().filter_map(|row| cut.parts(&row[place])).map(|parts| parts.len()).max();
        (cut, most.unwrap_or(1) + r.below(2))
    } else {
        let first = 1 + r.below(3);
        let places = if r.chance(50) { vec![first] } else { vec![first, first + 1 + r.below(9)] };
        let parts = places.len() + 1;
        (Cut::After(places), parts)
    };
    let names = (0..parts).map(|i| format!("s{number}_{i}")).collect();
    Step::Split(Split { column, cut, names, keep: r.chance(40) })
}

/// Lists to rows, two at once where they are of one length; without a list, one is made.
fn unnest(r: &mut Random, data: &Data, number: usize) -> Step {
    let lists: Vec<String> =
        data.columns.iter().filter(|(_, t)| t.is_list()).map(|(n, _)| n.clone()).collect();
    if lists.is_empty() {
        let parts = E::Call("parts", vec![expr(r, data, Ty::Text, 1), E::Lit(V::Text(" ".into()))]);
        return Step::Add(vec![(format!("l{number}"), parts, Ty::Text.listed())]);
    }
    let first = r.pick(&lists);
    let length = |row: &Vec<V>, name: &String| match &row[data.place(name)] {
        V::List(items) => items.len(),
        _ => 0,
    };
    let alike = |other: &&String| {
        **other != first && data.rows.iter().all(|row| length(row, other) == length(row, &first))
    };
    let second = lists.iter().find(alike).filter(|_| r.chance(70)).cloned();
    let columns = std::iter::once(first.clone()).chain(second).collect();
    Step::Unnest(Unnest { columns, skip_nulls: r.chance(40) })
}

fn columns_of(data: &Data, ty: Ty) -> Vec<String> {
    data.columns.iter().filter(|(_, t)| *t == ty).map(|(n, _)| n.clone()).collect()
}

/// An expression of a type, at most so deep.
fn expr(r: &mut Random, data: &Data, ty: Ty, depth: usize) -> E {
    let columns = columns_of(data, ty);
    if depth == 0 || ty == Ty::Wide && r.chance(50) || r.chance(25) {
        return if !columns.is_empty() && r.chance(80) {
            E::Col(r.pick(&columns))
        } else {
            E::Lit(literal(r, ty))
        };
    }
    let d = depth - 1;
    let b = |e: E| Box::new(e);
    if r.later
        && r.chance(20)
        && let Some(e) = later_form(r, data, ty, d)
    {
        return e;
    }
    match r.below(8) {
        0 => {
            let arms =
                (0..1 + r.below(2)).map(|_| (expr(r, data, Ty::Bool, d), expr(r, data, ty, d))).collect();
            let last = if r.chance(70) { Some(b(expr(r, data, ty, d))) } else { None };
            return E::Case(arms, last);
        }
        1 => return E::Call("coalesce", vec![expr(r, data, ty, d), expr(r, data, ty, d)]),
        2 => {
            return E::Call(
                "if",
                vec![expr(r, data, Ty::Bool, d), expr(r, data, ty, d), expr(r, data, ty, d)],
            );
        }
        3 if ty != Ty::Bool => {
            let name = r.pick(&["least", "greatest", "nullif"]);
            return E::Call(name, vec![expr(r, data, ty, d), expr(r, data, ty, d)]);
        }
        _ => {}
    }
    match ty {
        Ty::Int => match r.below(9) {
            0 | 1 => E::Op(r.pick(&["+", "-"]), b(expr(r, data, Ty::Int, d)), b(expr(r, data, Ty::Int, d))),
            2 => E::Op("*", b(expr(r, data, Ty::Int, 0)), b(E::Lit(V::Int(r.below(5) as i64)))),
            3 => E::Op(r.pick(&["div", "mod"]), b(expr(r, data, Ty::Int, d)), b(expr(r, data, Ty::Int, 0))),
            4 => E::Call(r.pick(&["abs", "sign"]), vec![expr(r, data, Ty::Int, d)]),
            5 => E::Call("length", vec![expr(r, data, Ty::Text, d)]),
            6 => E::Call(
                r.pick(&["year", "month", "day", "quarter", "weekday"]),
                vec![expr(r, data, Ty::Date, d)],
            ),
            7 => E::Op("-", b(expr(r, data, Ty::Date, 0)), b(expr(r, data, Ty::Date, 0))),
            _ => E::Cast(b(expr(r, data, Ty::Text, 0)), Ty::Int, "try_cast"),
        },
        Ty::Float => match r.below(6) {
            0..=2 => E::Op(
                r.pick(&["+", "-", "*"]),
                b(expr(r, data, Ty::Float, d)),
                b(expr(r, data, Ty::Float, 0)),
            ),
            3 => E::Op("/", b(expr(r, data, Ty::Float, d)), b(expr(r, data, Ty::Int, 0))),
            4 => E::Call(r.pick(&["abs", "sqrt", "floor", "ceil"]), vec![expr(r, data, Ty::Float, d)]),
            _ => E::Cast(b(expr(r, data, Ty::Int, d)), Ty::Float, "cast"),
        },
        Ty::Text => match r.below(6) {
            0 => E::Call(r.pick(&["lower", "upper", "trim"]), vec![expr(r, data, Ty::Text, d)]),
            1 => E::Op("||", b(expr(r, data, Ty::Text, d)), b(expr(r, data, Ty::Text, 0))),
            2 => {
                let (from, n) = (r.below(4) as i64, r.below(6) as i64);
                E::Call(
                    "substring",
                    vec![expr(r, data, Ty::Text, d), E::Lit(V::Int(from)), E::Lit(V::Int(n))],
                )
            }
            3 => {
                let (from, to) = (E::Lit(V::Text("a".into())), E::Lit(V::Text("öö".into())));
                E::Call("replace", vec![expr(r, data, Ty::Text, d), from, to])
            }
            4 => {
                let from = r.pick(&[Ty::Int, Ty::Date]);
                E::Cast(b(expr(r, data, from, d)), Ty::Text, "cast")
            }
            _ => {
                let fill = E::Lit(V::Text("0".into()));
                E::Call("pad_left", vec![expr(r, data, Ty::Text, d), E::Lit(V::Int(5)), fill])
            }
        },
        Ty::Date => {
            if r.chance(50) {
                E::Shift(b(expr(r, data, Ty::Date, d)), r.below(40) as i64 - 20, r.pick(&["day", "month"]))
            } else {
                let unit = r.pick(&["year", "month", "week"]);
                let name = if r.later { r.pick(&["start_of", "end_of"]) } else { "start_of" };
                E::Unit(name, unit, vec![expr(r, data, Ty::Date, d)])
            }
        }
        Ty::Wide => E::Call("coalesce", vec![expr(r, data, ty, 0), expr(r, data, ty, 0)]),
        _ => condition(r, data, d),
    }
}

/// Forms and functions that came later; `None` where there is none of the type.
fn later_form(r: &mut Random, data: &Data, ty: Ty, d: usize) -> Option<E> {
    let b = |e: E| Box::new(e);
    let text = |text: &str| E::Lit(V::Text(text.into()));
    if r.chance(25) && ty != Ty::Wide {
        let of = r.pick(&[Ty::Int, Ty::Text, Ty::Date]);
        let arms = (0..1 + r.below(2)).map(|_| (expr(r, data, of, 0), expr(r, data, ty, d))).collect();
        let last = if r.chance(70) { Some(b(expr(r, data, ty, d))) } else { None };
        return Some(E::CaseOf(b(expr(r, data, of, d)), arms, last));
    }
    Some(match ty {
        Ty::Int => match r.below(5) {
            0 => {
                let of = r.pick(&[Ty::Int, Ty::Text, Ty::Date]);
                E::Call("row_count", (0..1 + r.below(3)).map(|_| expr(r, data, of, d)).collect())
            }
            1 => E::Call("row_sum", (0..1 + r.below(3)).map(|_| expr(r, data, Ty::Int, d)).collect()),
            2 => E::Call("position", vec![expr(r, data, Ty::Text, d), text("a")]),
            3 => E::Call("epoch", vec![expr(r, data, Ty::Date, d), text("day")]),
            _ => {
                let unit = r.pick(&["year", "month", "week"]);
                E::Unit("date_diff", unit, vec![expr(r, data, Ty::Date, 0), expr(r, data, Ty::Date, 0)])
            }
        },
        Ty::Float => {
            let args = (0..1 + r.below(3)).map(|_| expr(r, data, Ty::Float, d)).collect();
            E::Call(r.pick(&["row_sum", "row_mean"]), args)
        }
        Ty::Text => {
            let x = expr(r, data, Ty::Text, d);
            match r.below(6) {
                0 => E::Call(r.pick(&["trim_left", "trim_right"]), vec![x, text(r.pick(&["a", " ö", ""]))]),
                1 => E::Call(r.pick(&["reverse", "title"]), vec![x]),
                2 => E::Call("pad_right", vec![x, E::Lit(V::Int(6)), text("-")]),
                3 => E::Call("repeat_text", vec![x, E::Lit(V::Int(r.below(4) as i64))]),
                4 => E::Call("replace_matches", vec![x, text("[ae]"), text("<$0>")]),
                _ => {
                    let list = E::Call("parts", vec![x, text("a")]);
                    E::Call("element", vec![list, E::Lit(V::Int(r.below(7) as i64 - 3))])
                }
            }
        }
        Ty::Date if r.chance(30) => {
            let by = [(), ()].map(|()| (r.below(40) as i64 - 20, r.pick(&["day", "month"])));
            E::ShiftIf(b(expr(r, data, Ty::Date, d)), b(expr(r, data, Ty::Bool, d)), by)
        }
        Ty::Date if r.chance(50) => {
            E::ShiftBy(b(expr(r, data, Ty::Date, d)), b(expr(r, data, Ty::Int, d)), r.pick(&["day", "month"]))
        }
        Ty::Date => {
            let part = |r: &mut Random, to: usize| E::Lit(V::Int(r.below(to) as i64));
            E::Call("make_date", vec![E::Lit(V::Int(1990 + r.below(60) as i64)), part(r, 14), part(r, 33)])
        }
        Ty::Bool => {
            let pattern = r.pick(&["%a%", "a%", "%1", "_", "%_a%", "", "a!%", "%!_%", "!!%"]);
            E::Like(b(expr(r, data, Ty::Text, d)), pattern, Some('!').filter(|_| pattern.contains('!')))
        }
        Ty::Wide | Ty::List(_) => return None,
    })
}

/// One or two keys, of which one alone is a series.
fn densify(r: &mut Random, data: &Data) -> Step {
    let mut names: Vec<String> =
        data.columns.iter().filter(|(_, ty)| !matches!(ty, Ty::List(_))).map(|(n, _)| n.clone()).collect();
    let ty = |name: &String| data.columns[data.place(name)].1;
    let series = |r: &mut Random, name: &String| match ty(name) {
        Ty::Date => Some(Series::Dates(1 + r.below(200) as i64, r.pick(&["day", "month"]))),
        Ty::Int => {
            let from = r.below(20) as i64 - 10;
            Some(Series::Numbers { step: 1 + r.below(5) as i64, from, to: from + r.below(30) as i64 })
        }
        _ => None,
    };
    let mut keys: Vec<(String, Option<Series>)> = Vec::new();
    for _ in 0..1 + r.below(2) {
        if names.is_empty() {
            break;
        }
        let name = names.remove(r.below(names.len()));
        let series = if r.chance(50) { series(r, &name) } else { None };
        keys.push((name, series));
    }
    if let [(name, None)] = keys.as_slice() {
        let name = name.clone();
        match (series(r, &name), names.is_empty()) {
            (Some(found), _) => keys = vec![(name, Some(found))],
            (None, false) => keys.push((names.remove(0), None)),
            (None, true) => return Step::Distinct(Vec::new()),
        }
    }
    let per =
        if !names.is_empty() && r.chance(50) { vec![names.remove(r.below(names.len()))] } else { Vec::new() };
    Step::Densify(Densify { keys, per })
}

/// Several quantiles of a value at once.
fn quantiles(r: &mut Random, data: &Data, number: usize) -> Step {
    let key = |(i, name): (usize, String)| {
        let ty = data.columns[data.place(&name)].1;
        (format!("k{number}_{i}"), E::Col(name), ty)
    };
    let keys = if r.chance(25) { vec![] } else { some_columns(r, data) };
    let of = r.pick(&[Ty::Int, Ty::Float]);
    let mut shares = vec![(0.0, "p0"), (0.25, "p25"), (0.9, "p90"), (1.0, "p100")];
    shares.retain(|_| r.chance(60));
    // A list has two or more: one in parentheses is that number.
    shares.extend([(0.5, "p50"), (0.125, "p12_5")]);
    let x = expr(r, data, of, 1);
    Step::Quantiles(keys.into_iter().enumerate().map(key).collect(), format!("q{number}"), x, shares)
}

/// A value looked for in a column of another table, or compared with an end of it.
fn table_use(r: &mut Random, data: &Data, others: &[Other], number: usize) -> Step {
    let other = r.pick(others);
    let (column, ty) = r.pick(&other.data.columns);
    let negated = r.chance(30);
    let has_ends = matches!(ty, Ty::Int | Ty::Date | Ty::Text);
    let how = match r.below(3) {
        0 if has_ends => How::Compared(r.pick(&["<", "<=", "=", ">"]), r.pick(&["low", "high"])),
        1 => How::Filter(negated),
        _ => How::Add(format!("m{number}"), negated),
    };
    let ours = if ty == Ty::Float && r.chance(30) { Ty::Int } else { ty };
    Step::TableUse(Box::new(TableUse { x: expr(r, data, ours, 1), how, other, column }))
}

/// A condition for `require`, and columns for `require unique`.
pub fn required(r: &mut Random, data: &Data) -> String {
    if r.chance(50) {
        return format!("require {}", expr(r, data, Ty::Bool, 1));
    }
    format!("require unique by {}", some_columns(r, data).join(", "))
}

fn literal(r: &mut Random, ty: Ty) -> V {
    loop {
        let v = value(r, ty);
        // NaN and line breaks have no literal that reads well.
        if !matches!(&v, V::Float(f) if f.is_nan() || *f < 0.0 || *f == 0.0) {
            return v;
        }
    }
}

fn condition(r: &mut Random, data: &Data, d: usize) -> E {
    let b = |e: E| Box::new(e);
    let ty = any_type(r, data);
    match r.below(9) {
        0..=2 => {
            let op = r.pick(&["=", "<>", "<", "<=", ">", ">="]);
            E::Op(op, b(expr(r, data, ty, d)), b(expr(r, data, ty, d)))
        }
        3 => E::Op(r.pick(&["and", "or"]), b(expr(r, data, Ty::Bool, d)), b(expr(r, data, Ty::Bool, d))),
        4 => E::Not(b(expr(r, data, Ty::Bool, d))),
        5 => E::IsNull(b(expr(r, data, ty, d)), r.chance(50)),
        6 => {
            let items = (0..1 + r.below(3)).map(|_| expr(r, data, ty, 0)).collect();
            E::In(b(expr(r, data, ty, d)), items, r.chance(30))
        }
        7 => E::Between(b(expr(r, data, ty, d)), b(expr(r, data, ty, 0)), b(expr(r, data, ty, 0))),
        _ if ty == Ty::Text => E::Call(
            r.pick(&["starts_with", "contains"]),
            vec![expr(r, data, ty, d), E::Lit(V::Text("a".into()))],
        ),
        _ => E::Distinct(b(expr(r, data, ty, d)), b(expr(r, data, ty, 0))),
    }
}

fn aggregate(r: &mut Random, data: &Data) -> Agg {
    let only = if r.chance(20) { Some(expr(r, data, Ty::Bool, 1)) } else { None };
    let make = |name, args, last, ty| Agg { name, args, last, only: None, ty };
    let any = any_type(r, data);
    let number = r.pick(&[Ty::Int, Ty::Float]);
    let agg = match r.below(16) {
        0 => make("count", vec![], None, Ty::Int),
        1 => make("count", vec![expr(r, data, any, 1)], None, Ty::Int),
        2 => make("count_distinct", vec![expr(r, data, any, 1)], None, Ty::Int),
        3 | 4 => make("sum", vec![expr(r, data, number, 1)], None, number),
        5 => make("mean", vec![expr(r, data, number, 1)], None, Ty::Float),
        6 => make(r.pick(&["min", "max"]), vec![expr(r, data, any, 1)], None, any),
        7 => make(r.pick(&["first", "last", "mode"]), vec![expr(r, data, any, 1)], None, any),
        8 => make("median", vec![expr(r, data, number, 1)], None, Ty::Float),
        9 => make("quantile", vec![expr(r, data, number, 1)], Some(V::Float(0.25)), Ty::Float),
        10 => make(r.pick(&["stddev", "variance"]), vec![expr(r, data, Ty::Int, 1)], None, Ty::Float),
        11 => make(r.pick(&["any", "every"]), vec![expr(r, data, Ty::Bool, 1)], None, Ty::Bool),
        12 => make("listagg", vec![expr(r, data, Ty::Text, 1)], Some(V::Text("; ".into())), Ty::Text),
        13 => make(
            r.pick(&["min_by", "max_by"]),
            vec![expr(r, data, any, 1), expr(r, data, number, 1)],
            None,
            any,
        ),
        14 => make("array_agg", vec![expr(r, data, any, 1)], None, any.listed()),
        _ => make(
            r.pick(&["weighted_mean", "covar"]),
            vec![expr(r, data, Ty::Int, 0), expr(r, data, Ty::Int, 0)],
            None,
            Ty::Float,
        ),
    };
    Agg { only, ..agg }
}

fn some_columns(r: &mut Random, data: &Data) -> Vec<String> {
    let usable: Vec<String> =
        data.columns.iter().filter(|(_, t)| !t.is_list()).map(|(n, _)| n.clone()).collect();
    let mut chosen: Vec<String> = Vec::new();
    for _ in 0..1 + r.below(2) {
        let name = r.pick(&usable);
        if !chosen.contains(&name) {
            chosen.push(name);
        }
    }
    chosen
}

fn step(r: &mut Random, data: &Data, others: &[Other], number: usize) -> Step {
    let ty = any_type(r, data);
    if r.later && r.chance(5) {
        return densify(r, data);
    }
    if r.later && r.chance(4) {
        return quantiles(r, data, number);
    }
    if r.later && r.chance(8) {
        return table_use(r, data, others, number);
    }
    match r.below(30) {
        27 => split(r, data, number),
        28 | 29 => unnest(r, data, number),
        23 => {
            let by = if r.chance(50) { vec![] } else { some_columns(r, data) };
            Step::Carry(some_columns(r, data)[0].clone(), r.chance(50), by)
        }
        24 => unpivot(r, data, number),
        25 | 26 => pivot(r, data, number),
        20..=22 => window(r, data, number),
        16..=18 => join(r, data, others, number),
        19 => Step::Append(others[1].clone()),
        0 | 1 => Step::Filter(expr(r, data, Ty::Bool, 2)),
        2 => {
            let mut agg = aggregate(r, data);
            while agg.ty.is_list() {
                agg = aggregate(r, data);
            }
            let keys = if r.chance(30) { vec![] } else { some_columns(r, data) };
            Step::FilterPer(expr(r, data, agg.ty, 1), r.pick(&["=", "<=", ">"]), agg, keys)
        }
        3 => {
            let mut columns: Vec<(String, E, Ty)> = data
                .columns
                .iter()
                .filter(|_| r.chance(70))
                .map(|(n, t)| (n.clone(), E::Col(n.clone()), *t))
                .collect();
            columns.push((format!("s{number}"), expr(r, data, ty, 2), ty));
            Step::Select(columns)
        }
        4 if data.columns.len() > 2 => Step::Drop(vec![r.pick(&data.columns).0]),
        5 => Step::Rename(vec![(format!("r{number}"), r.pick(&data.columns).0)]),
        6 | 7 => {
            let first = (format!("a{number}"), expr(r, data, ty, 2), ty);
            Step::Add(vec![first])
        }
        8 => {
            let keys = if r.chance(30) { vec![] } else { some_columns(r, data) };
            Step::AddPer(format!("p{number}"), aggregate(r, data), keys)
        }
        9 | 10 => {
            let keys = (0..1 + r.below(2))
                .map(|_| {
                    let ty = any_type(r, data);
                    let columns = columns_of(data, ty);
                    let by = if columns.is_empty() {
                        E::Col(some_columns(r, data)[0].clone())
                    } else {
                        E::Col(r.pick(&columns))
                    };
                    (by, r.chance(50), r.chance(30))
                })
                .collect();
            Step::Sort(keys)
        }
        11 => Step::First(r.below(20), if r.chance(30) { r.below(5) } else { 0 }),
        12 if r.chance(50) => Step::FirstPer(1 + r.below(3), some_columns(r, data)),
        12 => Step::Last(r.below(8), if r.chance(50) { vec![] } else { some_columns(r, data) }),
        13 => {
            let lists = data.columns.iter().any(|(_, t)| t.is_list());
            Step::Distinct(if lists || r.chance(50) { some_columns(r, data) } else { vec![] })
        }
        14 => {
            let total = r.chance(25);
            let keys = if total { vec![] } else { some_columns(r, data) };
            let keys = keys
                .iter()
                .enumerate()
                .map(|(i, n)| (format!("k{number}_{i}"), E::Col(n.clone()), data.columns[data.place(n)].1))
                .collect();
            let aggs = (0..1 + r.below(3)).map(|i| (format!("g{number}_{i}"), aggregate(r, data))).collect();
            Step::Group(keys, aggs)
        }
        _ => {
            let name = some_columns(r, data)[0].clone();
            let ty = data.columns[data.place(&name)].1;
            Step::Fill(name, expr(r, data, ty, 1))
        }
    }
}

pub fn chain(r: &mut Random, data: &Data, others: &[Other]) -> Vec<Step> {
    let mut steps = Vec::new();
    let mut shape = data.clone();
    for number in 0..1 + r.below(5) {
        if shape.columns.iter().all(|(_, t)| t.is_list()) {
            break;
        }
        let next = match steps.last() {
            Some(Step::Sort(_)) if r.chance(30) => Step::FirstPer(1 + r.below(3), some_columns(r, &shape)),
            _ => step(r, &shape, others, number),
        };
        let after = next.apply(&shape);
        if after.rows.len() > 2000 || after.columns.len() > 60 {
            break;
        }
        shape = after;
        let is_last = matches!(next, Step::Pivot(_));
        steps.push(next);
        if is_last {
            break;
        }
    }
    steps
}
