//! A report as a page of HTML that stands alone.
//!
//! All text is escaped; nothing is fetched; folding is the browser's own, so that it works by keyboard and on paper.

use churn_core::readable::{bytes, grouped, plural};
use churn_draw::text::escaped;

use super::parts::{bar, profile, rows, seconds};
use super::style::STYLE;
use super::{Report, ReportChart, ReportOutput, ReportStep};

/// A section: its name in the page, its heading, and what makes it; nothing where there is nothing to tell.
type Section = (&'static str, &'static str, fn(&Report) -> String);

/// The page.
pub(super) fn page(report: &Report) -> String {
    let mut out = String::with_capacity(1 << 16);
    out.push_str("<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n");
    out.push_str("<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n");
    out.push_str("<meta name=\"color-scheme\" content=\"light dark\">\n");
    // Nothing is fetched, whatever a text may hold; the icon is empty so that none is asked for.
    out.push_str(
        "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'; img-src data:\">\n",
    );
    out.push_str("<link rel=\"icon\" href=\"data:,\">\n");
    out.push_str(&format!(
        "<title>{}</title>\n<style>{STYLE}</style>\n</head>\n<body>\n",
        escaped(&report.title)
    ));
    header(report, &mut out);
    out.push_str("<main>\n");
    let sections: [Section; 9] = [
        ("result", "The result", result),
        ("charts", "Charts", charts),
        ("rows", "What became of every row", every_row),
        ("took", "What it took", took),
        ("written", "What was written", written),
        ("columns", "What the columns hold", columns),
        ("plan", "How it ran", plan),
        ("recipe", "The recipe", recipe),
        ("read", "What was read", read),
    ];
    let made: Vec<(&str, &str, String)> = sections
        .into_iter()
        .map(|(id, title, make)| (id, title, make(report)))
        .filter(|(.., content)| !content.is_empty())
        .collect();
    out.push_str("<nav aria-label=\"Sections\">\n");
    for (id, title, _) in &made {
        out.push_str(&format!("<a href=\"#{id}\">{title}</a>\n"));
    }
    out.push_str("</nav>\n");
    for (id, title, content) in made {
        out.push_str(&format!("<section id=\"{id}\">\n<h2>{title}</h2>\n{content}</section>\n"));
    }
    out.push_str(&format!(
        "</main>\n<footer>Written by churn {} on {}.</footer>\n</body>\n</html>\n",
        escaped(report.version),
        escaped(&report.date)
    ));
    out
}

fn header(report: &Report, out: &mut String) {
    let read: u64 =
        report.steps.iter().filter(|step| step.rows_in.is_none()).filter_map(|step| step.rows_out).sum();
    let came = match &report.result {
        Some(result) => format!("{} came out", plural(result.total, "row")),
        None if !report.written.is_empty() => plural(report.written.len() as u64, "file") + " written",
        None => plural(report.charts.len() as u64, "chart") + " drawn",
    };
    out.push_str(&format!(
        "<header>\n<h1>{}</h1>\n<p class=\"date\">{}</p>\n<p>{} read from {}; {came}; {}.</p>\n",
        escaped(&report.title),
        escaped(&report.date),
        plural(read, "row"),
        plural(report.inputs.len() as u64, "file"),
        seconds(report.seconds),
    ));
    if !report.notes.is_empty() {
        out.push_str("<ul class=\"notes\">\n");
        report.notes.iter().for_each(|note| out.push_str(&format!("<li>{}</li>\n", escaped(note))));
        out.push_str("</ul>\n");
    }
    out.push_str("</header>\n");
}

fn result(report: &Report) -> String {
    report.result.as_ref().map(rows).unwrap_or_default()
}

fn charts(report: &Report) -> String {
    let chart = |chart: &ReportChart| {
        let [light, dark] = &chart.svg;
        let file = chart.file.as_ref().map(|file| format!(" <span class=\"file\">{}</span>", escaped(file)));
        format!(
            "<figure>\n<div class=\"light\">{light}</div>\n<div class=\"dark\">{dark}</div>\n<figcaption>{}{}</figcaption>\n</figure>\n",
            escaped(&chart.description),
            file.unwrap_or_default()
        )
    };
    report.charts.iter().map(chart).collect()
}

fn count(rows: Option<u64>) -> String {
    rows.map(grouped).unwrap_or_default()
}

fn every_row(report: &Report) -> String {
    let mut out = String::from(
        "<div class=\"wide\"><table>\n<thead><tr><th>step</th><th class=\"number\">rows in</th><th class=\"number\">rows out</th>\
         <th>what happened</th></tr></thead>\n<tbody>\n",
    );
    let mut table: Option<&String> = None;
    for step in &report.steps {
        if step.table.as_ref() != table {
            let name =
                step.table.as_ref().map_or_else(|| "the result".to_owned(), |name| format!("table {name}"));
            out.push_str(&format!("<tr class=\"table\"><th colspan=\"4\">{}</th></tr>\n", escaped(&name)));
        }
        table = step.table.as_ref();
        let mut happened: Vec<String> = step.happened.iter().map(|what| escaped(what)).collect();
        let example = |example: &String| format!("<small>such as {}</small>", escaped(example));
        happened.extend(step.examples.iter().map(example));
        out.push_str(&format!(
            "<tr><td><pre>{}</pre></td><td class=\"number\">{}</td><td class=\"number\">{}</td><td>{}</td></tr>\n",
            escaped(&step.step),
            count(step.rows_in),
            count(step.rows_out),
            happened.join("<br>")
        ));
    }
    out.push_str("</tbody>\n</table></div>\n");
    out
}

fn took(report: &Report) -> String {
    let longest = report.steps.iter().map(|step| step.seconds).fold(0.0, f64::max);
    let most = report.steps.iter().filter_map(|step| step.rows_out).max().unwrap_or(0);
    let line = |step: &ReportStep| {
        let first = step.step.lines().next().unwrap_or_default();
        format!(
            "<tr><td><code>{}</code></td><td class=\"bar\">{}</td><td class=\"number\">{}</td><td class=\"bar\">{}</td>\
             <td class=\"number\">{}</td></tr>\n",
            escaped(first),
            bar(step.seconds, longest, "time"),
            seconds(step.seconds),
            bar(step.rows_out.unwrap_or(0) as f64, most as f64, "rows"),
            count(step.rows_out)
        )
    };
    let lines: String = report.steps.iter().map(line).collect();
    let spilled = match report.spilled {
        0 => "Nothing was put on disk.".to_owned(),
        spilled => format!("{} of rows were put on disk, since they did not fit.", bytes(spilled)),
    };
    format!(
        "<p>{} on {}. Steps that hold rows held {} at most, of {} that they were given. {spilled}</p>\n{}\n\
         <div class=\"wide\"><table>\n<thead><tr><th>step</th><th colspan=\"2\">time of all threads together</th>\
         <th colspan=\"2\">rows out</th></tr></thead>\n<tbody>\n{lines}</tbody>\n</table></div>\n",
        seconds(report.seconds),
        plural(report.threads as u64, "thread"),
        bytes(report.most_held),
        bytes(report.memory),
        bar(report.most_held as f64, report.memory as f64, "memory held of the budget"),
    )
}

fn written(report: &Report) -> String {
    let output = |output: &ReportOutput| {
        let size = output.bytes.map(|size| format!(", {}", bytes(size))).unwrap_or_default();
        let table = output.rows.as_ref().map(rows).unwrap_or_default();
        format!(
            "<details open><summary><code>{}</code>{size}</summary>\n{table}</details>\n",
            escaped(&output.path)
        )
    };
    report.written.iter().map(output).collect()
}

fn columns(report: &Report) -> String {
    report.profile.as_ref().map(profile).unwrap_or_default()
}

fn plan(report: &Report) -> String {
    let [light, dark] = &report.plan;
    let rewrites = match report.rewrites.as_slice() {
        [] => "Nothing was rewritten.".to_owned(),
        some => format!("Rewrites: {}.", escaped(&some.join(", "))),
    };
    format!(
        "<p>{rewrites}</p>\n<div class=\"wide\"><div class=\"light\">{light}</div>\n<div class=\"dark\">{dark}</div></div>\n"
    )
}

fn recipe(report: &Report) -> String {
    let given: String = report
        .given
        .iter()
        .map(|(name, value)| format!("<li><code>{} = {}</code></li>\n", escaped(name), escaped(value)))
        .collect();
    let given = if given.is_empty() { String::new() } else { format!("<p>Given:</p>\n<ul>\n{given}</ul>\n") };
    format!("<pre class=\"recipe\">{}</pre>\n{given}", escaped(&report.recipe))
}

fn read(report: &Report) -> String {
    if report.inputs.is_empty() {
        return String::new();
    }
    let has_digests = report.inputs.iter().any(|input| input.digest.is_some());
    let lines: String = report
        .inputs
        .iter()
        .map(|input| {
            let digest =
                input.digest.as_ref().map(|digest| format!("<td><code>{}</code></td>", escaped(digest)));
            format!(
                "<tr><td><code>{}</code></td><td class=\"number\">{}</td><td>{}</td>{}</tr>\n",
                escaped(&input.path),
                input.bytes.map(bytes).unwrap_or_default(),
                escaped(input.modified.as_deref().unwrap_or_default()),
                digest.unwrap_or_default()
            )
        })
        .collect();
    let digest = if has_digests { "<th>SHA-256</th>" } else { "" };
    format!(
        "<div class=\"wide\"><table>\n<thead><tr><th>file</th><th class=\"number\">size</th><th>changed (UTC)</th>{digest}</tr></thead>\n\
         <tbody>\n{lines}</tbody>\n</table></div>\n"
    )
}
