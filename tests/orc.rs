//! ORC files: those that another program wrote, of every compression and type, skipped by statistics; and damaged ones.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use churn::{Flow, RunOptions, Scalar, Table};
use rstest::rstest;

/// Files that `make.py` in the folder wrote.
fn data() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/orc")
}

fn run(folder: &Path, recipe: &str) -> churn::Result<Table> {
    Flow::recipe(recipe).in_folder(folder).run_with(&RunOptions::new().threads(2))
}

fn cells(table: &Table, row: usize) -> String {
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let cell = |name: &String| match table.value(row, name).unwrap() {
        Scalar::Null => "·".to_owned(),
        value => value.plain(),
    };
    names.iter().map(cell).collect::<Vec<_>>().join(" | ")
}

#[rstest]
fn files_of_another_program_are_read(
    #[values("none", "zlib", "snappy", "lz4", "zstd")] packing: &str,
    #[values(1, 3)] threads: usize,
) {
    let flow = Flow::recipe(&format!("read '{packing}.orc'")).in_folder(data());
    let table = flow.run_with(&RunOptions::new().threads(threads)).unwrap();
    assert_eq!(table.len(), 500);
    let kinds: Vec<String> = table.columns().map(|(name, kind)| format!("{name} {kind}")).collect();
    assert_eq!(
        kinds.join(", "),
        "farm text, litres int, fat float, fine bool, day date, at timestamp, worth decimal(10, 2), small int, ratio float, \
         tank.name text, tank.degrees int, samples list(int)"
    );
    assert_eq!(
        cells(&table, 2),
        "F002 | -4996 | 0.25 | false | 2026-01-03 | 2026-01-01 06:02:02.000002 | -0.76 | -48 | 0.5 | T2 | -1 | [2, 2]"
    );
    assert_eq!(
        cells(&table, 499),
        "F014 | 244001 | 62.375 | false | 2026-04-10 | 2026-01-01 14:27:19.000499 | 34.03 | 49 | 124.75 | T4 | 1 | [2, 1]"
    );
    let nulls: usize = (0..500).filter(|row| table.value(*row, "litres").unwrap() == Scalar::Null).count();
    assert_eq!(nulls, (0..500).filter(|n| (n + 1) % 29 == 0).count());
}

#[rstest]
#[case::some_columns(
    "read 'stripes.orc'\ntotal: n = count(), s = sum(small), f = count(farm)",
    "6000 | -2913 | 5793"
)]
#[case::within_a_record(
    "read 'stripes.orc'\ngroup by t = \"tank.name\": n = count()\nsort t\nfirst 2",
    "T0 | 1158"
)]
#[case::no_column("read 'stripes.orc'\ntotal: n = count()", "6000")]
#[case::a_list("read 'zlib.orc'\nunnest samples\ntotal: s = sum(samples)", "1924")]
#[case::without_rows("read 'empty.orc'\ntotal: n = count(farm)", "0")]
#[case::of_a_folder(
    "read 'z*.orc' with (file_column = 'file')\ngroup by file: n = count()",
    "zlib.orc | 500"
)]
fn answers(#[case] recipe: &str, #[case] expected: &str) {
    assert_eq!(cells(&run(&data(), recipe).unwrap(), 0), expected);
}

/// Stripes that cannot hold a row of the answer are not read, and counted; the answer is that of all rows.
#[rstest]
#[case::int("litres > 30000000", 5000)]
#[case::int_and_float("litres > 10000 and fat < 20", 5500)]
#[case::date("day > date '2027-02-04'", 6000)]
#[case::a_date_within("day >= date '2027-02-04'", 0)]
#[case::text("farm < 'E'", 6000)]
#[case::one_value("litres = 100", 5500)]
#[case::open_above("fat > 700", 0)]
fn stripes_are_skipped_by_statistics(#[case] condition: &str, #[case] skipped: u64) {
    let of =
        |read: &str| run(&data(), &format!("{read}\nfilter {condition}\nselect farm, litres, at")).unwrap();
    let (table, whole) = (of("read 'stripes.orc'"), of("read 'stripes.orc'\nsort at"));
    assert_eq!(table.ledger().total(churn::Event::Skipped), skipped, "{}", table.ledger());
    let sorted = |table: &Table| {
        let mut rows: Vec<String> = (0..table.len()).map(|row| cells(table, row)).collect();
        rows.sort();
        rows
    };
    assert_eq!(sorted(&table), sorted(&whole));
}

/// What is cut short or has a wrong byte is told or read; nothing panics, and nothing makes room for what is not there.
#[rstest]
fn damaged_files_are_told(#[values("zlib.orc", "stripes.orc", "lz4.orc")] name: &str) {
    let whole = fs::read(data().join(name)).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let read = |bytes: &[u8]| {
        fs::write(folder.path().join("t.orc"), bytes).unwrap();
        run(folder.path(), "read 't.orc'")
    };
    for length in (0..whole.len()).step_by(whole.len() / 40) {
        let error = read(&whole[..length]).unwrap_err().to_string();
        assert!(error.contains("t.orc"), "{error}");
    }
    let start = whole.len() - whole.len().min(1500);
    let places = (0..whole.len()).step_by(whole.len() / 60).chain((start..whole.len()).step_by(7));
    for place in places {
        for byte in [0xff, whole[place] ^ 1, whole[place] ^ 0x80] {
            let mut bytes = whole.clone();
            bytes[place] = byte;
            if let Err(error) = read(&bytes) {
                assert!(error.to_string().contains("t.orc"), "{error}");
            }
        }
    }
}

#[test]
fn what_is_called_so_and_is_not_is_told() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.orc"), "farm,litres\nF1,2\n").unwrap();
    let error = run(folder.path(), "read 't.orc'").unwrap_err().to_string();
    assert!(error.contains("The ORC file cannot be read."), "{error}");
    fs::copy(data().join("zlib.orc"), folder.path().join("t")).unwrap();
    assert_eq!(run(folder.path(), "read 't'").unwrap().len(), 500);
}

const VALUES: &str = "values farm, litres, day, at, good
  'F1', 1.5, date '2026-01-31', timestamp '2026-01-31 06:30:00.000001', true
  'Höfe, 2', null, null, null, null
  null, -0.0, date '1969-12-31', timestamp '1960-01-01 00:00:00.25', false
add n = 9007199254740993, day2 = cast(day as timestamp)\n";

#[rstest]
fn our_files_read_back(#[values("none", "deflate", "snappy", "lz4", "zstd")] compression: &str) {
    let folder = tempfile::tempdir().unwrap();
    let recipe = format!("{VALUES}write 'out.orc' with (compression = {compression})");
    let written = run(folder.path(), &recipe).unwrap();
    let again = run(folder.path(), "read 'out.orc'").unwrap();
    for row in 0..3 {
        assert_eq!(cells(&again, row), cells(&written, row));
    }
    let types = |table: &Table| table.columns().map(|(n, t)| format!("{n} {t}")).collect::<Vec<_>>();
    assert_eq!(types(&again), types(&written));
    let bytes = fs::read(folder.path().join("out.orc")).unwrap();
    run(folder.path(), &recipe).unwrap();
    assert!(fs::read(folder.path().join("out.orc")).unwrap() == bytes, "the same rows, the same bytes");
}

#[test]
fn no_row_makes_a_file_too() {
    let folder = tempfile::tempdir().unwrap();
    run(folder.path(), &format!("{VALUES}filter false\nwrite 'out.orc'")).unwrap();
    let table = run(folder.path(), "read 'out.orc'").unwrap();
    assert_eq!((table.len(), table.columns().count()), (0, 7));
}

#[rstest]
#[case::decimal(
    "add p = cast(litres as decimal(6, 2))",
    "without values of type decimal(6, 2), and p has them"
)]
#[case::list("add t = parts(farm, ' ')", "without values of type list(text), and t has them")]
#[case::time("add \"t t\" = time '06:30:00'", "without values of type time, and \"t t\" has them")]
#[case::nulls("add x = null", "without values of type null, and x has them")]
#[case::interval("add i = interval '1' day", "without values of type interval, and i has them")]
fn what_orc_does_not_hold_is_told(#[case] step: &str, #[case] told: &str) {
    let folder = tempfile::tempdir().unwrap();
    let error = run(folder.path(), &format!("{VALUES}{step}\nwrite 'out.orc'")).unwrap_err().to_string();
    assert!(error.contains(told) && error.contains("Write a Parquet file, or another type"), "{error}");
    assert!(fs::read_dir(folder.path()).unwrap().next().is_none());
}

/// What another program prints, run in a folder; `None` if it is not here, which is told.
fn python(folder: &Path, script: &str) -> Option<String> {
    let Some(python) = std::env::var_os("CHURN_PYTHON") else {
        eprintln!("skipped: CHURN_PYTHON is not set, see .ci/python");
        return None;
    };
    let told = Command::new(python).args(["-c", script]).current_dir(folder).output().unwrap();
    assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
    Some(String::from_utf8(told.stdout).unwrap())
}

/// What we write is read by another program as it was meant: three rows as they stand (it gives all timestamps a zone), and many in
/// several stripes.
#[rstest]
fn our_files_are_read_by_another_program(
    #[values("none", "deflate", "snappy", "lz4", "zstd")] compression: &str,
) {
    let folder = tempfile::tempdir().unwrap();
    let with = format!("with (compression = {compression})");
    run(folder.path(), &format!("{VALUES}write 'few.orc' {with}")).unwrap();
    let lines: Vec<String> = (0..490_000).map(|n| n.to_string()).collect();
    fs::write(folder.path().join("n.csv"), format!("n\n{}\n", lines.join("\n"))).unwrap();
    let steps = "add farm = 'F' || cast(n as text) || '-of-the-cooperative-of-the-valley', x = n / 4";
    let table = run(folder.path(), &format!("read 'n.csv'\n{steps}\nwrite 'many.orc' {with}")).unwrap();
    let script = "import pyorc, datetime\n\
        for row in pyorc.Reader(open('few.orc', 'rb')): print(*row, sep='|')\n\
        many = pyorc.Reader(open('many.orc', 'rb'))\n\
        rows = list(many)\n\
        print(many.num_of_stripes > 1, len(rows), sum(r[0] for r in rows), sum(r[2] for r in rows), rows[-1][1][:7])";
    let Some(told) = python(folder.path(), script) else { return };
    let lines: Vec<&str> = told.lines().collect();
    assert_eq!(
        lines[..3],
        [
            "F1|1.5|2026-01-31|2026-01-31 06:30:00.000001+00:00|True|9007199254740993|2026-01-31 00:00:00+00:00",
            "Höfe, 2|None|None|None|None|9007199254740993|None",
            "None|-0.0|1969-12-31|1960-01-01 00:00:00.250000+00:00|False|9007199254740993|1969-12-31 00:00:00+00:00",
        ]
    );
    assert_eq!(table.len(), 490_000);
    assert_eq!(lines[3], "True 490000 120049755000 30012438750.0 F489999");
}

/// Many rows that another program writes now are read as it meant them.
#[test]
fn another_program_writes_what_is_read() {
    let folder = tempfile::tempdir().unwrap();
    let script = "import pyorc, random\nrandom.seed(7)\nn = 200000\n\
        rows = [(random.choice(['ä', None, 'F%d' % random.randrange(3000)]), random.randrange(-2**62, 2**62), \
        random.random()) for _ in range(n)]\n\
        with open('t.orc', 'wb') as f:\n    with pyorc.Writer(f, 'struct<farm:string,n:bigint,x:double>', \
        stripe_size=1<<20) as w:\n        w.writerows(rows)\n\
        print(sum(1 for r in rows if r[0] is not None), len({r[0] for r in rows}) - 1, max(r[1] for r in rows), \
        min(r[1] for r in rows), repr(max(r[2] for r in rows)))";
    let Some(told) = python(folder.path(), script) else { return };
    let recipe =
        "read 't.orc'\ntotal: c = count(farm), d = count_distinct(farm), m = max(n), l = min(n), x = max(x)";
    let found = cells(&run(folder.path(), recipe).unwrap(), 0).replace(" | ", " ");
    assert_eq!(found, told.trim());
}
