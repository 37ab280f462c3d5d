//! Proposals into a transaction set of an order: what the trade writes where, laid over the fields of the source.

use super::{Confidence, Proposal, Proposed, ProposedList, Sources, level_rules};
use crate::outline::{Leaf, Level, fields_of_set};
use crate::x12::SetDefinition;
use std::collections::{BTreeMap, BTreeSet};

/// What fills an element: the element, the words for that with what they stand in, its kind, and what is made of it.
type Written = (&'static str, &'static str, &'static str, &'static str, &'static str);

const PLAIN: &str = "{}";
const DAY: &str = "date_as({}, '%Y%m%d')";

const HEADER: [Written; 6] = [
    ("BEG03", "order_number", "", "string", PLAIN),
    ("BEG05", "placed_date", "", "date", DAY),
    ("BAK03", "order_number", "", "string", PLAIN),
    ("BAK04", "placed_date", "", "date", DAY),
    ("CUR02", "currency", "", "string", PLAIN),
    ("DTM02", "deliver_date", "", "date", DAY),
];
const PARTY: [Written; 7] = [
    ("N102", "name", "deliver", "string", PLAIN),
    ("N104", "store_number", "deliver", "string", PLAIN),
    ("N301", "street", "deliver", "string", PLAIN),
    ("N401", "town", "deliver", "string", PLAIN),
    ("N402", "region", "deliver", "string", PLAIN),
    ("N403", "postcode", "deliver", "string", PLAIN),
    ("N404", "country", "deliver", "string", PLAIN),
];
const LINE: [Written; 8] = [
    ("PO101", "row", "", "string", PLAIN),
    ("PO102", "quantity", "", "number", PLAIN),
    ("PO103", "unit", "", "string", PLAIN),
    ("PO104", "price", "", "number", PLAIN),
    ("PO107", "item", "", "string", PLAIN),
    ("PID05", "text", "", "string", PLAIN),
    ("ACK02", "quantity", "", "number", PLAIN),
    ("ACK03", "unit", "", "string", PLAIN),
];
/// Codes that stand beside something: the element, the code, beside what (always where that is empty), and what it says.
const CODES: [(&str, &str, &str, &str); 11] = [
    ("BEG01", "00", "", "an original"),
    ("BEG02", "SA", "", "an order that stands alone"),
    ("BAK01", "00", "", "an original"),
    ("BAK02", "AD", "", "acknowledged with detail, nothing changed"),
    ("CUR01", "BY", "CUR02", "the buyer's currency"),
    ("DTM01", "002", "DTM02", "the day on which delivery is requested"),
    ("N101", "ST", "N102", "the party that it is shipped to"),
    ("N103", "92", "N104", "a number that the buyer gave"),
    ("PO106", "VP", "PO107", "the vendor's number of the item"),
    ("PID01", "F", "PID05", "free text"),
    ("ACK01", "IA", "ACK02", "the line is accepted"),
];

/// The rules that write an order into a set of orders: one with `PO1` lines.
pub(super) fn into_set(sources: &Sources, set: &SetDefinition) -> Option<Proposal> {
    if !set.uses("PO1") {
        return None;
    }
    let fields = Fields::of(set);
    let level = Level {
        leaves: [fields.leaves(&HEADER, ""), fields.leaves(&PARTY, "N1[].")].concat(),
        lists: vec![(vec!["lines".to_owned()], Level { leaves: fields.leaves(&LINE, "PO1[]."), lists: Vec::new() })],
    };
    let found = level_rules(sources, &level);
    let mut header = fields.written(&found.rules, &HEADER, "");
    header.lists.extend(party(&fields, found.rules));
    for list in found.lists {
        if fields.find("CTT[].", "CTT01").or(fields.find("", "CTT01")).is_some() {
            let (target, expression) = (vec!["CTT01".to_owned()], format!("count({})", list.of));
            let because = "how many lines there are".to_owned();
            header.rules.push(Proposed { target, expression, confidence: Confidence::Sure, because });
        }
        let rules = fields.written(&list.rules.rules, &LINE, "PO1[].");
        header.lists.push(ProposedList { of: list.of, into: vec!["PO1".to_owned()], rules });
    }
    if !header.lists.iter().any(|list| list.into == ["PO1"]) {
        header.unfilled.push((vec!["PO1".to_owned()], true));
    }
    Some(header)
}

/// The party that it is shipped to: a loop, made of the object that has its name and address, or else of the document.
fn party(fields: &Fields, mut found: Vec<Proposed>) -> Option<ProposedList> {
    let name = |rule: &&Proposed| rule.target == ["deliver", "name"];
    let within = found.iter().find(name)?.expression.rsplit_once('.').map(|(within, _)| format!("{within}."));
    found.retain(|rule| rule.target[0] == "deliver");
    let of = match within.filter(|within| found.iter().all(|rule| rule.expression.contains(within))) {
        Some(within) => {
            found.iter_mut().for_each(|rule| rule.expression = rule.expression.replace(&within, ""));
            within.trim_end_matches('.').to_owned()
        }
        None => "$doc".to_owned(),
    };
    Some(ProposedList { of, into: vec!["N1".to_owned()], rules: fields.written(&found, &PARTY, "N1[].") })
}

/// The elements of a set in its order, each by its designator, with where it stands and whether it must be there.
struct Fields(Vec<(String, String, bool)>);

impl Fields {
    fn of(set: &SetDefinition) -> Self {
        let element = |path: &str| path.rsplit('.').next().unwrap_or_default().to_owned();
        let all = fields_of_set(set).into_iter().map(|(path, leaf)| (element(&path), path, leaf.required));
        // Those belong to whoever writes the set.
        Self(all.filter(|(element, ..)| !element.starts_with("ST") && !element.starts_with("SE")).collect())
    }

    /// Which of them the first element of this designator at `at` is: `PO1[].`, or empty for the header.
    fn find(&self, at: &str, element: &str) -> Option<usize> {
        self.0.iter().position(|(known, path, _)| known == element && is_at(path, at))
    }

    /// An order's own fields, as if they were those of an outline, so far as this set has them.
    fn leaves(&self, known: &[Written], at: &str) -> Vec<Leaf> {
        let leaf = |(_, name, within, kind, _): &Written| {
            let path = [*within, *name].into_iter().filter(|part| !part.is_empty()).map(str::to_owned).collect();
            let (kind, format) = if *kind == "date" { ("string", "date") } else { (*kind, "") };
            let (kind, format) = (kind.to_owned(), format.to_owned());
            Leaf { path, kind, format, required: false, title: String::new(), examples: Vec::new() }
        };
        let mut leaves: Vec<Leaf> = known.iter().filter(|one| self.find(at, one.0).is_some()).map(leaf).collect();
        // What two elements are filled with is looked for once.
        let mut seen = BTreeSet::new();
        leaves.retain(|leaf| seen.insert(leaf.path.clone()));
        leaves
    }

    /// What was found for an order's fields as rules of the elements at `at`, with the codes that go with them, in the
    /// set's order.
    fn written(&self, found: &[Proposed], known: &[Written], at: &str) -> Proposal {
        let mut rules: BTreeMap<usize, Proposed> = BTreeMap::new();
        // The same before anything is made of it.
        let mut plain: BTreeMap<usize, &Proposed> = BTreeMap::new();
        for (element, name, within, _, made) in known {
            let names = [*within, *name].into_iter().filter(|part| !part.is_empty());
            let of = |rule: &&Proposed| rule.target.iter().map(String::as_str).eq(names.clone());
            if let (Some(n), Some(rule)) = (self.find(at, element), found.iter().find(of)) {
                let expression = made.replace("{}", &rule.expression);
                rules.insert(n, Proposed { target: vec![(*element).to_owned()], expression, ..rule.clone() });
                plain.insert(n, rule);
            }
        }
        for (element, code, beside, says) in CODES {
            let Some(n) = self.find(at, element) else { continue };
            let (expression, confidence) = match self.find(at, beside).and_then(|n| plain.get(&n)) {
                None if !beside.is_empty() => continue,
                None => (format!("'{code}'"), Confidence::Likely),
                Some(rule) => {
                    let only = format!("if exists({}) then '{code}' else null", rule.expression);
                    (only, rule.confidence.min(Confidence::Likely))
                }
            };
            let (target, because) = (vec![element.to_owned()], says.to_owned());
            rules.insert(n, Proposed { target, expression, confidence, because });
        }
        // What a loop within must have is asked for where that loop is there.
        let needed = self
            .0
            .iter()
            .enumerate()
            .filter(|(_, (_, path, required))| *required && is_at(path, at) && !path[at.len()..].contains("[]."));
        let open = needed.filter(|(n, _)| !rules.contains_key(n));
        let unfilled = open.map(|(_, (element, ..))| (vec![element.clone()], true)).collect();
        Proposal { rules: rules.into_values().collect(), lists: Vec::new(), unfilled }
    }
}

fn is_at(path: &str, at: &str) -> bool {
    if at.is_empty() { !path.contains("[].") } else { path.starts_with(at) }
}
