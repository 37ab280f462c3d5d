//! A document as one self-contained page to print: no scripts, no fonts or pictures from elsewhere.

use super::summary::{Fact, Summary};

const STYLE: &str = "body{font:14px/1.45 system-ui,sans-serif;color:#1d2430;max-width:60rem;margin:2.5rem auto;padding:0 1.5rem}\
h1{font-size:1.5rem;margin:0}h2{font-size:.95rem;margin:1.6rem 0 .3rem;color:#5b6675;font-weight:600}\
.kind{color:#5b6675;margin:.1rem 0 1.2rem}dl{display:grid;grid-template-columns:max-content 1fr;gap:.15rem 1.5rem;margin:0}\
dt{color:#5b6675}dd{margin:0}.parties{display:flex;flex-wrap:wrap;gap:0 3.5rem}address{font-style:normal;white-space:pre-line}\
table{border-collapse:collapse;width:100%;margin-top:1.4rem}th{text-align:left;font-weight:600;color:#5b6675;border-bottom:1px solid #9aa5b4}\
td,th{padding:.35rem .9rem .35rem 0;vertical-align:top}td{border-bottom:1px solid #e2e6ec}.n{text-align:right;font-variant-numeric:tabular-nums}\
small{color:#5b6675;display:block}@media print{body{margin:0}tr,.parties>div{break-inside:avoid}}section+section{margin-top:4rem;break-before:page}";

/// The page of some documents, one after another.
#[must_use]
pub fn page(documents: &[Summary]) -> String {
    let title = documents.first().map_or("", |first| first.title.as_str());
    let body: String = documents.iter().map(section).collect();
    format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{}</title><style>{STYLE}</style></head><body>{body}</body></html>\n",
        escaped(title)
    )
}

fn section(summary: &Summary) -> String {
    let mut html = format!("<section><h1>{}</h1><p class=\"kind\">{}</p>", escaped(&summary.title), escaped(&summary.kind));
    html += &summary.says.iter().map(|says| format!("<p>{}</p>", escaped(says))).collect::<String>();
    html += &list(&summary.facts);
    if !summary.parties.is_empty() {
        let party = |party: &super::summary::PartySummary| {
            let lines = [party.name.as_str(), party.id.as_str()].into_iter().chain(party.address.iter().map(String::as_str));
            let lines: Vec<String> = lines.filter(|line| !line.is_empty()).map(escaped).collect();
            format!("<div><h2>{}</h2><address>{}</address>{}</div>", escaped(&party.role), lines.join("\n"), list(&party.facts))
        };
        html += &format!("<div class=\"parties\">{}</div>", summary.parties.iter().map(party).collect::<String>());
    }
    if !summary.lines.is_empty() {
        html += "<table><thead><tr><th>Line</th><th class=\"n\">Quantity</th><th>Unit</th><th class=\"n\">Price</th><th class=\"n\">Amount</th><th>Item</th></tr></thead><tbody>";
        for line in &summary.lines {
            let small = |facts: &[Fact]| {
                facts
                    .iter()
                    .map(|one| format!("<small>{} {}</small>", escaped(&one.label), escaped(&one.value)))
                    .collect::<String>()
            };
            html += &format!(
                "<tr><td>{}</td><td class=\"n\">{}</td><td>{}</td><td class=\"n\">{}</td><td class=\"n\">{}</td><td>{}{}{}</td></tr>",
                escaped(&line.number),
                escaped(&line.quantity),
                escaped(&line.unit),
                escaped(&line.price),
                escaped(&line.amount),
                escaped(&line.description),
                small(&line.ids),
                small(&line.facts)
            );
        }
        html += "</tbody></table>";
    }
    if !summary.totals.is_empty() {
        html += &format!("<h2>Totals</h2>{}", list(&summary.totals));
    }
    html.extend(summary.warnings.iter().map(|says| format!("<p><strong>Warning:</strong> {}</p>", escaped(says))));
    html + "</section>"
}

fn list(facts: &[Fact]) -> String {
    if facts.is_empty() {
        return String::new();
    }
    let one = |fact: &Fact| format!("<dt>{}</dt><dd>{}</dd>", escaped(&fact.label), escaped(&fact.value));
    format!("<dl>{}</dl>", facts.iter().map(one).collect::<String>())
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
