//! Every kind of join, by every form of keys, against a nested loop.

use churn::{Flow, Join, JoinKind, Scalar};
use proptest::prelude::*;
use rstest::rstest;

use crate::columns::{SETTINGS, Setting, Values, flow, options, rows};

/// The rows of one side: a key of some type as a small number, a second key, a number to compare.
#[derive(Clone, Debug)]
struct Side {
    key: Vec<Option<u8>>,
    second: Vec<Option<i64>>,
    number: Vec<Option<i64>>,
}

impl Side {
    fn len(&self) -> usize {
        self.key.len()
    }

    /// The columns, called by their names with a letter in front, and the rows' numbers.
    fn flow(&self, letter: &str, kind: &str) -> Flow {
        let number = (0..self.len() as i64).map(Some).collect();
        let [row, low, high] = ["row", "low", "high"].map(|name| format!("{letter}_{name}"));
        let high_values = self.number.iter().map(|n| n.map(|n| n + 3)).collect();
        flow(&[
            ("k", keyed(kind, &self.key)),
            ("m", Values::Int(self.second.clone())),
            (&row, Values::Int(number)),
            (&low, Values::Int(self.number.clone())),
            (&high, Values::Int(high_values)),
        ])
    }
}

/// Keys as values of a type; equal keys are equal values.
fn keyed(kind: &str, keys: &[Option<u8>]) -> Values {
    let text = |key: u8| match key {
        0 => String::new(),
        1 => "F1".into(),
        _ => format!("a key that is too long to stand beside its length, {key}"),
    };
    match kind {
        "int" => Values::Int(keys.iter().map(|k| k.map(|k| i64::from(k) * 1_000_000_007)).collect()),
        "float" => Values::Float(
            keys.iter().map(|k| k.map(|k| if k == 0 { f64::NAN } else { f64::from(k) / 2.0 })).collect(),
        ),
        "text" => Values::Text(keys.iter().map(|k| k.map(text)).collect()),
        "date" => Values::Date(keys.iter().map(|k| k.map(i32::from)).collect()),
        _ => Values::Bool(keys.iter().map(|k| k.map(|k| k % 2 == 0)).collect()),
    }
}

fn side(rows: usize) -> impl Strategy<Value = Side> {
    (0..=rows).prop_flat_map(|rows| {
        let keys = prop::collection::vec(prop::option::weighted(0.9, 0..4u8), rows);
        let second = prop::collection::vec(prop::option::weighted(0.9, 0..2i64), rows);
        let number = prop::collection::vec(prop::option::weighted(0.9, -5..5i64), rows);
        (keys, second, number).prop_map(|(key, second, number)| Side { key, second, number })
    })
}

/// Whether two rows match; `kind` tells which keys are the same value.
fn matches(form: &str, kind: &str, left: &Side, right: &Side, (l, r): (usize, usize)) -> bool {
    let as_key = |key: Option<u8>| key.map(|k| if kind == "bool" { k % 2 } else { k });
    let equal = as_key(left.key[l]).is_some() && as_key(left.key[l]) == as_key(right.key[r]);
    let second = left.second[l].is_some() && left.second[l] == right.second[r];
    let compared = |holds: fn(i64, i64) -> bool| match (left.number[l], right.number[r]) {
        (Some(x), Some(low)) => holds(x, low),
        _ => false,
    };
    match form {
        "k" => equal,
        "k, m" => equal && second,
        "k, l_low >= r_low" => equal && compared(|x, low| x >= low),
        "m, l_low < r_low" => second && compared(|x, low| x < low),
        "l_low between r_low and r_high" => compared(|x, low| (low..=low + 3).contains(&x)),
        _ => compared(|x, low| x > low),
    }
}

/// The numbers of the rows that a join gives, by a nested loop.
fn nested(
    kind: JoinKind,
    left: usize,
    right: usize,
    matches: impl Fn(usize, usize) -> bool,
) -> Vec<[Option<i64>; 2]> {
    let number = |row: usize| Some(row as i64);
    let mut found = Vec::new();
    let mut is_met = vec![false; right];
    for l in 0..left {
        let partners: Vec<usize> = (0..right).filter(|r| matches(l, *r)).collect();
        partners.iter().for_each(|r| is_met[*r] = true);
        match kind {
            JoinKind::Semi if !partners.is_empty() => found.push([number(l), None]),
            JoinKind::Anti if partners.is_empty() => found.push([number(l), None]),
            JoinKind::Semi | JoinKind::Anti => {}
            JoinKind::Left | JoinKind::Full if partners.is_empty() => found.push([number(l), None]),
            _ => found.extend(partners.into_iter().map(|r| [number(l), number(r)])),
        }
    }
    if matches!(kind, JoinKind::Right | JoinKind::Full) {
        found.extend((0..right).filter(|r| !is_met[*r]).map(|r| [None, number(r)]));
    }
    found
}

/// The numbers of the rows that a run gives.
fn pairs(flow: &Flow, kind: JoinKind, setting: Setting) -> Vec<[Option<i64>; 2]> {
    let table = flow.run_with(&options(setting)).unwrap_or_else(|e| panic!("{flow}\n{e}"));
    let column = |name: &str| -> Vec<Option<i64>> {
        let number = |value: Scalar| if let Scalar::Int(number) = value { Some(number) } else { None };
        table.values(name).unwrap().into_iter().map(number).collect()
    };
    let left = column("l_row");
    let right = match kind {
        JoinKind::Semi | JoinKind::Anti => vec![None; left.len()],
        _ => column("o_r_row"),
    };
    left.into_iter().zip(right).map(|(l, r)| [l, r]).collect()
}

const KINDS: [JoinKind; 6] =
    [JoinKind::Inner, JoinKind::Left, JoinKind::Right, JoinKind::Full, JoinKind::Semi, JoinKind::Anti];

#[rstest]
fn every_kind_is_the_nested_loop(
    #[values(
        "k",
        "k, m",
        "k, l_low >= r_low",
        "m, l_low < r_low",
        "l_low between r_low and r_high",
        "l_low > r_low"
    )]
    form: &str,
    #[values("int", "float", "text", "date", "bool")] key: &str,
) {
    let config = ProptestConfig::with_cases(2);
    proptest!(config, |(left in side(25), right in side(18))| {
        for kind in KINDS {
            let mut how = match kind {
                // They add no columns.
                JoinKind::Semi | JoinKind::Anti => Join::of(kind),
                _ => Join::of(kind).prefix("o_"),
            };
            for key in form.split(", ") {
                how = how.on(key);
            }
            let joined = left.flow("l", key).join(&right.flow("r", key), how);
            let expected = nested(kind, left.len(), right.len(), |l, r| matches(form, key, &left, &right, (l, r)));
            for setting in SETTINGS {
                prop_assert_eq!(
                    &pairs(&joined, kind, setting),
                    &expected,
                    "{} by {} of {}, {}: {:?} and {:?}", kind, form, key, setting.0, left, right
                );
            }
        }
    });
}

/// Of the rows that match, the one whose number is nearest; of equally near ones the last.
fn nearest(form: &str, left: &Side, right: &Side, l: usize) -> Option<usize> {
    let (by_key, operator) = match form.split_once(", ") {
        Some((_, operator)) => (true, operator),
        None => (false, form),
    };
    let below = operator.contains('>');
    let is_in = |r: usize| {
        let (Some(x), Some(low)) = (left.number[l], right.number[r]) else { return false };
        let same = left.key[l].is_some() && left.key[l] == right.key[r];
        let holds = match operator {
            "l_low >= r_low" => x >= low,
            "l_low > r_low" => x > low,
            "l_low <= r_low" => x <= low,
            _ => x < low,
        };
        holds && (same || !by_key)
    };
    let distance = |r: usize| right.number[r].map_or(0, |low| if below { low } else { -low });
    (0..right.len()).filter(|r| is_in(*r)).max_by_key(|r| (distance(*r), *r))
}

#[rstest]
fn an_asof_join_takes_the_nearest(
    #[values(
        "l_low >= r_low",
        "l_low > r_low",
        "l_low <= r_low",
        "l_low < r_low",
        "k, l_low >= r_low",
        "k, l_low < r_low"
    )]
    form: &str,
    #[values(JoinKind::Inner, JoinKind::Left)] kind: JoinKind,
) {
    let config = ProptestConfig::with_cases(5);
    proptest!(config, |(left in side(25), right in side(18))| {
        let mut how = Join::of(kind).asof().prefix("o_");
        for key in form.split(", ") {
            how = how.on(key);
        }
        let joined = left.flow("l", "int").join(&right.flow("r", "int"), how);
        let expected: Vec<[Option<i64>; 2]> = (0..left.len())
            .map(|l| [Some(l as i64), nearest(form, &left, &right, l).map(|r| r as i64)])
            .filter(|[_, r]| kind == JoinKind::Left || r.is_some())
            .collect();
        for setting in SETTINGS {
            prop_assert_eq!(
                &pairs(&joined, kind, setting), &expected,
                "asof {} by {}, {}: {:?} and {:?}", kind, form, setting.0, left, right
            );
        }
    });
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn a_cross_join_is_every_pair(left in side(12), right in side(9)) {
        let joined = left.flow("l", "int").join(&right.flow("r", "int"), Join::cross().prefix("o_"));
        let expected = nested(JoinKind::Inner, left.len(), right.len(), |_, _| true);
        for setting in SETTINGS {
            prop_assert_eq!(&pairs(&joined, JoinKind::Cross, setting), &expected);
        }
    }

    #[test]
    fn the_ledger_counts_the_pairs(left in side(25), right in side(18)) {
        let joined = left.flow("l", "text").join(&right.flow("r", "text"), Join::full().on("k").prefix("o_"));
        let is_match = |l, r| matches("k", "text", &left, &right, (l, r));
        let partners = |l: usize| (0..right.len()).filter(|r| is_match(l, *r)).count();
        let unmet = (0..right.len()).filter(|r| !(0..left.len()).any(|l| is_match(l, *r))).count();
        let table = joined.run().unwrap();
        let total = |event| table.ledger().total(event) as usize;
        prop_assert_eq!(total(churn::Event::MatchedNone), (0..left.len()).filter(|l| partners(*l) == 0).count());
        prop_assert_eq!(total(churn::Event::MatchedSeveral), (0..left.len()).filter(|l| partners(*l) > 1).count());
        prop_assert_eq!(total(churn::Event::OtherMatchedNone), unmet);
        prop_assert_eq!(rows(&table).len(), nested(JoinKind::Full, left.len(), right.len(), is_match).len());
    }

    #[test]
    fn one_match_is_expected(left in side(12), right in side(9)) {
        let joined = left.flow("l", "date").join(&right.flow("r", "date"), Join::left().on("k").prefix("o_").expect_one());
        let partners = |l: usize| (0..right.len()).filter(|r| matches("k", "date", &left, &right, (l, *r))).count();
        let wrong = (0..left.len()).any(|l| partners(l) > 1);
        for setting in SETTINGS {
            let run = joined.run_with(&options(setting));
            prop_assert_eq!(run.is_err(), wrong, "{:?} {:?}", left, right);
            if let Err(error) = run {
                prop_assert!(error.to_string().contains("and one is expected."), "{}", error);
            }
        }
    }
}
