//! `churn demo`: sample data of a dairy cooperative, and a tour over it.

use std::path::Path;

use crate::Outcome;
use crate::arguments::{Arguments, Demo};
use crate::demo::{Scale, server, write};
use crate::terminal::{Failure, note, out};
use clap::Parser;

/// A question in SQL that was asked in steps before.
const DISTRICTS: &str = "select f.district, sum(d.litres) as litres, count(*) as loads \
    from 'deliveries-2026.csv' d left join 'farms.csv' f on d.farm = f.farm group by f.district order by litres desc";

/// What the tour shows: a sentence and a command, one argument a line.
const TOUR: &[(&str, &[&str])] = &[
    ("What is in a file?", &["show", "deliveries-2026.csv", "--rows", "5"]),
    (
        "The largest deliveries.",
        &["do", "deliveries-2026.csv", "sort litres desc", "first 5", "drop note, cells"],
    ),
    (
        "Warm milk by grade. Rows whose temperature is missing are told, not lost in silence.",
        &[
            "do",
            "deliveries-2026.csv",
            "filter temp_c > 6",
            "group by grade: n = count(), litres = sum(litres)",
            "sort grade",
        ],
    ),
    (
        "Three files of three years as one table: the oldest has no column protein, and a few dates are none.",
        &[
            "do",
            "read 'deliveries-*.csv' with (types = (collected_on date), bad_cells = null)",
            "group by year = year(collected_on): n = count(), with_protein = count(protein), litres = sum(litres)",
            "sort year",
        ],
    ),
    (
        "The five farms that deliver most, with their share.",
        &[
            "do",
            "deliveries-2026.csv",
            "filter litres > 0",
            "group by farm: litres = sum(litres), fat = mean(fat), days = count_distinct(collected_on)",
            "add share = litres / sum(litres) per table",
            "sort share desc",
            "first 5",
        ],
    ),
    ("What every column holds.", &["profile", "deliveries-2026.csv"]),
    (
        "Missing protein becomes the mean of its grade.",
        &[
            "do",
            "deliveries-2026.csv",
            "fill protein with round(mean(protein) per grade, 2)",
            "select delivery_id, farm, grade, litres, fat, protein",
            "first 5",
        ],
    ),
    (
        "Each delivery's farm. The ledger counts the deliveries whose farm is not listed, and the farms that do not deliver.",
        &[
            "do",
            "deliveries-2026.csv",
            "join left 'farms.csv' on farm expect one",
            "group by district: litres = sum(litres), loads = count()",
            "sort litres desc",
            "--ledger",
        ],
    ),
    (
        "A moving mean of each farm's last seven deliveries.",
        &[
            "do",
            "deliveries-2026.csv",
            "filter farm = 'F0042'",
            "window by farm order by collected_on: week = mean(litres) over last 7 rows, previous = lag(litres)",
            "select collected_on, litres, previous, week",
            "first 8",
        ],
    ),
    (
        "Months across the top become rows; blanks are told from zeros.",
        &[
            "do",
            "quota.csv",
            "unpivot quota for month in each '2026-*'",
            "group by month: blank = count() where (quota is null), zero = count() where (quota = 0), quota = sum(quota)",
        ],
    ),
    (
        "A sheet with two heading rows, turned long, mended, joined, and turned wide again.",
        &["run", "worth.churn", "--ledger"],
    ),
    (
        "A value that is found first: the largest district, and its largest farms.",
        &["run", "largest.churn", "--rows", "5"],
    ),
    (
        "The same farms from an address on the web, beside rows of a recipe: how many deliver?",
        &[
            "do",
            "WEB/farms.csv",
            "table milk\n  read 'deliveries-2026.csv'\n  select farm",
            "add delivers = farm in milk",
            "group by delivers: farms = count(), herd = round(mean(herd), 1)",
        ],
    ),
    ("The districts again, asked in SQL.", &["sql", DISTRICTS]),
    ("The recipe that this query is.", &["sql", DISTRICTS, "--as", "recipe"]),
    ("Each number column at once.", &["do", "deliveries-2026.csv", "total: mean(each number)"]),
    ("A mistake is found before anything is read.", &["do", "deliveries-2026.csv", "filter liters > 100"]),
    ("What a recipe will do.", &["plan", "by-farm.churn"]),
    ("The recipe, and what became of every row.", &["run", "by-farm.churn", "--ledger"]),
    ("With another parameter.", &["run", "by-farm.churn", "--given", "since=2026-06-01", "--rows", "3"]),
    ("In another format.", &["convert", "farms.csv", "farms.ndjson"]),
    (
        "What figures hide is seen: most deliveries are small, and one large farm brings more.",
        &["draw", "deliveries-2026.csv", "filter litres > 0", "histogram litres by grade", "--as", "text"],
    ),
    (
        "A recipe that draws two pictures on its way, prices.svg and months.svg: February is short, and some prices are missing.",
        &["run", "pictures.churn"],
    ),
    (
        "A page for colleagues: the charts, the steps with what became of every row, times, the plan, what was read.",
        &["report", "pictures.churn", "-o", "report.html", "--title", "Milk of 2026"],
    ),
];

pub(crate) fn run(arguments: &Demo) -> Outcome {
    let started = std::time::Instant::now();
    let scale = Scale { rows: arguments.rows, seed: arguments.seed };
    let failed = |e: std::io::Error| {
        Failure::File(format!("The data cannot be written to {}: {e}.", arguments.folder.display()))
    };
    std::fs::create_dir_all(&arguments.folder).map_err(failed)?;
    let files = write(&arguments.folder, scale).map_err(failed)?;
    out(format!("Wrote {} in {:.1} s:\n\n", arguments.folder.display(), started.elapsed().as_secs_f64()))?;
    for (name, bytes, about) in files {
        out(format!("  {name:22} {:>12}  {about}\n", format!("{:.1} kB", bytes as f64 / 1000.0)))?;
    }
    if arguments.no_tour { Ok(()) } else { tour(&arguments.folder) }
}

fn tour(folder: &Path) -> Outcome {
    std::env::set_current_dir(folder)?;
    let web = server::start(Path::new("."))?;
    for (sentence, command) in TOUR {
        let command: Vec<String> = command.iter().map(|word| word.replace("WEB", &web)).collect();
        out(format!("\n\n# {sentence}\n$ churn {}\n\n", shown(&command)))?;
        let mut words = vec!["churn".to_owned()];
        words.extend(command.iter().cloned());
        let shows_rows = matches!(command.first().map(String::as_str), Some("do" | "run" | "sql"));
        if shows_rows && !command.iter().any(|word| word == "--as") {
            words.extend(["--as".to_owned(), "table".to_owned()]);
        }
        let parsed = Arguments::try_parse_from(words).map_err(|e| Failure::Request(e.to_string()))?;
        match super::run(parsed.command) {
            Ok(()) => {}
            Err(Failure::Churn(error)) => note(error),
            Err(other) => return Err(other),
        }
    }
    out(format!("\n\nThe data are in {}. churn help steps lists what else there is.\n", folder.display()))
}

/// The command as it is typed in a shell.
fn shown(command: &[String]) -> String {
    let word = |word: &String| {
        let plain = word.chars().all(|c| c.is_ascii_alphanumeric() || "-_./=".contains(c));
        if plain { word.clone() } else { format!("\"{word}\"") }
    };
    let words: Vec<String> = command.iter().map(word).collect();
    let line = words.join(" ");
    if line.chars().count() <= 96 { line } else { words.join(" \\\n    ") }
}
