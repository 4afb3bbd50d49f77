//! What charts are given out as: SVG that parses and tells what it is, PNG of the size that was asked for, characters that fit.

use churn::{Chart, Flow, RunOptions, Screen};
use rstest::rstest;

use super::milk;

const CHARTS: [&str; 12] = [
    "histogram litres by grade",
    "bars litres over id",
    "bars litres over id by grade with (labels = true)",
    "bars litres, protein over id panels by grade",
    "lines litres over day by farm",
    "lines protein over farm by day",
    "area litres over day by farm",
    "points protein over litres by id",
    "points protein over litres with (labels = farm)",
    "box litres over farm by grade",
    "heat litres over day by farm with (labels = true, ground = dark)",
    "points protein over litres panels by farm, grade with (log = both)",
];

fn chart(text: &str) -> Chart {
    let plan = milk().then(&format!("draw {text}")).plan().unwrap_or_else(|e| panic!("{e}"));
    plan.chart_with(&RunOptions::new()).unwrap_or_else(|e| panic!("{text}: {e}"))
}

#[rstest]
fn svg_parses_and_tells_what_it_shows(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11)] which: usize) {
    let chart = chart(CHARTS[which]);
    let svg = chart.svg();
    let mut reader = quick_xml::Reader::from_str(&svg);
    reader.config_mut().check_end_names = true;
    loop {
        let event = reader.read_event().unwrap_or_else(|e| panic!("{e}\n{svg}"));
        if event == quick_xml::events::Event::Eof {
            break;
        }
    }
    assert!(svg.starts_with("<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"960\" height=\"600\""));
    assert!(svg.contains("role=\"img\"") && svg.contains("<desc>") && svg.contains("<title>"));
    assert!(!svg.contains("NaN") && !svg.contains("inf"), "{svg}");
    assert!(!chart.description().is_empty());
}

/// The same bytes on any number of threads and in any size of blocks.
#[rstest]
fn charts_do_not_rest_on_threads(#[values(0, 4, 7, 9, 10)] which: usize) {
    let folder = tempfile::tempdir().unwrap();
    milk().write(folder.path().join("milk.csv")).unwrap();
    let flow = Flow::read("milk.csv").in_folder(folder.path()).then(&format!("draw {}", CHARTS[which]));
    let of = |threads: usize, bytes: usize| {
        let options = RunOptions::new().threads(threads).block_bytes(bytes);
        flow.plan().unwrap().chart_with(&options).unwrap().svg()
    };
    let first = of(1, 1 << 20);
    for (threads, bytes) in [(2, 1 << 20), (1, 64), (3, 64)] {
        assert_eq!(first, of(threads, bytes));
    }
}

#[rstest]
#[case(320, 240, 1.0)]
#[case(960, 600, 2.0)]
fn png_has_its_size(#[case] width: u32, #[case] height: u32, #[case] dots: f64) {
    let bytes = chart(CHARTS[0]).size(width, height).png(dots).unwrap();
    assert!(bytes.starts_with(b"\x89PNG\r\n\x1a\n"));
    let number = |at: usize| u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap());
    assert_eq!(
        (number(16), number(20)),
        ((f64::from(width) * dots) as u32, (f64::from(height) * dots) as u32)
    );
}

#[rstest]
fn characters_fit_the_screen(
    #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11)] which: usize,
    #[values(40, 80, 120)] width: usize,
    #[values(false, true)] has_colours: bool,
    #[values(false, true)] is_ascii: bool,
) {
    let text = chart(CHARTS[which]).text(Screen { width, height: 12, has_colours, is_ascii });
    for line in text.lines() {
        let mut is_code = false;
        let bare: String = line
            .chars()
            .filter(|c| {
                let is_part = is_code || *c == '\u{1b}';
                is_code = is_part && *c != 'm';
                !is_part
            })
            .collect();
        assert!(bare.chars().count() <= width, "{} columns: {bare}", bare.chars().count());
        assert!(has_colours || !line.contains('\u{1b}'));
        assert!(!is_ascii || bare.is_ascii(), "{bare}");
    }
}

/// Texts of rows stay texts, whatever they hold.
#[test]
fn texts_cannot_become_markup() {
    let flow = Flow::steps("values farm, n: ('</text><script>alert(1)</script>', 1), ('\"a&b''', 2)")
        .then("draw bars n over farm with (title = '<b>', labels = true)");
    let chart = flow.plan().unwrap().chart_with(&RunOptions::new()).unwrap();
    let svg = chart.svg();
    assert!(!svg.contains("<script") && !svg.contains("<b>"), "{svg}");
    assert!(svg.contains("&lt;script&gt;"), "{svg}");
    let controls = Flow::steps("values n: (1)").select("n, farm = 'a\u{7}b' || chr(27) || '[31m'");
    if let Ok(plan) = controls.then("draw bars n over farm").plan() {
        let text = plan.chart_with(&RunOptions::new()).unwrap().to_string();
        assert!(!text.contains(['\u{7}', '\u{1b}']), "{text:?}");
    }
}

/// The parts of an axis of a day, and of 300 years, of one value, and of labels of 500 letters.
#[rstest]
#[case("values d, n: (date '2026-03-01', 1)", "lines n over d")]
#[case("values d, n: (date '1726-03-01', 1), (date '2026-03-01', 3)", "lines n over d")]
#[case(
    "values d, n: (timestamp '2026-03-01 06:00', 1), (timestamp '2026-03-01 06:01', 3)",
    "points n over d"
)]
#[case("values n: (5), (5)", "histogram n")]
#[case("values n: (1e300), (-1e300)", "histogram n")]
#[case("values n: (1e-300), (2e-300)", "histogram n")]
#[case("values n: (0.0)", "box n")]
#[case("values d: (date '2026-03-01'), (date '9999-12-31'), (date '0001-01-01')", "histogram d")]
#[case("values d: (time '06:00'), (time '06:00:01')", "histogram d")]
#[case("values n, m: (1, 1), (1, 1)", "points n over m")]
fn narrow_and_wide_axes_can_be_read(#[case] table: &str, #[case] chart: &str) {
    let plan = Flow::steps(table).then(&format!("draw {chart}")).plan().unwrap_or_else(|e| panic!("{e}"));
    let chart = plan.chart_with(&RunOptions::new()).unwrap_or_else(|e| panic!("{e}"));
    let svg = chart.svg();
    assert!(!svg.contains("NaN") && !svg.contains("inf"), "{svg}");
    // Axes have marks: more texts than the title, the headings and the captions.
    assert!(svg.matches("<text").count() >= 5, "{svg}");
    assert!(chart.png(1.0).is_ok() && !chart.to_string().is_empty());
}

#[test]
fn long_labels_are_cut() {
    let flow =
        Flow::steps("values n: (1), (2)").add("farm = repeat_text('long name ', 50) || cast(n as text)");
    let chart =
        flow.then("draw bars n over farm by farm").plan().unwrap().chart_with(&RunOptions::new()).unwrap();
    let svg = chart.svg();
    let texts: Vec<&str> =
        svg.split("<text").skip(1).filter_map(|text| text.split(['>', '<']).nth(1)).collect();
    assert!(texts.iter().all(|text| text.chars().count() < 150), "{texts:?}");
    assert!(chart.to_string().lines().all(|line| line.chars().count() <= 80));
}
