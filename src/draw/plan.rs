//! A plan as a picture: a column of boxes for each chain, from its source to its result, and lines where a step takes the rows
//! of another chain.

use churn_core::names::name;
use churn_draw::colour::{Ground, Palette};
use churn_draw::font::{Weight, lines};
use churn_draw::mark::{Anchor, Mark, Picture, Rect, Words};
use churn_plan::Plan;
use churn_plan::picture::{PlannedStep, steps};

const MARGIN: f64 = 20.0;
/// The width of a box, and pixels between boxes, beside and below each other.
const WIDTH: f64 = 300.0;
const BESIDE: f64 = 56.0;
const BELOW: f64 = 22.0;
/// Room within a box, the size of its letters, and from a line to the next.
const PADDING: f64 = 10.0;
const SIZE: f64 = 12.0;
const LINE: f64 = 16.0;
/// Lines of a step, and of a note.
const MOST_LINES: usize = 12;

/// A box: its step, where it is, the lines in it.
struct Step<'a> {
    planned: PlannedStep<'a>,
    rect: Rect,
    text: Vec<String>,
    notes: Vec<String>,
}

/// Draws a plan.
pub(crate) fn picture(plan: &Plan, ground: Ground) -> Picture {
    let palette = ground.palette();
    let mut columns: Vec<(Option<&str>, Vec<Step<'_>>)> = Vec::new();
    for planned in steps(plan) {
        if columns.last().is_none_or(|(table, _)| *table != planned.table) {
            columns.push((planned.table, Vec::new()));
        }
        let across = MARGIN + (columns.len() - 1) as f64 * (WIDTH + BESIDE);
        if let Some((_, boxes)) = columns.last_mut() {
            let above =
                boxes.last().map_or(MARGIN + LINE + 8.0, |above: &Step<'_>| above.rect.bottom() + BELOW);
            boxes.push(placed(planned, across, above));
        }
    }
    let mut marks = Vec::new();
    links(&columns, palette, &mut marks);
    for (table, boxes) in &columns {
        let heading = table.map_or_else(|| "the result".to_owned(), |table| format!("table {}", name(table)));
        if let Some(first) = boxes.first() {
            let at = [first.rect.x, MARGIN + SIZE];
            marks.push(words(heading, at, Weight::Bold, palette.words));
        }
        boxes.iter().for_each(|step| draw(step, palette, &mut marks));
    }
    let bottom =
        columns.iter().flat_map(|(_, boxes)| boxes).map(|step| step.rect.bottom()).fold(0.0, f64::max);
    let count = columns.iter().map(|(_, boxes)| boxes.len()).sum::<usize>();
    Picture {
        width: MARGIN * 2.0 + columns.len().max(1) as f64 * (WIDTH + BESIDE) - BESIDE,
        height: bottom + MARGIN,
        ground,
        title: "The plan".to_owned(),
        description: format!(
            "{} from sources to the result, in {}.",
            churn_core::readable::plural(count as u64, "step"),
            churn_core::readable::plural(columns.len() as u64, "chain")
        ),
        marks,
    }
}

fn placed(planned: PlannedStep<'_>, x: f64, y: f64) -> Step<'_> {
    let room = WIDTH - 2.0 * PADDING;
    let wrapped = |text: &str| lines(text, SIZE, Weight::Regular, room, MOST_LINES);
    let text: Vec<String> = planned.text.lines().flat_map(&wrapped).take(MOST_LINES).collect();
    let notes: Vec<String> =
        planned.notes.iter().flat_map(|note| wrapped(note.as_str())).take(MOST_LINES).collect();
    let gap = if notes.is_empty() { 0.0 } else { 4.0 };
    let height = (text.len() + notes.len()) as f64 * LINE + gap + 2.0 * PADDING - 4.0;
    Step { planned, rect: Rect { x, y, width: WIDTH, height }, text, notes }
}

fn words(text: String, at: [f64; 2], weight: Weight, colour: churn_draw::colour::Colour) -> Mark {
    Mark::Words(Words { text, at, anchor: Anchor::Start, size: SIZE, weight, colour })
}

fn draw(step: &Step<'_>, palette: &Palette, marks: &mut Vec<Mark>) {
    let Rect { x, y, width, height } = step.rect;
    let line = |from: [f64; 2], to: [f64; 2]| Mark::Line(vec![from, to], palette.axis, 1.0, false);
    marks.push(Mark::Box(step.rect, palette.grid, String::new()));
    marks.push(line([x, y], [x + width, y]));
    marks.push(line([x, y + height], [x + width, y + height]));
    let mut base = y + PADDING + SIZE * 0.75;
    for text in &step.text {
        marks.push(words(text.clone(), [x + PADDING, base], Weight::Regular, palette.words));
        base += LINE;
    }
    base += 4.0;
    for note in &step.notes {
        marks.push(words(note.clone(), [x + PADDING, base], Weight::Regular, palette.quiet));
        base += LINE;
    }
}

/// Lines from each step to the one below it, and from the last steps of other chains to those that take their rows.
fn links(columns: &[(Option<&str>, Vec<Step<'_>>)], palette: &Palette, marks: &mut Vec<Mark>) {
    let line = |points: Vec<[f64; 2]>| Mark::Line(points, palette.axis, 1.4, false);
    let all = || columns.iter().flat_map(|(_, boxes)| boxes);
    for (_, boxes) in columns {
        for pair in boxes.windows(2) {
            let [above, below] = pair else { continue };
            let x = above.rect.x + WIDTH / 2.0;
            marks.push(line(vec![[x, above.rect.bottom()], [x, below.rect.y]]));
            marks.push(arrow([x, below.rect.y], [0.0, 1.0], palette));
        }
    }
    for step in all() {
        for number in &step.planned.takes {
            let Some(from) = all().find(|other| other.planned.number == *number) else { continue };
            let (start, end) = (from.rect.bottom() - 12.0, step.rect.y + 14.0);
            let (right, left) = (from.rect.right(), step.rect.x);
            let bend = if right < left { right + BESIDE / 2.0 } else { left - BESIDE / 2.0 };
            marks.push(line(vec![[right, start], [bend, start], [bend, end], [left, end]]));
            marks.push(arrow([left, end], [1.0, 0.0], palette));
        }
    }
}

/// The head of an arrow that ends at a point and comes from where a direction does.
fn arrow([x, y]: [f64; 2], [across, down]: [f64; 2], palette: &Palette) -> Mark {
    let back = [x - across * 7.0, y - down * 7.0];
    let side = [down * 4.0, across * 4.0];
    Mark::Area(
        vec![[x, y], [back[0] + side[0], back[1] + side[1]], [back[0] - side[0], back[1] - side[1]]],
        palette.axis,
    )
}
