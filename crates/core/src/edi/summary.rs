//! A set in words for people: kind, parties, items, terms and totals.

use crate::x12::ack::acknowledgments;
use crate::x12::{Child, LoopRef, Segment, SetTree};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

/// Summary of a set.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Summary {
    /// E.g. `Purchase Order MF-20417`.
    pub title: String,
    /// Kind in words, e.g. `Original · Stand-alone Order`.
    pub kind: String,
    /// Label and value: dates, references, terms, contacts.
    pub facts: Vec<Fact>,
    pub parties: Vec<PartySummary>,
    pub lines: Vec<LineSummary>,
    /// Totals with labels: those stated in the document, and those of its lines.
    pub totals: Vec<Fact>,
    /// Totals that do not agree with the lines, in sentences.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    /// Sentences of an acknowledgment.
    pub says: Vec<String>,
}

/// A labelled value.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fact {
    pub label: String,
    pub value: String,
}

/// A party of the order.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PartySummary {
    /// E.g. `Ship To`.
    pub role: String,
    pub name: String,
    /// The identifier with what it is, e.g. `0012 (Assigned by Buyer)`.
    pub id: String,
    pub address: Vec<String>,
    pub facts: Vec<Fact>,
}

/// A line of an order.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LineSummary {
    pub number: String,
    pub quantity: String,
    pub unit: String,
    pub price: String,
    /// Quantity by price; empty where one of them is missing or no number.
    pub amount: String,
    pub description: String,
    /// Product ids with what they are.
    pub ids: Vec<Fact>,
    /// Answers to the line, its dates, references and charges.
    pub facts: Vec<Fact>,
}

impl Summary {
    /// Summarizes a set.
    #[must_use]
    pub fn of(tree: &SetTree) -> Self {
        let definition = tree.definition();
        let mut summary = Self { title: definition.name.clone(), ..Self::default() };
        let mut counted = Totals::default();
        // Other sets count other things in CTT, such as the levels of a shipment.
        let has_order_lines = matches!(definition.set.as_str(), "850" | "855");
        let root = tree.root();
        for child in root.children() {
            match child {
                Child::Segment(segment) => {
                    counted.charges |= is_charge(segment.id());
                    summary.heading(tree, &segment);
                }
                Child::Loop(inner) => match inner.name() {
                    "N1" => summary.parties.push(party(tree, inner)),
                    "PO1" => {
                        let (line, amount) = line(tree, inner);
                        counted.line(&line, amount);
                        counted.charges |= has_charges(inner);
                        summary.lines.push(line);
                    }
                    "CTT" => {
                        for segment in inner.segments() {
                            let value = |n| text(&segment, n);
                            if has_order_lines {
                                summary.warnings.extend(counted.differences(&segment));
                            }
                            match segment.id() {
                                b"CTT" => summary.totals.push(fact("Lines", value(1))),
                                _ => summary.totals.push(fact(meaning(tree, &segment, 1), value(2))),
                            }
                        }
                    }
                    name => {
                        counted.charges |= is_charge(name.as_bytes());
                        summary.facts.extend(inner_facts(tree, inner));
                    }
                },
            }
        }
        if counted.lines > 0 && counted.amount != Decimal::ZERO {
            summary.totals.push(fact("Sum of the lines", counted.amount.to_string()));
        }
        if matches!(definition.set.as_str(), "997" | "999") {
            summary.says = acknowledgments_of(tree);
            summary.facts.clear();
        }
        summary
    }

    fn heading(&mut self, tree: &SetTree, segment: &Segment<'_>) {
        match segment.id() {
            b"ST" | b"SE" => {}
            b"BEG" => {
                self.title = format!("{} {}", self.title, text(segment, 3));
                self.kind = joined(&[meaning(tree, segment, 1), meaning(tree, segment, 2)]);
                self.facts.extend(filled("Ordered", date(&text(segment, 5))));
                self.facts.extend(filled("Release", text(segment, 4)));
                self.facts.extend(filled("Contract", text(segment, 6)));
            }
            b"BAK" => {
                self.title = format!("{} of order {}", self.title, text(segment, 3));
                self.kind = joined(&[meaning(tree, segment, 1), meaning(tree, segment, 2)]);
                self.facts.extend(filled("Ordered", date(&text(segment, 4))));
                self.facts.extend(filled("Acknowledged", date(&text(segment, 9))));
                self.facts.extend(filled("Seller's order number", text(segment, 8)));
            }
            _ => self.facts.extend(plain_fact(tree, segment)),
        }
    }
}

/// What the lines of a set add up to.
#[derive(Debug, Default)]
struct Totals {
    lines: usize,
    /// PO102 of all lines; `None` once a line has none that is a number.
    quantity: Option<Decimal>,
    /// Quantity by price, of the lines that have both.
    amount: Decimal,
    /// A line has no amount.
    partial: bool,
    /// Charges, allowances or taxes are part of the total amount.
    charges: bool,
}

impl Totals {
    fn line(&mut self, line: &LineSummary, amount: Option<Decimal>) {
        let quantity = line.quantity.parse::<Decimal>().ok();
        let before = if self.lines == 0 { Some(Decimal::ZERO) } else { self.quantity };
        self.quantity = before.zip(quantity).and_then(|(sum, more)| sum.checked_add(more));
        self.partial |= amount.is_none();
        self.amount = self.amount.saturating_add(amount.unwrap_or_default());
        self.lines += 1;
    }

    /// Returns where a segment of the trailer does not agree with the lines: CTT01 is their number, CTT02 the sum of their quantities
    /// (X12 850 and 855, semantic notes of CTT); the total transaction amount is AMT02 behind the code TT.
    fn differences(&self, segment: &Segment<'_>) -> Vec<String> {
        let stated = |n| text(segment, n).parse::<Decimal>().ok();
        let differ = |n, counted: Decimal| stated(n).filter(|stated| *stated != counted);
        let mut says = Vec::new();
        match segment.id() {
            b"CTT" => {
                if let Some(stated) = differ(1, self.lines.into()) {
                    says.push(format!("CTT01 is {stated}, but the number of lines is {}", self.lines));
                }
                if let Some((counted, stated)) = self.quantity.and_then(|counted| Some((counted, differ(2, counted)?))) {
                    says.push(format!("CTT02 is {stated}, but the quantities of the lines add up to {counted}"));
                }
            }
            b"AMT" if text(segment, 1) == "TT" && !self.partial && !self.charges => {
                if let Some(stated) = differ(2, self.amount) {
                    says.push(format!("AMT02 is {stated}, but the lines add up to {}", self.amount));
                }
            }
            _ => {}
        }
        says
    }
}

/// The text of a document, for a terminal or a file.
impl std::fmt::Display for Summary {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        writeln!(f, "{}{}", self.title, if self.kind.is_empty() { String::new() } else { format!("  ({})", self.kind) })?;
        let width = |facts: &[Fact]| facts.iter().map(|fact| fact.label.chars().count()).max().unwrap_or(0);
        let list = |f: &mut std::fmt::Formatter<'_>, facts: &[Fact], indent: &str| -> std::fmt::Result {
            let width = width(facts);
            facts.iter().try_for_each(|fact| writeln!(f, "{indent}{:<width$}  {}", fact.label, fact.value))
        };
        for says in &self.says {
            writeln!(f, "  {says}")?;
        }
        list(f, &self.facts, "  ")?;
        for party in &self.parties {
            writeln!(f, "\n  {}", party.role)?;
            let name = [party.name.as_str(), party.id.as_str()].into_iter().filter(|part| !part.is_empty());
            writeln!(f, "    {}", name.collect::<Vec<_>>().join("  "))?;
            party.address.iter().try_for_each(|line| writeln!(f, "    {line}"))?;
            list(f, &party.facts, "    ")?;
        }
        if !self.lines.is_empty() {
            writeln!(f)?;
            let cells: Vec<[&str; 5]> = std::iter::once(["Line", "Quantity", "Unit", "Price", "Amount"])
                .chain(
                    self.lines
                        .iter()
                        .map(|line| [&line.number, &line.quantity, &line.unit, &line.price, &line.amount].map(String::as_str)),
                )
                .collect();
            let widths: Vec<usize> = (0..5).map(|n| cells.iter().map(|row| row[n].chars().count()).max().unwrap_or(0)).collect();
            let [a, b, c, d, e] = widths[..] else { return Ok(()) };
            for (n, [number, quantity, unit, price, amount]) in cells.iter().enumerate() {
                write!(f, "  {number:<a$}  {quantity:>b$}  {unit:<c$}  {price:>d$}  {amount:>e$}")?;
                let Some(line) = n.checked_sub(1).map(|n| &self.lines[n]) else {
                    writeln!(f, "  Item")?;
                    continue;
                };
                let ids = line.ids.iter().map(|id| format!("{} {}", id.label, id.value)).collect::<Vec<_>>().join(" · ");
                writeln!(f, "  {}", joined(&[line.description.clone(), ids]))?;
                list(f, &line.facts, &" ".repeat(a + b + 6))?;
            }
        }
        if !self.totals.is_empty() {
            writeln!(f)?;
            list(f, &self.totals, "  ")?;
        }
        self.warnings.iter().try_for_each(|says| writeln!(f, "  warning: {says}"))
    }
}

fn acknowledgments_of(tree: &SetTree) -> Vec<String> {
    // The acknowledgment reader takes whole inputs: an envelope with nothing but the separators is put before the set.
    let d = tree.delimiters();
    let [element, component, segment] = [d.element, d.component, d.segment].map(char::from);
    let repetition = d.repetition.map_or('U', char::from);
    let pad = |width: usize| " ".repeat(width);
    let isa = [
        "ISA".to_owned(),
        "00".into(),
        pad(10),
        "00".into(),
        pad(10),
        "ZZ".into(),
        pad(15),
        "ZZ".into(),
        pad(15),
        "000101".into(),
        "0000".into(),
    ];
    let rest = [repetition.to_string(), "00401".into(), "000000000".into(), "0".into(), "P".into(), component.to_string()];
    let isa: Vec<String> = isa.into_iter().chain(rest).collect();
    let mut bytes = format!("{}{segment}", isa.join(&element.to_string())).into_bytes();
    bytes.extend_from_slice(tree.bytes());
    acknowledgments(&bytes).iter().flat_map(|one| one.sentences()).collect()
}

fn party(tree: &SetTree, within: LoopRef<'_>) -> PartySummary {
    let mut party = PartySummary::default();
    for child in within.children() {
        let Child::Segment(segment) = child else { continue };
        let value = |n| text(&segment, n);
        match segment.id() {
            b"N1" => {
                party.role = meaning(tree, &segment, 1);
                party.name = value(2);
                let what = meaning(tree, &segment, 3);
                party.id = if value(4).is_empty() { String::new() } else { format!("{} ({what})", value(4)) };
            }
            b"N2" => party.address.push(joined(&[value(1), value(2)])),
            b"N3" => party.address.extend([value(1), value(2)].into_iter().filter(|line| !line.is_empty())),
            b"N4" => {
                let place = [value(1), [value(2), value(3)].join(" ").trim().to_owned()];
                let place = place.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(", ");
                party.address.push([place, value(4)].join(" ").trim().to_owned());
            }
            _ => party.facts.extend(plain_fact(tree, &segment)),
        }
    }
    party
}

fn line(tree: &SetTree, within: LoopRef<'_>) -> (LineSummary, Option<Decimal>) {
    let mut line = LineSummary::default();
    let mut amount = None;
    for child in within.children() {
        match child {
            Child::Segment(segment) if segment.id() == b"PO1" => {
                let value = |n| text(&segment, n);
                (line.number, line.quantity, line.price) = (value(1), value(2), value(4));
                line.unit = meaning(tree, &segment, 3);
                let number = |n| value(n).parse::<Decimal>().ok();
                // PO105: a price per hundred or thousand is not multiplied.
                let each = !["HP", "TP"].contains(&value(5).as_str());
                amount = number(2).zip(number(4)).filter(|_| each).and_then(|(quantity, price)| quantity.checked_mul(price));
                line.amount = amount.map(|amount| amount.normalize()).map_or(String::new(), money);
                line.ids = ids(tree, &segment, 6);
            }
            Child::Segment(segment) => line.facts.extend(plain_fact(tree, &segment)),
            Child::Loop(inner) if inner.name() == "PID" => {
                let descriptions = inner.segments().filter(|segment| segment.id() == b"PID").map(|segment| text(&segment, 5));
                line.description = joined(&std::iter::once(line.description.clone()).chain(descriptions).collect::<Vec<_>>());
            }
            Child::Loop(inner) => line.facts.extend(inner_facts(tree, inner)),
        }
    }
    (line, amount)
}

/// Returns whether a segment, or the loop that it begins, changes the total amount: SAC or a tax (TXI).
fn is_charge(id: &[u8]) -> bool {
    matches!(id, b"SAC" | b"TXI")
}

fn has_charges(within: LoopRef<'_>) -> bool {
    within.children().any(|child| match child {
        Child::Segment(segment) => is_charge(segment.id()),
        Child::Loop(inner) => is_charge(inner.name().as_bytes()),
    })
}

/// Returns an amount with at least two decimal places, and all that it has.
fn money(amount: Decimal) -> String {
    let mut amount = amount;
    if amount.scale() < 2 {
        amount.rescale(2);
    }
    amount.to_string()
}

/// Pairs of qualifier and id from position `from` on.
fn ids(tree: &SetTree, segment: &Segment<'_>, from: usize) -> Vec<Fact> {
    let pairs = (from..segment.count()).step_by(2);
    pairs.filter(|n| !text(segment, n + 1).is_empty()).map(|n| fact(meaning(tree, segment, n), text(segment, n + 1))).collect()
}

/// Returns the facts of the segments in a loop, in their order.
fn inner_facts(tree: &SetTree, within: LoopRef<'_>) -> Vec<Fact> {
    let mut facts = Vec::new();
    for child in within.children() {
        match child {
            Child::Segment(segment) => facts.extend(plain_fact(tree, &segment)),
            Child::Loop(inner) => facts.extend(inner_facts(tree, inner)),
        }
    }
    facts
}

/// Returns a segment as label and value; `None` if it is empty.
fn plain_fact(tree: &SetTree, segment: &Segment<'_>) -> Option<Fact> {
    let value = |n| text(segment, n);
    let code = |n| meaning(tree, segment, n);
    let fact = match segment.id() {
        b"CUR" => fact("Currency", value(2)),
        b"REF" | b"N9" => fact(code(1), joined(&[value(2), value(3)])),
        b"DTM" => fact(code(1), joined(&[date(&value(2)), time(&value(3))])),
        b"PER" => fact(
            code(1),
            joined(&[value(2), channel(code(3), &value(4)), channel(code(5), &value(6)), channel(code(7), &value(8))]),
        ),
        b"FOB" => fact("Freight", joined(&[code(1), value(3)])),
        b"ITD" => fact("Terms", terms(tree, segment)),
        b"TD5" => fact("Carrier", joined(&[value(5), value(3), code(4)])),
        b"SAC" => {
            // SAC05 is N2: its two decimal places are implied.
            let amount = value(5).parse::<i64>().map(|cents| Decimal::new(cents, 2).to_string()).unwrap_or_default();
            fact(code(1), joined(&[code(2), amount, value(15)]))
        }
        b"ACK" => {
            let quantity = [value(2), code(3)].join(" ").trim().to_owned();
            fact(code(1), joined(&[quantity, [code(4), date(&value(5))].join(" ").trim().to_owned()]))
        }
        b"SCH" => fact("Schedule", joined(&[[value(1), code(2)].join(" "), [code(5), date(&value(6))].join(" ")])),
        b"MSG" => fact("Message", value(1)),
        b"AMT" => fact(code(1), value(2)),
        _ => {
            let named = tree
                .described(segment)
                .map_or_else(|| String::from_utf8_lossy(segment.id()).into_owned(), |known| known.name.clone());
            fact(named, joined(&(1..=segment.count()).map(code).collect::<Vec<_>>()))
        }
    };
    Some(fact).filter(|fact| !fact.value.is_empty())
}

fn channel(what: String, number: &str) -> String {
    if number.is_empty() { String::new() } else { format!("{what} {number}") }
}

/// Returns the terms of sale: the seller's words if there are some, else built from the numbers.
fn terms(tree: &SetTree, segment: &Segment<'_>) -> String {
    let value = |n| text(segment, n);
    if !value(12).is_empty() {
        return value(12);
    }
    let discount = match (value(3), value(5)) {
        (percent, days) if !percent.is_empty() && !days.is_empty() => format!("{percent} % within {days} days"),
        _ => String::new(),
    };
    let net = if value(7).is_empty() { String::new() } else { format!("net {} days", value(7)) };
    joined(&[meaning(tree, segment, 1), discount, net])
}

fn fact(label: impl Into<String>, value: String) -> Fact {
    Fact { label: label.into(), value }
}

fn filled(label: &str, value: String) -> Option<Fact> {
    (!value.is_empty()).then(|| fact(label, value))
}

fn joined(parts: &[String]) -> String {
    parts.iter().filter(|part| !part.is_empty()).map(String::as_str).collect::<Vec<_>>().join(" · ")
}

/// An element as text, without padding.
fn text(segment: &Segment<'_>, n: usize) -> String {
    segment.text(n)
}

/// Returns the meaning of an element's code; the code itself if it is unknown.
fn meaning(tree: &SetTree, segment: &Segment<'_>, n: usize) -> String {
    let value = segment.text(n);
    let known = tree.described(segment).and_then(|known| known.element(n)).and_then(|element| element.meaning(&value));
    known.map_or(value.clone(), str::to_owned)
}

/// `20261123` as `2026-11-23`; anything else as it is.
fn date(text: &str) -> String {
    match (text.len(), text.bytes().all(|byte| byte.is_ascii_digit())) {
        (8, true) => format!("{}-{}-{}", &text[..4], &text[4..6], &text[6..]),
        (6, true) => format!("20{}-{}-{}", &text[..2], &text[2..4], &text[4..]),
        _ => text.to_owned(),
    }
}

/// `0700` as `07:00`.
fn time(text: &str) -> String {
    match text.get(..4) {
        Some(start) if text.bytes().all(|byte| byte.is_ascii_digit()) => format!("{}:{}", &start[..2], &start[2..]),
        _ => text.to_owned(),
    }
}
