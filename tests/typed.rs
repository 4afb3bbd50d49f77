//! Steps and expressions as data: what is built is what is said, whatever names and values it holds.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use churn::steps::{self, DenseKey, Item, Other, PivotKey, Step};
use churn::{
    BadCells, BadRows, Edge, Encoding, ErrorKind, Expr, Flow, Frame, Interval, Join, JoinKind, ReadOptions,
    Scalar, TextEncoding, Type, Unit, Window, WriteMode, WriteOptions, case, case_of, coalesce, column,
    count, count_of, each, first_value, greatest, if_else, lag_by, lead_by, lit, make_date, max, mean, min,
    parameter, quantile, rank, row_count, row_mean, row_sum, sum, table_value, today,
};
use proptest::prelude::*;
use proptest::sample::select;
use rstest::rstest;

/// Names that could be taken for something else, and any at all.
fn name() -> impl Strategy<Value = String> {
    prop_oneof![
        3 => select(vec![
            "litres", "Fat %", "in", "inf", "NaN", "a\nsort a", "x\"y", "it's", "", " ", "🐄", "-- x", "#", "a, b", "a = 1",
            "desc", "nulls first", "per", "by", "case", "end", "true", "1", "date '2026-01-01'", "*", "each", "named", "fill",
            "totals", "for", "skip nulls", "keep", "strict", "with", "expect one", "prefix", "down", "up", "as", "at", "after", "on", "asof", "left", "unique", "seed",
            "percent", "first", "last", "to", "from", "rows", "order", "over", "where", "table", "read", "values", "sort", "date",
        ]).prop_map(str::to_owned),
        1 => "\\PC{0,8}",
        1 => "[\\x00-\\x20'\"\\\\]{0,5}",
    ]
}

fn literal() -> impl Strategy<Value = Expr> {
    prop_oneof![
        any::<i64>().prop_map(lit),
        any::<f64>().prop_map(lit),
        any::<bool>().prop_map(lit),
        name().prop_map(lit),
        Just(lit(None::<i64>)),
        (-700_000..2_900_000i32).prop_map(|day| lit(Scalar::Date(day))),
        (any::<i64>(), 0..10i8).prop_map(|(units, scale)| lit(Scalar::Decimal(units.into(), 20, scale))),
        (-99..99i64, -99..99i64, -99..99i64).prop_map(|(months, days, seconds)| {
            lit(Scalar::Interval(Interval { months, days, micros: seconds * 1_000_000 }))
        }),
    ]
}

/// An expression of any form that can be built.
fn expr() -> impl Strategy<Value = Expr> {
    let leaf = prop_oneof![2 => name().prop_map(|n| column(&n)), 2 => literal(), 1 => Just(today())];
    leaf.prop_recursive(3, 24, 3, |inner| {
        let two = (inner.clone(), inner.clone());
        let three = (inner.clone(), inner.clone(), inner.clone());
        prop_oneof![
            (two.clone(), 0..18usize).prop_map(|((a, b), which)| match which {
                0 => a + b,
                1 => a - b,
                2 => a * b,
                3 => a / b,
                4 => a % b,
                5 => a & b,
                6 => a | b,
                7 => a.gt(b),
                8 => a.le(b),
                9 => a.equals(b),
                10 => a.differs(b),
                11 => a.concat(b),
                12 => a.div_floor(b),
                13 => a.like(b),
                14 => a.is_distinct_from(b),
                15 => a.nullif(b),
                16 => coalesce([a, b]),
                _ => row_sum([a, b]),
            }),
            (inner.clone(), 0..10usize).prop_map(|(x, which)| match which {
                0 => -x,
                1 => !x,
                2 => x.is_null(),
                3 => x.is_not_null(),
                4 => x.cast(Type::Decimal(12, 2)),
                5 => x.try_cast_with(Type::Date, "%d/%m/%Y"),
                6 => x.upper(),
                7 => x.start_of(Unit::Months),
                8 => sum(x).per(["farm", "a b"]),
                _ => mean(x).per_table(),
            }),
            three.prop_map(|(a, b, c)| !a.between(b, c)),
            (inner.clone(), prop::collection::vec(inner.clone(), 1..4)).prop_map(|(x, list)| x.is_in(list)),
            two.clone().prop_map(|(test, value)| case().when(test.clone(), value.clone()).otherwise(test)),
            two.clone().prop_map(|(test, value)| case_of(test).when(1, value).end()),
            two.prop_map(|(x, only)| sum(x).only_where(only).over(Frame::last_rows(3))),
        ]
    })
}

fn item() -> impl Strategy<Value = Item> {
    prop_oneof![
        (expr(), name()).prop_map(|(expr, name)| expr.named(&name).into()),
        name().prop_map(|name| column(&name).into()),
        expr().prop_map(|text| mean(each().numbers()).named_by(text).into()),
    ]
}

fn names() -> impl Strategy<Value = Vec<String>> {
    prop::collection::vec(name(), 1..3)
}

/// A chart; without them in this build, any other step.
fn drawn() -> BoxedStrategy<Step> {
    #[cfg(feature = "charts")]
    {
        let kind = prop::sample::select(churn::ChartKind::ALL.to_vec());
        let text = "[a-z '\"\\n]{0,6}";
        let part = || prop::option::of(item());
        (
            kind,
            prop::collection::vec(item(), 0..3),
            part(),
            part(),
            prop::collection::vec(item(), 0..3),
            prop::option::of(text),
        )
            .prop_map(|(kind, measures, over, by, panels, text)| {
                let draw = steps::Draw::new(kind, measures).panels(panels);
                let draw = if let Some(over) = over { draw.over(over) } else { draw };
                let draw = if let Some(by) = by { draw.by(by) } else { draw };
                match text {
                    Some(text) => {
                        draw.to(&text).with(steps::DrawOptions::new().title(&text).dark(true)).into()
                    }
                    None => draw.into(),
                }
            })
            .boxed()
    }
    #[cfg(not(feature = "charts"))]
    expr().prop_map(|condition| steps::Filter::new(condition).into()).boxed()
}

/// A step of any kind.
fn step() -> impl Strategy<Value = Step> {
    let items = || prop::collection::vec(item(), 1..3);
    prop_oneof![
        expr().prop_map(|condition| steps::Filter::new(condition).into()),
        items().prop_map(|items| steps::Select::new(items).into()),
        items().prop_map(|items| steps::Add::new(items).into()),
        names().prop_map(|columns| steps::Drop::new(columns).into()),
        (name(), name()).prop_map(|(new, old)| steps::Rename::new(&new, &old).and(&old, &new).into()),
        (expr(), expr()).prop_map(|(a, b)| steps::Sort::by([a.desc().nulls_first(), b.asc()]).into()),
        (any::<u32>(), names()).prop_map(|(rows, per)| steps::End::first(rows as usize).per(per).into()),
        (0..99usize, 0..99usize).prop_map(|(rows, after)| steps::End::first(rows).after(after).into()),
        (0..99usize).prop_map(|rows| steps::End::last(rows).into()),
        (0..99usize, any::<u32>(), names())
            .prop_map(|(rows, seed, per)| { steps::Sample::rows(rows).per(per).seed(seed.into()).into() }),
        (0.0..=100.0f64).prop_map(|share| steps::Sample::percent(share).seed(7).into()),
        names().prop_map(|by| steps::Distinct::by(by).into()),
        drawn(),
        (items(), items()).prop_map(|(keys, items)| steps::Group::by(keys).items(items).into()),
        items().prop_map(|items| steps::Group::total().items(items).into()),
        (names(), items(), expr())
            .prop_map(|(by, items, key)| steps::Window::new(items).by(by).order([key]).into()),
        (names(), expr()).prop_map(|(columns, with)| steps::Fill::new(columns, with).into()),
        (names(), names()).prop_map(|(columns, by)| steps::Carry::up(columns).by(by).into()),
        (expr(), name())
            .prop_map(|(condition, message)| steps::Require::new(condition).message(&message).into()),
        names().prop_map(|by| steps::RequireUnique::by(by).into()),
        names().prop_map(|columns| steps::Unnest::new(columns).skip_nulls().into()),
        (name(), name(), names()).prop_map(|(value, name, columns)| {
            steps::Unpivot::new(&value, &name, columns).skip_nulls().into()
        }),
        (name(), name(), name()).prop_map(|(value, a, b)| {
            steps::Unpivot::new(&value, "x", [each()])
                .parts(" | ", [Some(a.as_str()), Some(b.as_str())])
                .into()
        }),
        (name(), name(), name()).prop_map(|(column, a, b)| {
            steps::Split::at(&column, "-").part(&a).typed(&b, Type::Int).keep().into()
        }),
        (name(), name()).prop_map(|(a, b)| {
            steps::Densify::new(DenseKey::series(a.as_str(), 5).from(1).to(90)).per([b]).into()
        }),
        (name(), items(), literal(), expr()).prop_map(|(key, items, value, template)| {
            steps::Pivot::new([PivotKey::new(&key).values([value])])
                .by(["farm"])
                .items(items)
                .totals()
                .named(template)
                .into()
        }),
        (name(), name(), expr()).prop_map(|(table, prefix, key)| {
            let join = steps::Join::new(Other::table(&table), JoinKind::Left).on(key);
            join.prefix(&prefix).expect_one().expect_all().into()
        }),
        (name(), name())
            .prop_map(|(a, b)| steps::Append::new(Other::file(a)).and(Other::table(&b)).strict().into()),
        name().prop_map(|path| steps::Paste::new(Other::file(path)).into()),
        (name(), name()).prop_map(|(path, missing)| {
            let options =
                WriteOptions::new().missing(&missing).mode(WriteMode::Append).separator('\t').crlf(true);
            steps::Write::new(path).with(options.encoding(TextEncoding::Utf16).split_by(["a b"])).into()
        }),
        (name(), name()).prop_map(|(path, column)| {
            let options =
                ReadOptions::new().type_of(&column, Type::Date).pattern_of("b", Type::Date, "%d.%m.%Y");
            steps::Read::new(path)
                .and("b*.csv")
                .strict()
                .with(options.missing(["", "it's"]).quote(None))
                .into()
        }),
        (names(), prop::collection::vec(literal(), 1..3))
            .prop_map(|(names, cells)| { steps::Values::new(names).row(cells.clone()).row(cells).into() }),
        name().prop_map(|table| steps::ReadTable::new(&table).into()),
    ]
}

/// A step as data, without the places of its parts.
fn unplaced(step: &Step) -> String {
    let text = format!("{step:?}");
    let mut parts = text.split("Span {");
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |shown, part| shown + part.split_once('}').map_or(part, |(_, rest)| rest))
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(1500) })]

    #[test]
    fn a_step_reads_back_from_its_text(step in step()) {
        let text = step.to_string();
        let read: Step = text.parse().map_err(|error| TestCaseError::fail(format!("{text}\n{error}")))?;
        prop_assert!(read == step, "{}\nbuilt {}\nread  {}", text, unplaced(&step), unplaced(&read));
        prop_assert_eq!(read.to_string(), text);
    }

    /// Text that a method takes stays what the method takes: it adds no step, and becomes no other one.
    #[test]
    fn text_adds_no_step(
        text in prop_oneof![
            "\\PC{0,20}",
            "(litres|farm|,|\n|  |sort|filter|'|\"|\\(|\\)|=|> 0|per|with|as|by|drop|first 1|#|:){0,8}",
        ],
        which in 0..14usize,
    ) {
        let milk = Flow::steps("values farm, litres: ('F001', 10), ('F002', 5)");
        let text = text.as_str();
        let (flow, keyword) = match which {
            0 => (milk.filter(text), "filter"),
            1 => (milk.select(text), "select"),
            2 => (milk.drop(text), "drop"),
            3 => (milk.rename(text), "rename"),
            4 => (milk.add(text), "add"),
            5 => (milk.sort(text), "sort"),
            6 => (milk.distinct(text), "distinct"),
            7 => (milk.group(text, "n = count()"), "group"),
            8 => (milk.fill("litres", text), "fill"),
            9 => (milk.require(text), "require"),
            10 => (milk.window(Window::by("farm").order(text), "n = count()"), "window"),
            11 => (milk.pivot("farm", text), "pivot"),
            12 => (milk.unpivot(text), "unpivot"),
            _ => (milk.total(text), "total"),
        };
        let steps: Vec<String> = flow.chain().map(ToString::to_string).collect();
        prop_assert!(steps.len() <= 2, "{:?}", steps);
        if let Some(step) = steps.get(1) {
            prop_assert!(step.starts_with(keyword), "{}", step);
        } else {
            prop_assert!(flow.check().is_err());
        }
    }
}

#[rstest]
#[case::comparison(column("litres").gt(0).and(column("grade").is_in(["A", "B"])), "litres > 0 and grade in ('A', 'B')")]
#[case::operators((column("a") + 1) * -column("b") / 2.5 % 3, "(a + 1) * -b / 2.5 mod 3")]
#[case::logic(!(column("a").is_null() | column("b").is_not_null()) & true, "not (a is null or b is not null) and true")]
#[case::turned(!column("a").like("F%"), "a not like 'F%'")]
#[case::escaped(column("a").like_escaped("10!%", '!'), "a like '10!%' escape '!'")]
#[case::choice(if_else(column("a").ge(5), "many", "few"), "if(a >= 5, 'many', 'few')")]
#[case::text(column("note").trim().substring(2, 3).upper(), "upper(substring(trim(note), 2, 3))")]
#[case::dates(column("day").start_of(Unit::Months).date_diff(Unit::Days, today()), "date_diff(day, start_of(month, day), today())")]
#[case::made(make_date(2026, column("m"), 1), "make_date(2026, m, 1)")]
#[case::per(sum(column("litres")).per(["farm", "Fat %"]), "sum(litres) per (farm, \"Fat %\")")]
#[case::per_set(count().per([each().dates()]), "count() per (each date)")]
#[case::narrowed(mean(column("fat")).only_where(column("fat").lt(9)), "mean(fat) where (fat < 9)")]
#[case::frame(
    sum(column("litres")).over(Frame::rows(Edge::preceding(3), Edge::Here)),
    "sum(litres) over rows between 3 preceding and current row"
)]
#[case::last(mean(column("litres")).over(Frame::last(7, Unit::Days)), "mean(litres) over last 7 days")]
#[case::last_rows(mean(column("litres")).over(Frame::last_rows(7)), "mean(litres) over last 7 rows")]
#[case::next(max(column("litres")).over(Frame::next(2, Unit::Hours)), "max(litres) over next 2 hours")]
#[case::next_rows(min(column("litres")).over(Frame::next_rows(2)), "min(litres) over next 2 rows")]
#[case::so_far(sum(column("litres")).over(Frame::so_far()), "sum(litres) over rows so far")]
#[case::from_here(sum(column("litres")).over(Frame::from_here()), "sum(litres) over rows from here")]
#[case::range(
    sum(column("litres")).over(Frame::range(Edge::First, Edge::following(1))),
    "sum(litres) over range between unbounded preceding and 1 following"
)]
#[case::to_the_end(
    first_value(column("litres")).over(Frame::rows(Edge::Here, Edge::Last)),
    "first_value(litres) over rows between current row and unbounded following"
)]
#[case::texts(row_count([each().texts()]), "row_count(each text)")]
#[case::truths(row_count([each().bools().except(["late"])]), "row_count(each bool except late)")]
#[case::matching(row_sum([each().matching("^l")]), "row_sum(each matching '^l')")]
#[case::places(row_mean([each().at(2..=4)]), "row_mean(each 2 to 4)")]
#[case::called(greatest([each().called(["a", "b b"])]), "greatest(each (a, \"b b\"))")]
#[case::lead(lead_by(column("litres"), 1, 0), "lead(litres, 1, 0)")]
#[case::counted(count_of(column("fat")), "count(fat)")]
#[case::cut(column("farm").trim_of("F0"), "trim(farm, 'F0')")]
#[case::bands(column("litres").band_at([0, 100, 500]), "band_at(litres, 0, 100, 500)")]
#[case::ends(column("day").end_of(Unit::Quarters), "end_of(quarter, day)")]
#[case::units(column("at").start_of(Unit::Seconds), "start_of(second, at)")]
#[case::coalesced(coalesce([column("a"), column("b")]), "coalesce(a, b)")]
#[case::null_if(column("a").nullif(0), "nullif(a, 0)")]
#[case::cases_of(case_of(column("a")).when(1, "one").when(2, "two").otherwise("many"), "case a when 1 then 'one' when 2 then 'two' else 'many' end")]
#[case::cases_without(case_of(column("a")).when(1, "one").end(), "case a when 1 then 'one' end")]
#[case::case_without(case().when(column("a").gt(1), "many").end(), "case when a > 1 then 'many' end")]
#[case::lag(lag_by(column("litres"), 2, 0), "lag(litres, 2, 0)")]
#[case::share(quantile(column("litres"), 0.9), "quantile(litres, 0.9)")]
#[case::given(column("day").ge(parameter("since")), "day >= $since")]
#[case::of_a_table(column("litres") / table_value("largest", "herd"), "litres / $largest.herd")]
#[case::in_a_table(!column("farm").is_in_table("large"), "farm not in large")]
#[case::nan(lit(f64::NAN), "cast('NaN' as float)")]
#[case::column_called_so(column("inf"), "inf")]
#[case::decimal(lit(Scalar::Decimal(1250, 10, 2)), "cast('12.50' as decimal(10, 2))")]
#[case::smallest(lit(i64::MIN), "-9223372036854775808")]
#[case::date(lit(jiff::civil::date(2026, 3, 1)), "date '2026-03-01'")]
#[case::moment(lit(jiff::civil::date(2026, 3, 1).at(6, 30, 0, 0)), "timestamp '2026-03-01 06:30:00'")]
#[case::part_of_a_second(
    lit(Scalar::Interval(Interval { months: 0, days: 0, micros: -1_250_000 })),
    "-1 * interval '1.25' second"
)]
#[case::interval(
    lit(Scalar::Interval(Interval { months: 1, days: -2, micros: 0 })),
    "interval '1' month + -1 * interval '2' day"
)]
fn an_expression_is_its_text(#[case] built: Expr, #[case] text: &str) {
    assert_eq!(built.to_string(), text);
    // Built or read, it is one step.
    let read: Step = format!("filter {text}").parse().unwrap();
    assert_eq!(Step::from(steps::Filter::new(built)), read);
}

#[rstest]
#[case::sort(milk().sort([column("litres").desc(), column("farm").into()]), "sort litres desc, farm")]
#[case::drop(milk().drop(["grade"]), "drop grade")]
#[case::drop_a_set(milk().drop(each().like("g*")), "drop each 'g*'")]
#[case::select(milk().select([Item::from("farm"), (column("litres") * 2).named("l").into()]), "select farm, l = litres * 2")]
#[case::group(
    milk().group([column("farm")], [sum(column("litres")).named("litres"), count().named("loads")]),
    "group by farm\n  litres = sum(litres)\n  loads = count()"
)]
#[case::group_of_sets(
    milk().group("farm", mean(each().numbers()).named_by(column("column").concat("_avg"))),
    "group by farm\n  mean(each number) named column || '_avg'"
)]
#[case::distinct(milk().distinct(["farm", "day"]), "distinct by farm, day")]
#[case::require(milk().require((column("litres").gt(0), "it's empty")), "require litres > 0, 'it''s empty'")]
#[case::require_in_text(milk().require("litres > 0, 'empty'"), "require litres > 0, 'empty'")]
#[case::fill(milk().fill(["grade"], lit("B")), "fill grade with 'B'")]
#[case::window(
    milk().window(Window::by(["farm"]).order([column("day")]), rank().named("place")),
    "window by farm order by day\n  place = rank()"
)]
#[case::pivot(
    milk().step(steps::Pivot::new([PivotKey::new("grade").values(["A"])]).by(["farm"]).items([sum(column("litres"))]).fill(0)),
    "pivot grade in ('A') by farm: sum(litres), fill 0"
)]
#[case::split(milk().step(steps::Split::after("farm", [1]).part("letter").part("rest")), "split farm after 1 as letter, rest")]
#[case::rename(milk().step(steps::Rename::new("l", "litres")), "rename l = litres")]
fn a_typed_chain_is_its_text(#[case] flow: Flow, #[case] text: &str) {
    let written = milk().then(text);
    assert_eq!(flow, written);
    let (ours, theirs) = (flow.run().unwrap(), written.run().unwrap());
    assert_eq!(format!("{ours:?}"), format!("{theirs:?}"));
}

fn milk() -> Flow {
    Flow::steps(
        "values farm, day, litres, grade: ('F001', 1, 10, 'A'), ('F002', 1, 5, null), ('F001', 2, 30, 'A')",
    )
}

/// A path of a recipe is read as one, wherever a path may stand.
#[test]
fn a_recipe_is_read_by_its_path() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("first.churn"), "values farm: ('F001')").unwrap();
    let read = Flow::read("first.churn").in_folder(folder.path());
    assert_eq!(read, Flow::steps("read 'first.churn'").in_folder(folder.path()));
    assert_eq!(read.append("first.churn").run().unwrap().len(), 2);
    let given = steps::ReadRecipe::new("first.churn").given("farms", "F002");
    assert_eq!(Step::from(given), "read 'first.churn' with (given = (farms = 'F002'))".parse().unwrap());
}

/// What is built wrong is told before anything runs, with a place and a way out, and panics nowhere.
#[rstest]
#[case::no_columns(milk().drop([] as [&str; 0]), "The line ends too soon.")]
#[case::no_items(milk().select([] as [Expr; 0]), "The line ends too soon.")]
#[case::no_keys(milk().sort([] as [Expr; 0]), "The line ends too soon.")]
#[case::no_list(milk().filter(column("farm").is_in([] as [&str; 0])), "The list after in is empty.")]
#[case::no_arms(milk().add(case().otherwise(1).named("c")), "else")]
#[case::unknown_column(milk().filter(column("liters").gt(1)), "Did you mean litres?")]
#[case::no_condition(milk().filter(column("litres")), "int")]
#[case::a_share_that_is_none(milk().step(steps::Sample::percent(f64::NAN)), "percent")]
#[case::too_large_a_share(milk().step(steps::Sample::percent(101.0)), "0 to 100 percent")]
#[case::a_join_without_keys(milk().join(&milk(), Join::left()), "A join needs keys.")]
#[case::a_cross_join_with_keys(milk().join(&milk(), Join::cross().on("farm")), "A cross join has no keys.")]
#[case::after_the_last(milk().step(steps::End::last(1).after(2)), "")]
#[case::cut_at_nothing(milk().step(steps::Split::at("farm", "").part("a")), "A text cannot be cut at nothing.")]
#[case::falling_places(milk().step(steps::Split::after("farm", [3, 2]).part("a").part("b").part("c")), "The places rise from 1 on.")]
#[case::a_second_start(milk().step(steps::Read::new("t.csv")), "A chain has one start.")]
#[case::no_start(Flow::of(steps::Filter::new(true)), "A chain starts with read or values.")]
#[case::two_expressions(milk().filter("litres > 0\nsort litres"), "is not expected here")]
#[case::two_steps(milk().rename("l = litres\nsort l"), "is not expected here")]
#[case::a_key_that_is_null(milk().group([lit(None::<i64>).named("k")], count().named("n")), "")]
fn what_is_built_wrong_is_told(#[case] flow: Flow, #[case] told: &str) {
    match flow.check() {
        Err(error) => {
            assert_ne!(error.kind(), ErrorKind::Internal, "{error}");
            assert!(error.to_string().contains(told), "{error}");
        }
        Ok(()) => assert!(told.is_empty(), "{flow}"),
    }
}

/// A mistake in typed pieces has its place in the step's own text.
#[test]
fn a_mistake_in_a_built_step_has_a_place() {
    let flow = milk().filter(column("litres").gt(1)).add((column("liters") * 2).named("double"));
    let error = flow.check().unwrap_err().to_string();
    assert!(error.contains("step 3:"), "{error}");
    assert!(error.contains("add double = liters * 2\n                 ^^^^^^"), "{error}");
}

#[rstest]
#[case(ReadOptions::new().columns(["a", "b c"]).header_rows(0), "columns = (a, \"b c\"), header = 0")]
#[case(ReadOptions::new().separator('\t').quote(Some('\'')).decimal(',').thousands('.'),
    "separator = '\t', quote = '''', decimal = ',', thousands = '.'")]
#[case(ReadOptions::new().skip(2).comment('#').encoding(Encoding::Latin1), "skip = 2, comment = '#', encoding = 'latin1'")]
#[case(ReadOptions::new().bad_cells(BadCells::Null).bad_rows(BadRows::Rejects("bad.csv".into())),
    "bad_cells = null, bad_rows = 'bad.csv'")]
#[case(ReadOptions::new().bad_rows(BadRows::Pad).bad_rows(BadRows::Skip), "bad_rows = skip")]
#[case(ReadOptions::new().dates("%d/%m/%Y").file_column("file"), "dates = '%d/%m/%Y', file_column = 'file'")]
#[case(ReadOptions::new().sheet("Prices").area("B2:F20").header_join("/"), "sheet = 'Prices', area = 'B2:F20', header_join = '/'")]
#[case(ReadOptions::new().format("csv").option("skip", 1), "format = 'csv', skip = 1")]
fn options_are_their_text(#[case] options: ReadOptions, #[case] text: &str) {
    let read: Step = steps::Read::new("t.csv").with(options).into();
    assert_eq!(read.to_string(), format!("read 't.csv' with ({text})"));
    assert_eq!(read, format!("read 't.csv' with ({text})").parse().unwrap());
}

/// Options that are built read the file as those that are written do.
#[test]
fn options_are_used() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("t.csv"), "farm;litres;day\nF1;1,5;31/12/2026\nF2;x;01/01/2027\n")
        .unwrap();
    let options = ReadOptions::new().separator(';').decimal(',').type_of("litres", Type::Float);
    let options = options.pattern_of("day", Type::Date, "%d/%m/%Y").bad_cells(BadCells::Null);
    let table = Flow::read_with("t.csv", options).in_folder(folder.path()).run().unwrap();
    assert_eq!(table.value(0, "litres").unwrap(), Scalar::Float(1.5));
    assert_eq!(table.value(1, "litres").unwrap(), Scalar::Null);
    assert_eq!(table.value(0, "day").unwrap().plain(), "2026-12-31");
    let write = WriteOptions::new().separator(';').decimal(',').header(false).missing("-");
    let flow = Flow::read_with("t.csv", ReadOptions::new().separator(';')).in_folder(folder.path());
    let out = folder.path().join("out.csv");
    flow.step(steps::Write::new(&out).with(write))
        .plan()
        .unwrap()
        .run_for_effect(&churn::RunOptions::new())
        .unwrap();
    assert!(std::fs::read_to_string(out).unwrap().starts_with("F1;"));
}

/// Every function of the language can be called by a method or a function of Rust.
#[test]
fn every_function_can_be_built() {
    let source = concat!(
        include_str!("../crates/expr/src/build/functions.rs"),
        include_str!("../crates/expr/src/build/aggregates.rs"),
        include_str!("../crates/expr/src/build/mod.rs"),
    );
    let is_there = |name: &str| {
        let word = |c: char| !(c.is_alphanumeric() || c == '_');
        source.split(word).any(|found| found == name)
    };
    let functions = churn::functions().map(|function| function.name);
    let aggregates = churn::aggregates().map(|aggregate| aggregate.name);
    let windows = churn::window_functions().map(|function| function.name);
    let missing: Vec<&str> =
        functions.chain(aggregates).chain(windows).filter(|name| !is_there(name)).collect();
    assert!(missing.is_empty(), "{missing:?}");
}
