//! How the page looks: light and dark as the reader has it, narrow and wide, on paper.

/// The style of the page.
pub(super) const STYLE: &str = "
:root { --ground: #fcfcfa; --words: #22262b; --quiet: #5c646c; --line: #d9dad6; --panel: #f1f1ee; --mark: #514295; }
@media (prefers-color-scheme: dark) {
  :root { --ground: #15181c; --words: #e8eaec; --quiet: #a2a9b0; --line: #363c43; --panel: #1e2227; --mark: #7e6cd9; }
  .light { display: none; }
}
@media not (prefers-color-scheme: dark) { .dark { display: none; } }
* { box-sizing: border-box; }
body { margin: 0 auto; max-width: 76rem; padding: 1.5rem; background: var(--ground); color: var(--words);
  font: 15px/1.5 'Noto Sans', system-ui, sans-serif; }
h1 { font-size: 1.7rem; margin: 0; line-height: 1.25; }
h2 { font-size: 1.15rem; margin: 2.2rem 0 .6rem; }
p { margin: .4rem 0; }
a { color: inherit; }
a:focus-visible, summary:focus-visible, .wide:focus-visible { outline: 3px solid var(--mark); outline-offset: 2px; }
.date, small, figcaption, footer, .file { color: var(--quiet); }
.notes { margin: .8rem 0; padding: .6rem 1rem .6rem 2rem; border-left: 4px solid var(--mark); background: var(--panel); }
nav { display: flex; flex-wrap: wrap; gap: .3rem 1rem; margin: 1rem 0; padding: .6rem 0; border-top: 1px solid var(--line);
  border-bottom: 1px solid var(--line); }
.wide { overflow-x: auto; }
table { border-collapse: collapse; font-size: .9rem; }
th, td { padding: .3rem .7rem .3rem 0; text-align: left; vertical-align: top; border-bottom: 1px solid var(--line); }
th { font-weight: 600; }
th small { font-weight: 400; }
tr.table th { padding-top: 1rem; }
.number { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
.null { color: var(--quiet); font-style: italic; }
pre, code { font: .85rem/1.45 ui-monospace, 'Noto Sans Mono', monospace; }
pre { margin: 0; white-space: pre-wrap; overflow-wrap: anywhere; }
pre.recipe { padding: .8rem 1rem; background: var(--panel); }
figure { margin: 1rem 0 1.6rem; }
figure svg, #plan svg { max-width: 100%; height: auto; }
#plan svg { max-width: none; }
.bar { min-width: 9rem; }
.share { height: .8rem; margin: .3rem 0; background: var(--panel); }
.share div { height: 100%; min-width: 1px; background: var(--mark); }
.spread { display: block; fill: var(--mark); }
details { margin: .6rem 0; }
summary { cursor: pointer; }
footer { margin: 3rem 0 1rem; font-size: .85rem; }
@media (max-width: 40rem) { td pre { min-width: 14rem; } body { padding: 1rem .8rem; } h1 { font-size: 1.35rem; } .bar { min-width: 4rem; } }
@media print {
  :root { --ground: #fff; --words: #000; --quiet: #444; --line: #bbb; --panel: #f4f4f4; --mark: #514295; }
  .light { display: block; } .dark, nav { display: none; }
  body { max-width: none; padding: 0; font-size: 10pt; }
  .wide { overflow: visible; } tr, figure { break-inside: avoid; } h2 { break-after: avoid; }
  #plan svg { max-width: 100%; }
  .share div, .spread { print-color-adjust: exact; -webkit-print-color-adjust: exact; }
}
";
