//! Pictures as they were looked at: a change of more than a few pixels is to be looked at again.
//!
//! `CHURN_GOLDEN=new cargo test --test draw golden` draws them anew.

use std::path::Path;

use churn::RunOptions;
use rstest::rstest;
use tiny_skia::Pixmap;

use super::milk;

/// Pixels that may differ by much, of a thousand.
const FEW: usize = 4;

#[rstest]
#[case("histogram", "histogram litres by grade")]
#[case("bars", "bars litres over id by grade with (stacked = true, unit = 'l')")]
#[case("lines", "lines litres over day by farm with (ground = dark)")]
#[case("area", "area litres over day by farm")]
#[case("points", "points protein over litres by id")]
#[case("box", "box litres over farm")]
#[case("heat", "heat litres over day by farm")]
#[case("panels", "lines litres, protein over day panels by farm")]
fn pictures_are_as_they_were(#[case] name: &str, #[case] chart: &str) {
    let plan = milk().then(&format!("draw {chart}")).plan().unwrap();
    let png = plan.chart_with(&RunOptions::new()).unwrap().size(480, 320).png(1.0).unwrap();
    let path = Path::new("tests/draw/golden").join(format!("{name}.png"));
    if std::env::var_os("CHURN_GOLDEN").is_some_and(|value| value == "new") {
        std::fs::create_dir_all("tests/draw/golden").unwrap();
        std::fs::write(&path, &png).unwrap();
    }
    let (now, before) = (Pixmap::decode_png(&png).unwrap(), Pixmap::load_png(&path).unwrap());
    assert_eq!((now.width(), now.height()), (before.width(), before.height()));
    let differs = |(a, b): (&tiny_skia::PremultipliedColorU8, &tiny_skia::PremultipliedColorU8)| {
        let far = |a: u8, b: u8| a.abs_diff(b) > 24;
        far(a.red(), b.red()) || far(a.green(), b.green()) || far(a.blue(), b.blue())
    };
    let differ = now.pixels().iter().zip(before.pixels()).filter(|pair| differs(*pair)).count();
    assert!(differ * 1000 <= now.pixels().len() * FEW, "{differ} of {} pixels differ", now.pixels().len());
}
