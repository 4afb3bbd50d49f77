//! Laws of steps: what one does, another undoes, repeats or leaves as it is.

use churn::{Flow, Join, Scalar, Table, Window};
use proptest::prelude::*;

use crate::columns::{SETTINGS, Values, flow, options, rows};

/// Rows with keys that repeat, a number of each row, and gaps.
fn table() -> impl Strategy<Value = Flow> {
    (1..50usize).prop_flat_map(|count| {
        let farm = prop::collection::vec(prop::option::weighted(0.9, "F[1-4]"), count);
        let day = prop::collection::vec(prop::option::weighted(0.9, 20_000..20_012i32), count);
        let litres = prop::collection::vec(prop::option::weighted(0.85, -9..40i64), count);
        (farm, day, litres).prop_map(move |(farm, day, litres)| {
            flow(&[
                ("id", Values::Int((0..count as i64).map(Some).collect())),
                ("farm", Values::Text(farm)),
                ("day", Values::Date(day)),
                ("litres", Values::Int(litres)),
            ])
        })
    })
}

fn run(flow: &Flow) -> Table {
    flow.run().unwrap_or_else(|e| panic!("{flow}\n{e}"))
}

/// The rows of a flow, the same in every setting.
fn all(flow: &Flow) -> Vec<Vec<Scalar>> {
    let first = rows(&run(flow));
    for setting in &SETTINGS[1..] {
        assert_eq!(rows(&flow.run_with(&options(*setting)).unwrap()), first, "{}: {flow}", setting.0);
    }
    first
}

fn ints(table: &Table, column: &str) -> Vec<i64> {
    let int = |value: Scalar| if let Scalar::Int(int) = value { int } else { panic!("{value} is no number") };
    table.values(column).unwrap().into_iter().map(int).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    #[test]
    fn a_sort_is_a_permutation(table in table()) {
        let count = run(&table).len() as i64;
        let sorted = table.clone().sort("litres desc nulls first, day");
        let mut ids = ints(&run(&sorted), "id");
        ids.sort_unstable();
        prop_assert_eq!(ids, (0..count).collect::<Vec<_>>());
        // Sorted again, it stays; back by their numbers, rows are as they were.
        prop_assert_eq!(all(&sorted.clone().sort("litres desc nulls first, day")), all(&sorted));
        prop_assert_eq!(all(&sorted.sort("id")), all(&table));
    }

    #[test]
    fn the_first_and_the_rest_are_all(table in table(), count in 0..60usize) {
        let whole = all(&table);
        let first = all(&table.clone().first(count));
        let rest = all(&table.clone().then(&format!("first 100 after {count}")));
        prop_assert_eq!([first, rest].concat(), whole.clone());
        let last = all(&table.clone().last(count));
        prop_assert_eq!(last, whole[whole.len().saturating_sub(count)..].to_vec());
    }

    #[test]
    fn distinct_twice_is_distinct(table in table()) {
        let once = table.clone().distinct("farm, day");
        prop_assert_eq!(all(&once.clone().distinct("farm, day")), all(&once));
        // As many rows as groups, and the first of each.
        let groups = table.clone().group("farm, day", "id = min(id)");
        prop_assert_eq!(ints(&run(&once), "id"), ints(&run(&groups), "id"));
        prop_assert_eq!(all(&once), all(&table.clone().then("first 1 per farm, day")));
    }

    #[test]
    fn a_filter_and_its_opposites_are_all(table in table()) {
        let kept = |condition: &str| ints(&run(&table.clone().filter(condition)), "id");
        let mut ids = [kept("litres > 10"), kept("not (litres > 10)"), kept("(litres > 10) is null")].concat();
        ids.sort_unstable();
        prop_assert_eq!(ids, (0..run(&table).len() as i64).collect::<Vec<_>>());
        let both = table.clone().filter("litres > 10").filter("farm <> 'F2'");
        prop_assert_eq!(all(&both), all(&table.clone().filter("litres > 10 and farm <> 'F2'")));
        prop_assert_eq!(all(&both), all(&table.clone().filter("farm <> 'F2'").filter("litres > 10")));
    }

    #[test]
    fn parts_append_to_the_whole(table in table(), cut in 0..50usize) {
        let head = table.clone().first(cut);
        let rest = table.clone().then(&format!("first 100 after {cut}"));
        prop_assert_eq!(all(&head.append(&rest)), all(&table));
    }

    #[test]
    fn what_is_pasted_is_what_was_cut_off(table in table()) {
        let left = table.clone().select("id, farm");
        let right = table.clone().select("day, litres");
        prop_assert_eq!(all(&left.paste(&right)), all(&table));
    }

    #[test]
    fn groups_of_parts_are_the_groups(table in table()) {
        let whole = table.clone().group("farm", "n = count(), litres = sum(litres), least = min(day), most = max(litres)");
        let parts = table.clone().group("farm, day", "n = count(), litres = sum(litres), least = min(day), most = max(litres)");
        let again = parts.group("farm", "n = sum(n), litres = sum(litres), least = min(least), most = max(most)");
        prop_assert_eq!(all(&again), all(&whole));
        let total = run(&table.clone().total("n = count(), litres = sum(litres)"));
        let of_groups = run(&whole.total("n = sum(n), litres = sum(litres)"));
        prop_assert_eq!(rows(&total), rows(&of_groups));
    }

    #[test]
    fn a_broadcast_is_a_join_with_the_groups(table in table()) {
        let broadcast = table.clone().filter("farm is not null").add("s = sum(litres) per farm, n = count() per farm");
        let groups = table.clone().group("farm", "s = sum(litres), n = count()");
        let joined = table.clone().filter("farm is not null").join(&groups, Join::left().on("farm").expect_all());
        prop_assert_eq!(all(&broadcast), all(&joined));
        let window = table.clone().filter("farm is not null").window(Window::by("farm"), "s = sum(litres), n = count()");
        prop_assert_eq!(all(&window), all(&joined));
    }

    #[test]
    fn semi_and_anti_part_the_rows(table in table()) {
        let some = table.clone().filter("litres > 10").select("farm");
        let kept = ints(&run(&table.clone().join(&some, Join::semi().on("farm"))), "id");
        let left = ints(&run(&table.clone().join(&some, Join::anti().on("farm"))), "id");
        let mut ids = [kept.clone(), left].concat();
        ids.sort_unstable();
        prop_assert_eq!(ids, (0..run(&table).len() as i64).collect::<Vec<_>>());
        // In a table of one column is what a semi join looks for.
        let names = all(&some.clone().filter("farm is not null").distinct(""));
        let list: Vec<String> = names.iter().map(|row| row[0].to_string()).collect();
        if !list.is_empty() {
            let member = table.clone().filter(format!("farm in ({})", list.join(", ")));
            prop_assert_eq!(ints(&run(&member), "id"), kept);
        }
    }

    #[test]
    fn wide_is_long_and_back(table in table()) {
        let cells = table.clone().filter("farm is not null and day is not null").group("day, farm", "litres = sum(litres)");
        let wide = cells.clone().pivot("farm in ('F1', 'F2', 'F3', 'F4') by day", "litres");
        let long = wide.unpivot("litres for farm in F1, F2, F3, F4 skip nulls").sort("day, farm");
        prop_assert_eq!(all(&long), all(&cells.filter("litres is not null").sort("day, farm")));
    }

    #[test]
    fn texts_are_cut_and_joined(table in table()) {
        let joined = table.clone().filter("farm is not null").add("code = farm || '-' || cast(id as text)").select("code, farm, id");
        let cut = joined.clone().split("code at '-' as f, i int keep");
        let checked = cut.clone().require("f = farm and i = id");
        prop_assert_eq!(run(&checked).len(), run(&joined).len());
        let lists = table.clone().filter("farm is not null").add("part = parts(farm || '-' || cast(id as text), '-')").unnest("part");
        prop_assert_eq!(run(&lists).len(), 2 * run(&joined).len());
    }

    #[test]
    fn lists_open_into_what_they_gathered(table in table()) {
        let gathered = table.clone().sort("farm").group("farm", "id = array_agg(id)").unnest("id").select("id, farm");
        prop_assert_eq!(all(&gathered), all(&table.clone().sort("farm").select("id, farm")));
    }

    #[test]
    fn gaps_are_filled_by_neighbours(table in table()) {
        let filled = table.clone().fill_down("litres", "farm");
        let looked = table.clone().window(Window::by("farm"), "litres = last(litres) over rows so far");
        prop_assert_eq!(all(&filled.clone().select("id, litres")), all(&looked.select("id, litres")));
        prop_assert_eq!(all(&filled.clone().fill_down("litres", "farm")), all(&filled));
        let turned = table.clone().sort("id desc").fill_up("litres", "farm").sort("id");
        prop_assert_eq!(all(&turned), all(&filled));
        let constant = run(&table.clone().fill("litres", "0"));
        prop_assert!(constant.values("litres").unwrap().iter().all(|litres| !litres.is_null()));
    }

    #[test]
    fn a_series_has_no_holes(table in table()) {
        let days = table.clone().filter("day is not null").distinct("day").select("day");
        let dense = days.clone().densify("day by interval '1' day").sort("day");
        let found = all(&dense);
        let number = |row: &Vec<Scalar>| if let Scalar::Date(day) = row[0] { day } else { panic!("no day") };
        let numbers: Vec<i32> = found.iter().map(number).collect();
        prop_assert!(numbers.windows(2).all(|pair| pair[1] == pair[0] + 1), "{:?}", numbers);
        prop_assert_eq!(all(&dense.clone().densify("day by interval '1' day")), found);
    }

    #[test]
    fn samples_are_some_of_the_rows(table in table(), count in 0..60usize, seed in 0..9u64) {
        let sample = table.clone().sample(count, seed);
        let ids = ints(&run(&sample), "id");
        prop_assert_eq!(ids.len(), count.min(run(&table).len()));
        prop_assert!(ids.windows(2).all(|pair| pair[0] < pair[1]), "{:?}", ids);
        prop_assert_eq!(all(&sample).len(), ids.len());
    }

    #[test]
    fn names_change_nothing_else(table in table()) {
        let turned = table.clone().rename("farm = day, day = farm").rename("farm = day, day = farm");
        prop_assert_eq!(all(&turned), all(&table));
        let computed = table.clone().add("double = litres * 2").drop("double");
        prop_assert_eq!(all(&computed), all(&table));
        prop_assert_eq!(all(&table.clone().select("each (id, farm, day, litres)")), all(&table));
    }
}
