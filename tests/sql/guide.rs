//! The page "coming from SQL": each question has the same plan in SQL, as a recipe, and in typed pieces.

use churn::steps::Other;
use churn::{Flow, Frame, Join, Window, column, count, mean, sum, table_value};

const PAGE: &str = include_str!("../../docs/guide/sql.md");

/// The typed pieces of the page, in its order, each with its text.
macro_rules! typed {
    ($($flow:expr;)*) => { vec![$((stringify!($flow), $flow)),*] };
}

fn typed() -> Vec<(&'static str, Flow)> {
    typed! {
        Flow::read("deliveries-2026.csv")
            .filter(column("litres").gt(300).and(column("grade").is_in(["A", "B"])))
            .select(["farm", "litres", "grade"])
            .sort([column("litres").desc(), column("farm").asc()])
            .first(5);
        Flow::read("deliveries-2026.csv")
            .group(
                ["grade"],
                [
                    count().named("loads"),
                    sum(column("litres")).named("litres"),
                    mean(column("fat")).named("fat"),
                ],
            )
            .filter(column("litres").gt(1000))
            .sort([column("litres").desc()]);
        Flow::read("deliveries-2026.csv")
            .join("farms.csv", Join::left().on("farm"))
            .group(["district"], [count().named("loads"), sum(column("litres")).named("litres")]);
        Flow::read("farms.csv")
            .join("deliveries-2026.csv", Join::anti().on("farm"))
            .select(["farm", "name"]);
        Flow::read("deliveries-2026.csv")
            .window(
                Window::by(["farm"]).order([column("delivery_id").asc()]),
                [sum(column("litres")).over(Frame::so_far()).named("so_far")],
            )
            .select(["farm", "delivery_id", "litres", "so_far"]);
        Flow::read("deliveries-2026.csv")
            .with_table(
                "sub",
                &Flow::read("deliveries-2026.csv").total([mean(column("litres")).named("litres_mean")]),
            )
            .filter(column("litres").gt(table_value("sub", "litres_mean")))
            .select(["farm", "litres"]);
        Flow::read("deliveries-2026.csv")
            .with_table("below", &Flow::read("farms.csv").select(["farm"]))
            .select(["farm"])
            .append(Other::table("below"))
            .distinct(Vec::<String>::new());
    }
}

/// The blocks of the page with this language.
fn blocks(language: &str) -> Vec<&'static str> {
    let opened = format!("```{language}\n");
    PAGE.split(opened.as_str())
        .skip(1)
        .filter_map(|rest| rest.split_once("```"))
        .map(|(block, _)| block)
        .collect()
}

fn without_blanks(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace()).collect::<String>().replace(",)", ")").replace(",]", "]")
}

#[test]
fn each_question_has_one_plan() {
    let folder = tempfile::tempdir().unwrap();
    let milk = "delivery_id,farm,litres,fat,grade\n1,F1,420.5,4.1,A\n2,F2,80.25,4.0,B\n3,F9,310,,A\n";
    std::fs::write(folder.path().join("deliveries-2026.csv"), milk).unwrap();
    let farms =
        "farm,name,district,herd\nF1,Oak Farm,Lakes,40\nF2,Mill Farm,Vale,55\nF3,Elder Farm,Vale,12\n";
    std::fs::write(folder.path().join("farms.csv"), farms).unwrap();
    let (queries, recipes, pieces, typed) = (blocks("sql"), blocks("churn"), blocks("rust,ignore"), typed());
    // The first recipe of the page is that of a query within a recipe.
    assert_eq!((queries.len(), recipes.len() - 1, pieces.len()), (typed.len(), typed.len(), typed.len()));
    for (i, (text, flow)) in typed.into_iter().enumerate() {
        let (query, recipe, piece) = (queries[i], recipes[i + 1], pieces[i]);
        assert_eq!(without_blanks(text), without_blanks(piece));
        let plan = |flow: Flow| {
            let flow = flow.in_folder(folder.path());
            let rows = flow.run().unwrap_or_else(|e| panic!("{flow}\n{e}")).to_string();
            (flow.plan().unwrap().picture(120), rows)
        };
        let of_query = plan(Flow::sql(query));
        assert_eq!(of_query, plan(Flow::recipe(recipe)), "{query}");
        assert_eq!(of_query, plan(flow), "{query}");
    }
}
