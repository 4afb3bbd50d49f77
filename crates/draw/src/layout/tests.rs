//! Labels lie within the picture and cover neither each other nor, in plots, the frame's outside, whatever the figures are.

use proptest::prelude::*;

use super::picture;
use crate::colour::Ground;
use crate::figure::*;
use crate::mark::{Mark, Rect, Words};
use crate::scale::{Measure, Range};

fn name() -> impl Strategy<Value = String> {
    prop_oneof![
        3 => "[A-Za-z]{1,12}",
        1 => Just("2026-03-01".to_owned()),
        1 => Just("a rather long name of a district that goes on and on".to_owned()),
        1 => "[^\\p{Cc}]{0,20}",
    ]
}

fn range() -> impl Strategy<Value = Range> {
    let measure = prop::sample::select(vec![Measure::Number, Measure::Date, Measure::Moment]);
    (measure, -1e5f64..1e5, 1e-3f64..1e5)
        .prop_map(|(measure, from, length)| Range::over(measure, from, from + length))
}

fn axis() -> impl Strategy<Value = Axis> {
    let keys = (prop::collection::vec(name(), 1..70), any::<bool>())
        .prop_map(|(names, are_ordered)| Extent::Keys { names, are_ordered });
    let extent = prop_oneof![keys, range().prop_map(Extent::Range)];
    (name(), prop_oneof![Just(String::new()), Just("l".to_owned())], extent)
        .prop_map(|(title, unit, extent)| Axis { title, unit, extent })
}

fn measure() -> impl Strategy<Value = Axis> {
    (name(), range()).prop_map(|(title, range)| Axis {
        title,
        unit: String::new(),
        extent: Extent::Range(range),
    })
}

/// Bars of each key, or between numbers.
fn bars(along: &Axis, measure: &Axis) -> Shape {
    let Extent::Range(values) = &measure.extent else { return Shape::Bars(Vec::new()) };
    let places: Vec<Place> = match &along.extent {
        Extent::Keys { names, .. } => (0..names.len()).map(Place::Key).collect(),
        Extent::Range(range) => {
            let at = |n: i32| range.from + (range.to - range.from) * f64::from(n) / 10.0;
            (0..10).map(|n| Place::Between(at(n), at(n + 1))).collect()
        }
    };
    let bar = |(n, at): (usize, Place)| {
        let to = values.from + (values.to - values.from) * ((n * 7) % 11) as f64 / 10.0;
        Bar { at, from: values.from, to }
    };
    Shape::Bars(places.into_iter().enumerate().map(bar).collect())
}

fn figure() -> impl Strategy<Value = Figure> {
    let parts =
        (name(), axis(), prop::collection::vec(measure(), 1..3), prop::collection::vec(name(), 0..13));
    (parts, 1usize..13, any::<bool>(), prop::collection::vec(name(), 0..3)).prop_map(
        |((title, along, measures, colours), panels, has_labels, captions)| {
            let series = |measure: &Axis| {
                (0..colours.len().max(1))
                    .map(|colour| Series { colour, shape: bars(&along, measure) })
                    .collect()
            };
            let panel = |number: usize| Panel {
                name: if panels > 1 { format!("panel {number}") } else { String::new() },
                strips: measures.iter().map(series).collect(),
            };
            Figure {
                kind: "bars",
                title,
                source: String::new(),
                captions,
                panels: (0..panels).map(panel).collect(),
                colours: if colours.is_empty() {
                    Colours::One
                } else {
                    Colours::Keys { title: "district".into(), names: colours.clone() }
                },
                is_grouped: true,
                has_labels,
                grid: None,
                along,
                measures,
            }
        },
    )
}

fn texts(marks: &[Mark]) -> Vec<&Words> {
    marks.iter().filter_map(|mark| if let Mark::Words(words) = mark { Some(words) } else { None }).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn labels_lie_within_and_apart(figure in figure(), width in 480u32..1600, height in 360u32..1000) {
        let picture = picture(&figure, [width, height], Ground::Light);
        let page = Rect { x: 0.0, y: 0.0, width: f64::from(width), height: f64::from(height) };
        let words: Vec<&Words> = texts(&picture.marks).into_iter().filter(|words| !words.text.trim().is_empty()).collect();
        for own in &words {
            let room = own.room();
            prop_assert!(
                room.x >= -1.0 && room.right() <= page.right() + 1.0 && room.y >= -1.0 && room.bottom() <= page.bottom() + 1.0,
                "{:?} lies at {:?}", own.text, room
            );
        }
        // Where panels are too small for their labels, these may meet; otherwise never.
        let is_roomy = figure.panels.len() * figure.measures.len() <= 4 && height >= 480 && width >= 720;
        for (place, a) in words.iter().enumerate().filter(|_| is_roomy) {
            for b in &words[..place] {
                let (mine, other) = (a.room(), b.room());
                // What a letter's foot takes is no overlap that is seen.
                let mine = Rect { x: mine.x + 1.0, y: mine.y + 1.5, width: mine.width - 2.0, height: mine.height - 3.0 };
                prop_assert!(!mine.overlaps(&other), "{:?} at {:?} covers {:?} at {:?}", a.text, a.room(), b.text, other);
            }
        }
    }

    #[test]
    fn the_same_figure_is_the_same_picture(figure in figure()) {
        let of = || crate::svg::write(&picture(&figure, [960, 600], Ground::Dark));
        prop_assert_eq!(of(), of());
    }
}
