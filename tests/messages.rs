//! Every message is read in a snapshot: what is wrong, where, why, and what to do next.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fmt::Write;
use std::fs;

use churn::Flow;

const DELIVERIES: &str = "\
delivery_id,farm,collected_on,litres,fat,grade,note
00001,F001,2026-01-01,120.5,4.1,A,
00002,F002,2026-01-02,80,4.4,B,\"gate, closed\"
00003,F001,2026-01-03,,3.9,A,late
00004,F003,2026-01-04,0,4.0,C,
";

/// Wrong steps over the deliveries.
const STEPS: &[&str] = &[
    // Names
    "filter liters > 0",
    "select farm, Litres",
    "drop frm",
    "filter grade = \"A\"",
    "rename collected_on = day",
    "rename day = collected_on, day = farm",
    "sort sum_litres desc",
    "group by district: n = count()",
    "filter avg(litres) > 0",
    "add x = nonsense(litres)",
    "add x = litres_total",
    "add x = mean",
    "add m = mean(each 'x*')",
    "filter $since < collected_on",
    "distinct by farm, farm",
    "filtre litres > 0",
    "limit 10",
    "window by farm",
    // Two tables and windows
    "join 'farms.csv'",
    "join farms on farm",
    "join cross 'other.csv' on farm",
    "join 'other.csv' on code",
    "join 'other.csv' on code = farm",
    "join 'other.csv' on farm = number",
    "join 'other.csv' on litres <> number",
    "join 'other.csv' on farm = code expect one",
    "join asof 'other.csv' on farm = code prefix 'o_'",
    "join semi 'other.csv' on farm = code prefix 'o_'",
    "append 'other.csv'",
    "append 'other.csv' strict",
    "paste 'other.csv'",
    "window by farm order by collected_on: x = lag(litres) over last 3 rows",
    "window by farm: x = rank()",
    "window by farm order by note: x = sum(litres) over last 3 days",
    "window order by collected_on: x = sum(litres) over rows between 2 following and 1 preceding",
    "add x = lag(litres)",
    "add x = sum(litres) over last 3 rows",
    // Wide and long
    "pivot grade",
    "pivot grade in ('A'), farm: n = count()",
    "pivot litres in ('A') by farm: n = count()",
    "pivot grade in ('A') by farm: litres = sum(litres) fill 'none'",
    "pivot grade in ('A') by A = farm: n = count()",
    "unpivot for month in each number",
    "unpivot x for (a, b) in each number",
    "unpivot x for (a, b) in each number split '_'",
    "unpivot x for what in litres, farm",
    "split litres at '-' as a, b",
    "split farm after 3, 2 as a, b, c",
    "split farm after 2 as a, b, c",
    "split farm at '-' as note, b",
    "unnest note",
    "fill litres sideways",
    // Types
    "filter litres = 'many'",
    "filter litres",
    "add x = farm + 1",
    "add x = farm || litres",
    "add x = collected_on + 7",
    "add x = collected_on > '2026-02-30'",
    "add x = litres div 2",
    "add x = upper(litres)",
    "add x = round(farm)",
    "add x = year(farm)",
    "add x = cast(collected_on as float)",
    "add x = cast(farm as string)",
    "add x = cast(farm as date format '%Q')",
    "add x = case when litres > 1 then 1 else 'none' end",
    "add x = coalesce(litres, farm)",
    "add x = start_of(moth, collected_on)",
    "add x = start_of(hour, collected_on)",
    "add x = substring(farm)",
    "add x = matches(farm, '(')",
    "fill litres with 'none'",
    "sort 1",
    // Aggregates
    "add x = sum(litres)",
    "filter litres > mean(litres)",
    "group by farm: x = litres",
    "group by farm: x = sum(mean(litres))",
    "group by farm: x = sum(litres) per grade",
    "group by x = sum(litres): n = count()",
    "group by farm: quantile(litres, 95)",
    "group by farm: count() + 1",
    "group by farm: sum(litres), litres_sum = sum(fat)",
    "group by farm: farm = count()",
    "add x = litres where (grade = 'A')",
    // Grammar
    "filter litres > 0 > 1",
    "filter litres >",
    "filter (litres > 0",
    "filter litres = 0 and",
    "filter litres like",
    "filter farm like Lakes",
    "filter farm = \"Lakes\"",
    "filter litres is not 3",
    "add x = litres :: text",
    "add x = if litres > 3 then 1 else 0",
    "group by farm; n = count()",
    "group by farm: count(distinct grade)",
    "windowby farm: n = count()",
    "filter farm in Lakes",
    "filter litres > $top.litres",
    "join anti 'other.csv' on farm = code prefix 'o_'",
    "join 'other.csv' on",
    "write 'out.csv' with (decimal = ',')",
    "write 'out.csv' with (sheet = 'A')",
    "write 'out.xlsx' with (sheet = 'a/b')",
    "write 'out.csv.zip' with (format = csv)",
    "filter litres > 0 fat > 1",
    "filter farm = “F001”",
    "filter farm = 'F001",
    "filter litres % 2 = 0",
    "filter litres > 5.",
    "filter litres in ()",
    "add x = 2nd",
    "add x = date '2026-02-30'",
    "add x = interval '1' fortnight",
    "add x = litres, = 2",
    "add x = count(*)",
    "add per = 1",
    "add round(litres, 1) + 1",
    "add x = each number",
    "add x = round(each number)",
    "select litres as l",
    "first",
    "first ten",
    "sample 120 percent",
    "drop each",
    "group farm: n = count()",
    "filter litres > 0\n  and fat > 4",
    "read 'farms.csv'",
    "require",
    "write 'out'",
    "write 'out.ods'",
    "write 'nowhere/out.csv'",
    "write 'out.csv' with (mod = new)",
    "write 'kept.csv' with (mode = new)",
    "write 'a.csv'\nwrite 'a.csv'",
    "select farm, litres\nwrite 'kept.csv' with (mode = append)",
];

/// Recipes that are wrong as a whole, or whose data are.
const RECIPES: &[&str] = &[
    "",
    "filter litres > 0",
    "read 'deliverys.csv'",
    "read 'x*.csv'",
    "read farms",
    "read 'd.csv' with (separater = ';')",
    "read 'd.csv' with (separator = ';;')",
    "read 'd.csv' with (types = (liters float))",
    "read 'd.csv' with (header = maybe)",
    "read 'd.csv' with (bad_cells = skip)",
    "read 'd.csv' with (columns = (a, b))",
    "given x = 1\ngiven x = 2\nread 'd.csv'",
    "define sum(a) = a\nread 'd.csv'",
    "define f(a) = a + 1\nread 'd.csv'\nadd x = f(1, 2)",
    "read 'd.csv'\ngiven x = 1",
    "table left\n  read 'd.csv'\nread left",
    "table a\nread 'd.csv'",
    "table a\n  read 'd.csv'\n    filter litres > 0\nread a",
    "read 'd.csv'\n  first 1\nfilter litres > 0",
    "values a, b\n  1\n  2, 3",
    "read 'd.csv', 'other.csv' strict",
    "read 'wrong.churn'",
    "read 'right.churn' with (given = (lest = 1))",
    "table t\n  read 'd.csv'\nread 'd.csv'\nfilter litres > $t.litres",
    "table t\n  read 'd.csv'\nread 'd.csv'\nfilter farm in t",
    "values a\n  1\n  'x'",
    "values a\n  litres",
    "read 'd.csv'\nfilter liters > 0\nadd x = fatt * 2\nsort y",
    // Data
    "read 'd.csv' with (types = (litres int))\ntotal: sum(litres)",
    "read 'ragged.csv'",
    "read 'quote.csv'",
    "read 'latin.csv'",
    "read 'drift-*.csv'",
    "read 'd.csv'\nrequire litres > 0, 'an empty delivery'",
    "read 'd.csv'\nrequire unique by farm",
    "read 'd.csv'\nadd x = cast(note as int)",
    "values a: (9223372036854775807)\nadd b = a + 1",
    "values a: (9223372036854775807), (1)\ntotal: sum(a)",
];

#[test]
fn messages() {
    let folder = tempfile::tempdir().expect("a folder");
    let write = |name: &str, bytes: &[u8]| fs::write(folder.path().join(name), bytes).expect("a file");
    write("d.csv", DELIVERIES.as_bytes());
    write("kept.csv", b"a,b\n1,2\n");
    write("other.csv", b"code,number,farm\nF001,1,7.5\nF002,2,8.5\nF003,3,\nF004,4,1\n");
    write("ragged.csv", b"a,b\n1,2\n3\n4,5\n");
    write("quote.csv", b"a,b\n1,2\n3,\"4\n5,6\n");
    write("latin.csv", b"farm,litres\nH\xf6fe,1\n");
    write("drift-1.csv", b"farm,litres\nF1,12\n");
    write("drift-2.csv", b"farm,litres\nF1,twelve\n");
    write("wrong.churn", b"read 'd.csv'\nfilter liters > 0\n");
    write("right.churn", b"given least = 0\nread 'd.csv'\nfilter litres > $least\n");
    let mut all = String::new();
    let mut tell = |what: &str, flow: Flow| {
        let flow = flow.in_folder(folder.path());
        let message = match flow.run() {
            Ok(_) => panic!("no mistake in: {what}"),
            Err(error) => error.to_string().replace(&folder.path().display().to_string(), "FOLDER"),
        };
        writeln!(all, "{message}\n").expect("text");
    };
    for step in STEPS {
        tell(step, Flow::read("d.csv").then(step));
    }
    for recipe in RECIPES {
        tell(recipe, Flow::recipe(recipe));
    }
    insta::assert_snapshot!(all);
}
