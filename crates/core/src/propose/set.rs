//! Proposals into a transaction set of an order: what the trade writes where, laid over the fields of the source.

use super::{Confidence, Proposal, Proposed, ProposedList, Sources, level_rules};
use crate::schema::{Leaf, Level, fields_of_set};
use crate::x12::SetDefinition;
use std::collections::{BTreeMap, BTreeSet};

/// How an element is filled: the element, the words for it and its parents, and its kind.
struct Written(&'static str, &'static [&'static str], Kind);

#[derive(Clone, Copy, PartialEq)]
enum Kind {
    Text,
    Number,
    Day,
}

impl Kind {
    /// The kind and the format of a field of a schema that would be the same.
    const fn in_schema(self) -> (&'static str, &'static str) {
        match self {
            Self::Text => ("string", ""),
            Self::Number => ("number", ""),
            Self::Day => ("string", "date"),
        }
    }

    /// The expression as the set has it: DT of X12 has eight digits.
    fn written(self, expression: &str) -> String {
        match self {
            Self::Text | Self::Number => expression.to_owned(),
            Self::Day => format!("date_as({expression}, '%Y%m%d')"),
        }
    }
}

const HEADER: [Written; 6] = [
    Written("BEG03", &["order_number"], Kind::Text),
    Written("BEG05", &["placed_date"], Kind::Day),
    Written("BAK03", &["order_number"], Kind::Text),
    Written("BAK04", &["placed_date"], Kind::Day),
    Written("CUR02", &["currency"], Kind::Text),
    Written("DTM02", &["deliver_date"], Kind::Day),
];
const PARTY: [Written; 7] = [
    Written("N102", &["deliver", "name"], Kind::Text),
    Written("N104", &["deliver", "store_number"], Kind::Text),
    Written("N301", &["deliver", "street"], Kind::Text),
    Written("N401", &["deliver", "town"], Kind::Text),
    Written("N402", &["deliver", "region"], Kind::Text),
    Written("N403", &["deliver", "postcode"], Kind::Text),
    Written("N404", &["deliver", "country"], Kind::Text),
];
const LINE: [Written; 8] = [
    Written("PO101", &["row"], Kind::Text),
    Written("PO102", &["quantity"], Kind::Number),
    Written("PO103", &["unit"], Kind::Text),
    Written("PO104", &["price"], Kind::Number),
    Written("PO107", &["item"], Kind::Text),
    Written("PID05", &["text"], Kind::Text),
    Written("ACK02", &["quantity"], Kind::Number),
    Written("ACK03", &["unit"], Kind::Text),
];
/// Codes that accompany something: the element, the code, what it accompanies (always, if empty), and its meaning.
const CODES: [(&str, &str, &str, &str); 11] = [
    ("BEG01", "00", "", "an original"),
    ("BEG02", "SA", "", "a stand-alone order"),
    ("BAK01", "00", "", "an original"),
    ("BAK02", "AD", "", "acknowledged with detail, no change"),
    ("CUR01", "BY", "CUR02", "the buyer's currency"),
    ("DTM01", "002", "DTM02", "the requested delivery date"),
    ("N101", "ST", "N102", "the ship-to party"),
    ("N103", "92", "N104", "a number given by the buyer"),
    ("PO106", "VP", "PO107", "the vendor's item number"),
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
            let because = "the number of lines".to_owned();
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
    found.retain(|rule| rule.target[0] == "deliver");
    let name = found.iter().find(|rule| rule.target == ["deliver", "name"])?;
    let within = name.expression.rsplit_once('.').map_or(String::new(), |(within, _)| format!("{within}."));
    // Elements of the opening segment are written `N1[01 = 'ST'].02`.
    let inner = |rule: &Proposed| {
        rule.expression.strip_prefix(&within).filter(|rest| !rest.starts_with(|c: char| c.is_ascii_digit())).map(str::to_owned)
    };
    let of = match found.iter().map(inner).collect::<Option<Vec<String>>>().filter(|_| !within.is_empty()) {
        Some(own) => {
            found.iter_mut().zip(own).for_each(|(rule, own)| rule.expression = own);
            within.trim_end_matches('.').to_owned()
        }
        None => "$doc".to_owned(),
    };
    Some(ProposedList { of, into: vec!["N1".to_owned()], rules: fields.written(&found, &PARTY, "N1[].") })
}

/// Elements of a set in its order: their paths, and whether they are mandatory.
struct Fields(Vec<(String, bool)>);

impl Fields {
    fn of(set: &SetDefinition) -> Self {
        let all = fields_of_set(set).into_iter().map(|(path, leaf)| (path, leaf.required));
        // The writer of the set adds those.
        Self(all.filter(|(path, _)| !path.starts_with("ST") && !path.starts_with("SE")).collect())
    }

    /// Which of them the first element of this designator at `at` is: `PO1[].`, or empty for the header.
    fn find(&self, at: &str, designator: &str) -> Option<usize> {
        self.0.iter().position(|(path, _)| element(path) == designator && is_at(path, at))
    }

    /// An order's own fields, as if they were those of a schema, so far as this set has them.
    fn leaves(&self, known: &[Written], at: &str) -> Vec<Leaf> {
        let leaf = |Written(_, words, kind): &Written| {
            let path = words.iter().map(|word| (*word).to_owned()).collect();
            let (kind, format) = kind.in_schema();
            let (kind, format) = (kind.to_owned(), format.to_owned());
            Leaf { path, kind, format, required: false, title: String::new(), examples: Vec::new() }
        };
        let mut leaves: Vec<Leaf> = known.iter().filter(|one| self.find(at, one.0).is_some()).map(leaf).collect();
        // An expression that fills two elements is proposed once.
        let mut seen = BTreeSet::new();
        leaves.retain(|leaf| seen.insert(leaf.path.clone()));
        leaves
    }

    /// Returns rules for the elements at `at` from the rules found for an order's fields, with the codes that accompany them, in
    /// the set's order.
    fn written(&self, found: &[Proposed], known: &[Written], at: &str) -> Proposal {
        let mut rules: BTreeMap<usize, Proposed> = BTreeMap::new();
        // The same before anything is made of it.
        let mut plain: BTreeMap<usize, &Proposed> = BTreeMap::new();
        for Written(designator, words, kind) in known {
            if let (Some(n), Some(rule)) = (self.find(at, designator), found.iter().find(|rule| rule.target == *words)) {
                let expression = kind.written(&rule.expression);
                rules.insert(n, Proposed { target: vec![(*designator).to_owned()], expression, ..rule.clone() });
                plain.insert(n, rule);
            }
        }
        for (designator, code, beside, says) in CODES {
            let Some(n) = self.find(at, designator) else { continue };
            let (expression, confidence) = match self.find(at, beside).and_then(|n| plain.get(&n)) {
                None if !beside.is_empty() => continue,
                None => (format!("'{code}'"), Confidence::Likely),
                Some(rule) => {
                    let only = format!("if exists({}) then '{code}' else null", rule.expression);
                    (only, rule.confidence.min(Confidence::Likely))
                }
            };
            let (target, because) = (vec![designator.to_owned()], says.to_owned());
            rules.insert(n, Proposed { target, expression, confidence, because });
        }
        // The mandatory elements of an inner loop matter only if that loop is present.
        let needed = |path: &str| is_at(path, at) && !path[at.len()..].contains("[].");
        let open = self.0.iter().enumerate().filter(|(n, (path, required))| *required && needed(path) && !rules.contains_key(n));
        let unfilled = open.map(|(_, (path, _))| (vec![element(path).to_owned()], true)).collect();
        Proposal { rules: rules.into_values().collect(), lists: Vec::new(), unfilled }
    }
}

/// The designator at the end of a path: `PO1[].PO101` is of `PO101`.
fn element(path: &str) -> &str {
    path.rsplit('.').next().unwrap_or_default()
}

fn is_at(path: &str, at: &str) -> bool {
    if at.is_empty() { !path.contains("[].") } else { path.starts_with(at) }
}
