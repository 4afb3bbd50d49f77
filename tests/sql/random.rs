//! Queries drawn by a grammar, from a seed.

use crate::tables;

/// Numbers that depend on a seed alone.
pub struct Random(u64);

impl Random {
    pub fn new(seed: u64) -> Random {
        Random(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33
    }

    pub fn below(&mut self, n: usize) -> usize {
        (self.next() % n as u64) as usize
    }

    fn chance(&mut self, one_in: usize) -> bool {
        self.below(one_in) == 0
    }

    fn of<'t>(&mut self, all: &[&'t str]) -> &'t str {
        all[self.below(all.len())]
    }
}

/// The columns in reach: their names as they are written, by type.
#[derive(Clone, Default)]
struct Scope {
    numbers: Vec<String>,
    texts: Vec<String>,
    dates: Vec<String>,
}

impl Scope {
    fn of(table: &str, alias: &str) -> Scope {
        let data = tables::data(table).unwrap();
        let mut scope = Scope::default();
        for name in data.names {
            let written = format!("{alias}.{name}");
            match name.as_str() {
                "id" | "litres" | "cells" | "herd" | "pence" => scope.numbers.push(written),
                "day" | "since" | "joined" => scope.dates.push(written),
                _ => scope.texts.push(written),
            }
        }
        scope
    }

    fn with(mut self, other: Scope) -> Scope {
        self.numbers.extend(other.numbers);
        self.texts.extend(other.texts);
        self.dates.extend(other.dates);
        self
    }
}

const TABLES: [&str; 3] = ["milk", "farms", "prices"];

fn pick(random: &mut Random, all: &[String]) -> String {
    all[random.below(all.len())].clone()
}

fn number(random: &mut Random, scope: &Scope, deep: usize) -> String {
    match random.below(if deep == 0 { 2 } else { 7 }) {
        0 => random.of(&["0", "1", "2", "40", "80.25", "200"]).to_owned(),
        1 | 2 => pick(random, &scope.numbers),
        3 => {
            let op = random.of(&["+", "-", "*"]);
            format!("({} {op} {})", number(random, scope, deep - 1), number(random, scope, deep - 1))
        }
        4 => format!("coalesce({}, {})", number(random, scope, deep - 1), number(random, scope, deep - 1)),
        5 => format!(
            "case when {} then {} end",
            condition(random, scope, deep - 1),
            number(random, scope, deep - 1)
        ),
        _ => format!("char_length({})", pick(random, &scope.texts)),
    }
}

fn condition(random: &mut Random, scope: &Scope, deep: usize) -> String {
    let not = if random.chance(2) { "not " } else { "" };
    let op = random.of(&["=", "<>", "<", "<=", ">", ">="]);
    match random.below(if deep == 0 { 4 } else { 10 }) {
        0 => format!("{} {op} {}", number(random, scope, 0), number(random, scope, 0)),
        1 => format!("{} is {not}null", pick(random, &scope.texts)),
        2 => format!("{} {not}in ('A', 'F1', 'Vale')", pick(random, &scope.texts)),
        3 => format!("{} {op} date '2026-01-03'", pick(random, &scope.dates)),
        4 => format!("({} and {})", condition(random, scope, deep - 1), condition(random, scope, deep - 1)),
        5 => format!("({} or {})", condition(random, scope, deep - 1), condition(random, scope, deep - 1)),
        6 => format!("not {}", condition(random, scope, deep - 1)),
        7 => format!(
            "{} {not}between 1 and {}",
            number(random, scope, deep - 1),
            number(random, scope, deep - 1)
        ),
        8 => format!("{} {not}like '{}'", pick(random, &scope.texts), random.of(&["F%", "%a%", "_1", "%"])),
        _ => sub_condition(random, scope),
    }
}

fn sub_condition(random: &mut Random, scope: &Scope) -> String {
    let not = if random.chance(2) { "not " } else { "" };
    let table = random.of(&TABLES);
    let inner = Scope::of(table, "s");
    let filter =
        if random.chance(2) { String::new() } else { format!(" where {}", condition(random, &inner, 0)) };
    let also = filter.replace(" where ", " and ");
    let (own, outer) = (pick(random, &inner.texts), pick(random, &scope.texts));
    let (value, x) = (pick(random, &inner.numbers), pick(random, &scope.numbers));
    match random.below(8) {
        0 => format!("{outer} {not}in (select {own} from {table} s{filter})"),
        1 => format!("{not}exists (select * from {table} s where {own} = {outer}{also})"),
        2 => format!("{not}exists (select * from {table} s{filter})"),
        3 => format!("{x} {not}in (select {value} from {table} s where {own} = {outer}{also})"),
        4 => format!("{x} > (select {}({value}) from {table} s{filter})", random.of(&["min", "max", "avg"])),
        5 => format!(
            "{x} <= (select {}({value}) from {table} s where {own} = {outer}{also})",
            random.of(&["count", "sum"])
        ),
        6 => format!("{x} {} any (select {value} from {table} s{filter})", random.of(&["<", ">", "=", "<>"])),
        _ => format!("{x} {} all (select {value} from {table} s{filter})", random.of(&["<", ">", "=", "<>"])),
    }
}

fn aggregate(random: &mut Random, scope: &Scope) -> String {
    let filter = if random.chance(4) {
        format!(" filter (where {})", condition(random, scope, 0))
    } else {
        String::new()
    };
    match random.below(5) {
        0 => format!("count(*){filter}"),
        1 => format!("count(distinct {}){filter}", pick(random, &scope.texts)),
        _ => format!(
            "{}({}){filter}",
            random.of(&["sum", "avg", "min", "max", "count"]),
            number(random, scope, 1)
        ),
    }
}

fn window(random: &mut Random, scope: &Scope) -> String {
    let by = if random.chance(2) {
        String::new()
    } else {
        format!("partition by {} ", pick(random, &scope.texts))
    };
    let key = pick(random, &scope.numbers);
    let direction = random.of(&["", " desc", " nulls first", " desc nulls first"]);
    match random.below(4) {
        // The order is not a whole one: only what is equal for rows that are equal in it.
        0 => format!("{}() over ({by}order by {key}{direction})", random.of(&["rank", "dense_rank"])),
        1 => format!("{} over ({by}order by {key}{direction})", aggregate(random, scope)),
        2 => format!(
            "{} over ({by}order by {key}{direction} groups between 1 preceding and 1 following)",
            aggregate(random, scope)
        ),
        _ => format!("{} over ({})", aggregate(random, scope), by.trim_end()),
    }
}

fn from(random: &mut Random) -> (String, Scope) {
    let first = random.of(&TABLES);
    let scope = Scope::of(first, "a");
    if random.chance(2) {
        return (format!("{first} a"), scope);
    }
    let second = random.of(&TABLES);
    let other = Scope::of(second, "b");
    let kind = random.of(&["join", "left join", "right join", "full join"]);
    let (key, own) = (pick(random, &scope.texts), pick(random, &other.texts));
    let both = scope.with(other);
    let more = if random.chance(2) { format!(" and {}", condition(random, &both, 0)) } else { String::new() };
    (format!("{first} a {kind} {second} b on {key} = {own}{more}"), both)
}

/// A query without an order.
fn select(random: &mut Random) -> String {
    let (from, scope) = from(random);
    let filter =
        if random.chance(2) { String::new() } else { format!(" where {}", condition(random, &scope, 2)) };
    if random.chance(3) {
        let keys: Vec<String> = (0..=random.below(2)).map(|_| pick(random, &scope.texts)).collect();
        let mut once = keys.clone();
        once.dedup();
        let items: Vec<String> = once.iter().enumerate().map(|(i, key)| format!("{key} as k{i}")).collect();
        let sums: Vec<String> =
            (0..=random.below(2)).map(|i| format!("{} as s{i}", aggregate(random, &scope))).collect();
        let group = match random.below(4) {
            0 => format!("rollup ({})", once.join(", ")),
            _ => once.join(", "),
        };
        let having = if random.chance(3) {
            format!(" having {} > 1", aggregate(random, &scope))
        } else {
            String::new()
        };
        return format!(
            "select {}, {} from {from}{filter} group by {group}{having}",
            items.join(", "),
            sums.join(", ")
        );
    }
    let distinct = if random.chance(5) { "distinct " } else { "" };
    let mut items = vec![format!("{} as c0", number(random, &scope, 2))];
    items.push(format!("{} as c1", pick(random, &scope.texts)));
    if random.chance(2) {
        items.push(format!("{} as c2", condition(random, &scope, 1)));
    }
    if random.chance(3) {
        items.push(format!("{} as c3", window(random, &scope)));
    }
    format!("select {distinct}{} from {from}{filter}", items.join(", "))
}

/// A query of a seed.
pub fn query(seed: u64) -> String {
    let mut random = Random::new(seed);
    if random.chance(5) {
        let op = random.of(&["union", "union all", "intersect", "except", "intersect all", "except all"]);
        let side = |random: &mut Random| {
            let (from, scope) = from(random);
            let filter = if random.chance(2) {
                String::new()
            } else {
                format!(" where {}", condition(random, &scope, 1))
            };
            format!(
                "select {} as x, {} as y from {from}{filter}",
                pick(random, &scope.texts),
                pick(random, &scope.texts)
            )
        };
        return format!("{} {op} {}", side(&mut random), side(&mut random));
    }
    select(&mut random)
}
