//! Parts of the page that several sections use: tables of rows, bars, times.

use churn_core::Scalar;
use churn_core::readable::{grouped, plural, shown};
use churn_draw::text::escaped;

use super::ReportRows;
use crate::profile::{Bin, ColumnProfile, Profile};

/// A time as people read it.
pub(super) fn seconds(time: f64) -> String {
    match time {
        time if time < 0.001 => "under 1 ms".to_owned(),
        time if time < 1.0 => format!("{:.0} ms", time * 1e3),
        time if time < 100.0 => format!("{time:.1} s"),
        time => format!("{:.0} min {:.0} s", (time / 60.0).floor(), time % 60.0),
    }
}

/// A bar of a share of the longest, told in words as well.
pub(super) fn bar(value: f64, most: f64, what: &str) -> String {
    let share = if most > 0.0 { (value / most * 100.0).clamp(0.0, 100.0) } else { 0.0 };
    format!(
        "<div class=\"share\" role=\"img\" aria-label=\"{what}: {share:.0} %\"><div style=\"width:{share:.1}%\"></div></div>"
    )
}

/// Whether values of a type stand at the right.
fn is_number(kind: &str) -> bool {
    ["int", "float", "decimal"].iter().any(|number| kind.starts_with(number))
}

/// A table with its first rows.
pub(super) fn rows(rows: &ReportRows) -> String {
    let class = |kind: &str| if is_number(kind) { " class=\"number\"" } else { "" };
    let heads: String = rows
        .columns
        .iter()
        .map(|(name, kind)| {
            format!("<th{}>{}<br><small>{}</small></th>", class(kind), escaped(name), escaped(kind))
        })
        .collect();
    let line = |row: &Vec<Option<String>>| {
        let cell = |(cell, (_, kind)): (&Option<String>, &(String, String))| match cell {
            Some(text) => format!("<td{}>{}</td>", class(kind), escaped(text)),
            None => format!("<td{}><span class=\"null\">null</span></td>", class(kind)),
        };
        format!("<tr>{}</tr>\n", row.iter().zip(&rows.columns).map(cell).collect::<String>())
    };
    let shown = rows.rows.len() as u64;
    let told = if shown < rows.total {
        format!("The first {} of {}.", grouped(shown), plural(rows.total, "row"))
    } else {
        format!("{}.", plural(rows.total, "row"))
    };
    format!(
        "<p>{told}</p>\n<div class=\"wide\"><table>\n<thead><tr>{heads}</tr></thead>\n<tbody>\n{}</tbody>\n</table></div>\n",
        rows.rows.iter().map(line).collect::<String>()
    )
}

/// The columns of a profile, a line each.
pub(super) fn profile(profile: &Profile) -> String {
    let line = |column: &ColumnProfile| {
        let distinct = column.distinct.map_or_else(String::new, |count| {
            format!("{}{}", if count.exact { "" } else { "about " }, grouped(count.count))
        });
        let [lower, median, upper] = match &column.quartiles {
            Some(quartiles) => quartiles.values.clone().map(|value| text(&value)),
            None => [String::new(), String::new(), String::new()],
        };
        let frequent: Vec<String> =
            column.frequent.iter().take(3).map(|value| escaped(&text(&value.value))).collect();
        format!(
            "<tr><td>{}<br><small>{}</small></td><td class=\"number\">{}</td><td class=\"number\">{distinct}</td>\
             <td class=\"number\">{}</td><td class=\"number\">{lower}</td><td class=\"number\">{median}</td>\
             <td class=\"number\">{upper}</td><td class=\"number\">{}</td><td class=\"number\">{}</td><td>{}</td><td>{}</td></tr>\n",
            escaped(&column.name),
            escaped(&column.kind.to_string()),
            grouped(column.missing),
            escaped(&text(&column.min)),
            escaped(&text(&column.max)),
            column.mean.map(shown).unwrap_or_default(),
            histogram(&column.histogram),
            frequent.join(", ")
        )
    };
    format!(
        "<p>{}.</p>\n<div class=\"wide\"><table>\n<thead><tr><th>column</th><th class=\"number\">null</th><th class=\"number\">different</th>\
         <th class=\"number\">least</th><th class=\"number\">lower quarter</th><th class=\"number\">median</th>\
         <th class=\"number\">upper quarter</th><th class=\"number\">greatest</th><th class=\"number\">mean</th><th>spread</th>\
         <th>most frequent</th></tr></thead>\n<tbody>\n{}</tbody>\n</table></div>\n",
        plural(profile.rows, "row"),
        profile.columns.iter().map(line).collect::<String>()
    )
}

fn text(value: &Scalar) -> String {
    match value {
        Scalar::Null => String::new(),
        Scalar::Float(value) => shown(*value),
        other => other.plain(),
    }
}

/// A small histogram: a bar for each bin.
fn histogram(bins: &[Bin]) -> String {
    let most = bins.iter().map(|bin| bin.rows).max().unwrap_or(0);
    if most == 0 {
        return String::new();
    }
    let width = 120.0 / bins.len() as f64;
    let bars: String = bins
        .iter()
        .enumerate()
        .map(|(number, bin)| {
            let height = bin.rows as f64 / most as f64 * 26.0;
            let told = format!("{} to {}: {}", text(&bin.from), text(&bin.to), plural(bin.rows, "row"));
            format!(
                "<rect x=\"{:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{height:.1}\"><title>{}</title></rect>",
                width * number as f64,
                26.0 - height,
                (width - 0.6).max(0.4),
                escaped(&told)
            )
        })
        .collect();
    format!(
        "<svg class=\"spread\" width=\"120\" height=\"26\" role=\"img\" aria-label=\"how the values are spread\">{bars}</svg>"
    )
}
