//! The tables of the standard: which segments a set has, which elements a segment has, what an element may hold.
//!
//! They are data files under `defs/`, compiled in; [`Definitions::standard`] reads them once.

use serde::Deserialize;
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, OnceLock};

/// Every set definition known, by version and set.
#[derive(Debug, Default)]
pub struct Definitions {
    sets: HashMap<(String, String), Arc<SetDefinition>>,
}

/// The segment table of one transaction set in one version, with the dictionary it uses.
#[derive(Debug)]
pub struct SetDefinition {
    /// Transaction set identifier, e.g. `850`.
    pub set: String,
    /// English name.
    pub name: String,
    /// Functional identifier code (GS01) of its groups.
    pub functional_id: String,
    /// Version, release and industry code as in GS08, e.g. `004010`.
    pub version: String,
    /// The table: the set's own level of entries.
    pub table: Vec<Entry>,
    pub(crate) dictionary: Arc<Dictionary>,
}

/// One place of a segment table.
#[derive(Debug, Clone)]
pub enum Entry {
    Segment { id: String, mandatory: bool, max: u32 },
    Loop { id: String, mandatory: bool, max: u32, of: Vec<Entry> },
}

impl Entry {
    /// The segment that stands here, or that opens the loop that stands here.
    #[must_use]
    pub fn id(&self) -> &str {
        match self {
            Self::Segment { id, .. } | Self::Loop { id, .. } => id,
        }
    }

    pub(crate) fn mandatory(&self) -> bool {
        match self {
            Self::Segment { mandatory, .. } | Self::Loop { mandatory, .. } => *mandatory,
        }
    }

    /// The most repetitions; `u32::MAX` without limit.
    pub(crate) fn max(&self) -> u32 {
        match self {
            Self::Segment { max, .. } | Self::Loop { max, .. } => *max,
        }
    }
}

/// Segments and data elements of one version.
#[derive(Debug)]
pub struct Dictionary {
    pub(crate) segments: HashMap<String, SegmentDefinition>,
}

/// The elements of a segment.
#[derive(Debug, Clone)]
pub struct SegmentDefinition {
    /// English name.
    pub name: String,
    pub(crate) elements: Vec<Place>,
    pub(crate) rules: Vec<Rule>,
}

/// One element position of a segment.
#[derive(Debug, Clone)]
pub(crate) struct Place {
    pub mandatory: bool,
    /// `None` for a composite whose components are not described.
    pub element: Option<Arc<ElementDefinition>>,
}

/// A data element.
#[derive(Debug)]
pub struct ElementDefinition {
    /// Data element reference number.
    pub number: u16,
    /// English name.
    pub name: String,
    pub(crate) kind: Kind,
    pub(crate) min: usize,
    pub(crate) max: usize,
    pub(crate) codes: BTreeMap<String, String>,
    pub(crate) complete: bool,
}

/// Data element types of X12.6.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Text,
    Code,
    /// `Nn`; the implied decimal places do not matter to checking.
    Numeric,
    Decimal,
    Date,
    Time,
    Binary,
}

/// A relational condition (X12.6, 3.5.1.3.2): `P0304` and its kin.
#[derive(Debug, Clone)]
pub(crate) struct Rule {
    pub kind: RuleKind,
    pub positions: Vec<usize>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RuleKind {
    Paired,
    Required,
    Exclusion,
    Conditional,
    ListConditional,
}

impl Definitions {
    /// The definitions that ship with the crate.
    pub fn standard() -> &'static Self {
        static STANDARD: OnceLock<Definitions> = OnceLock::new();
        STANDARD.get_or_init(|| {
            let mut all = Self::default();
            let dictionary = Arc::new(dictionary(include_str!("../defs/004010-dictionary.toml")).expect("compiled-in table"));
            let set = set(include_str!("../defs/004010-850.toml"), &dictionary).expect("compiled-in table");
            all.sets.insert((set.version.clone(), set.set.clone()), Arc::new(set));
            all
        })
    }

    /// The definition of `set` in the version of a group's GS08.
    ///
    /// Industry suffixes (`004010VICS`) are cut off: the first six characters decide.
    #[must_use]
    pub fn find(&self, version: &str, set: &str) -> Option<&Arc<SetDefinition>> {
        let version = version.get(..6).unwrap_or(version);
        self.sets.get(&(version.to_owned(), set.to_owned()))
    }

    /// Whether any set of that version is known.
    #[must_use]
    pub fn knows_version(&self, version: &str) -> bool {
        let version = version.get(..6).unwrap_or(version);
        self.sets.keys().any(|(known, _)| known == version)
    }

    /// Every definition, e.g. to propose the nearest name.
    pub fn all(&self) -> impl Iterator<Item = &Arc<SetDefinition>> {
        self.sets.values()
    }
}

impl SetDefinition {
    /// The definition of a segment, if the dictionary has it.
    #[must_use]
    pub fn segment(&self, id: &str) -> Option<&SegmentDefinition> {
        self.dictionary.segments.get(id)
    }

    /// Whether the segment stands anywhere in the table.
    #[must_use]
    pub fn uses(&self, id: &str) -> bool {
        fn within(entries: &[Entry], id: &str) -> bool {
            entries.iter().any(|entry| match entry {
                Entry::Segment { id: own, .. } => own == id,
                Entry::Loop { of, .. } => within(of, id),
            })
        }
        within(&self.table, id)
    }

    /// The entries of the loop reached by opening `path` (loop ids from the outside in); the whole table for an empty path.
    #[must_use]
    pub fn entries(&self, path: &[&str]) -> Option<&[Entry]> {
        let mut at = self.table.as_slice();
        for step in path {
            at = at.iter().find_map(|entry| match entry {
                Entry::Loop { id, of, .. } if id == step => Some(of.as_slice()),
                _ => None,
            })?;
        }
        Some(at)
    }

    /// Every segment id of the table, once.
    #[must_use]
    pub fn segment_ids(&self) -> Vec<&str> {
        fn collect<'a>(entries: &'a [Entry], into: &mut Vec<&'a str>) {
            for entry in entries {
                match entry {
                    Entry::Segment { id, .. } => into.push(id),
                    Entry::Loop { of, .. } => collect(of, into),
                }
            }
        }
        let mut ids = Vec::new();
        collect(&self.table, &mut ids);
        ids.sort_unstable();
        ids.dedup();
        ids
    }
}

impl SegmentDefinition {
    /// How many elements the segment has.
    #[must_use]
    pub fn len(&self) -> usize {
        self.elements.len()
    }

    /// Whether the segment has no elements at all.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.elements.is_empty()
    }

    /// Element `n`, from 1.
    #[must_use]
    pub fn element(&self, n: usize) -> Option<&ElementDefinition> {
        self.elements.get(n.checked_sub(1)?)?.element.as_deref()
    }
}

impl ElementDefinition {
    /// The meaning of a code, where the list has it.
    #[must_use]
    pub fn meaning(&self, code: &str) -> Option<&str> {
        self.codes.get(code).map(String::as_str)
    }
}

// --- the files ---

#[derive(Deserialize)]
struct SetFile {
    set: String,
    name: String,
    functional_id: String,
    version: String,
    table: Vec<EntryFile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct EntryFile {
    seg: Option<String>,
    #[serde(rename = "loop")]
    loop_: Option<String>,
    #[serde(rename = "use")]
    use_: Option<String>,
    max: u32,
    #[serde(default)]
    needed: bool,
    #[serde(default)]
    of: Vec<EntryFile>,
}

#[derive(Deserialize)]
struct DictionaryFile {
    segments: HashMap<String, SegmentFile>,
    elements: HashMap<String, ElementFile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SegmentFile {
    name: String,
    elements: Vec<String>,
    #[serde(default)]
    rules: Vec<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ElementFile {
    name: String,
    #[serde(rename = "type")]
    kind: String,
    min: usize,
    max: usize,
    #[serde(default)]
    codes: BTreeMap<String, String>,
    #[serde(rename = "as", default)]
    sure: Option<String>,
}

fn set(text: &str, dictionary: &Arc<Dictionary>) -> Result<SetDefinition, String> {
    let file: SetFile = toml_edit::de::from_str(text).map_err(|error| error.to_string())?;
    let table = file.table.into_iter().map(entry).collect::<Result<_, _>>()?;
    let set = SetDefinition {
        set: file.set,
        name: file.name,
        functional_id: file.functional_id,
        version: file.version,
        table,
        dictionary: dictionary.clone(),
    };
    match set.segment_ids().into_iter().find(|id| set.segment(id).is_none()) {
        Some(id) => Err(format!("{} {} uses segment {id}, which the dictionary lacks", set.version, set.set)),
        None => Ok(set),
    }
}

fn entry(file: EntryFile) -> Result<Entry, String> {
    let max = if file.max == 0 { u32::MAX } else { file.max };
    match (file.seg, file.loop_) {
        (Some(id), None) => Ok(Entry::Segment { id, mandatory: file.use_.as_deref() == Some("M"), max }),
        (None, Some(id)) => {
            let of = file.of.into_iter().map(entry).collect::<Result<Vec<_>, _>>()?;
            Ok(Entry::Loop { id, mandatory: file.needed, max, of })
        }
        _ => Err("an entry is either a seg or a loop".to_owned()),
    }
}

fn dictionary(text: &str) -> Result<Dictionary, String> {
    let file: DictionaryFile = toml_edit::de::from_str(text).map_err(|error| error.to_string())?;
    let mut elements = HashMap::new();
    for (number, element) in file.elements {
        let number: u16 = number.parse().map_err(|_| format!("data element {number} is no number"))?;
        elements.insert(number, Arc::new(element_definition(number, element)?));
    }
    let mut segments = HashMap::new();
    for (id, segment) in file.segments {
        let places = segment.elements.iter().map(|place| self::place(&id, place, &elements)).collect::<Result<_, _>>()?;
        let rules = segment.rules.iter().map(|rule| self::rule(&id, rule)).collect::<Result<_, _>>()?;
        segments.insert(id, SegmentDefinition { name: segment.name, elements: places, rules });
    }
    Ok(Dictionary { segments })
}

fn element_definition(number: u16, file: ElementFile) -> Result<ElementDefinition, String> {
    let kind = match file.kind.as_str() {
        "AN" => Kind::Text,
        "ID" => Kind::Code,
        "R" => Kind::Decimal,
        "DT" => Kind::Date,
        "TM" => Kind::Time,
        "B" => Kind::Binary,
        other if other.starts_with('N') => Kind::Numeric,
        other => return Err(format!("data element {number} has the unknown type {other}")),
    };
    let complete = file.sure.as_deref() == Some("sure");
    Ok(ElementDefinition { number, name: file.name, kind, min: file.min, max: file.max, codes: file.codes, complete })
}

fn place(segment: &str, text: &str, elements: &HashMap<u16, Arc<ElementDefinition>>) -> Result<Place, String> {
    let (number, use_) = text.split_once(' ').ok_or_else(|| format!("{segment}: `{text}` lacks its use"))?;
    let element = match number.parse::<u16>() {
        Ok(number) => {
            Some(elements.get(&number).ok_or_else(|| format!("{segment} uses the unknown data element {number}"))?.clone())
        }
        Err(_) => None,
    };
    Ok(Place { mandatory: use_ == "M", element })
}

fn rule(segment: &str, text: &str) -> Result<Rule, String> {
    let bad = || format!("{segment}: `{text}` is no relational condition");
    let kind = match text.as_bytes().first() {
        Some(b'P') => RuleKind::Paired,
        Some(b'R') => RuleKind::Required,
        Some(b'E') => RuleKind::Exclusion,
        Some(b'C') => RuleKind::Conditional,
        Some(b'L') => RuleKind::ListConditional,
        _ => return Err(bad()),
    };
    let positions = text.as_bytes()[1..]
        .chunks(2)
        .map(|two| std::str::from_utf8(two).ok().and_then(|two| two.parse().ok()))
        .collect::<Option<Vec<usize>>>()
        .filter(|positions| positions.len() >= 2)
        .ok_or_else(bad)?;
    Ok(Rule { kind, positions })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_compiled_in_tables_read_and_an_industry_suffix_is_cut() {
        let set = Definitions::standard().find("004010VICS", "850").unwrap();
        assert_eq!((set.name.as_str(), set.functional_id.as_str()), ("Purchase Order", "PO"));
        assert_eq!(set.segment("PO1").unwrap().element(3).unwrap().meaning("EA"), Some("Each"));
        assert!(Definitions::standard().find("003040", "850").is_none());
    }

    #[test]
    fn every_rule_speaks_of_elements_that_its_segment_has() {
        for set in Definitions::standard().all() {
            for (id, segment) in &set.dictionary.segments {
                for rule in &segment.rules {
                    assert!(rule.positions.len() > 1, "{id}: a rule relates elements");
                    assert!(rule.positions.iter().all(|at| (1..=segment.len()).contains(at)), "{id} {:?}", rule.positions);
                }
                for element in segment.elements.iter().filter_map(|place| place.element.as_deref()) {
                    assert!(
                        (1..=element.max).contains(&element.min),
                        "{id}: {} is {} to {}",
                        element.name,
                        element.min,
                        element.max
                    );
                }
            }
        }
    }

    #[test]
    fn every_segment_of_a_set_is_in_the_dictionary() {
        for set in Definitions::standard().all() {
            for id in set.segment_ids() {
                assert!(set.segment(id).is_some(), "{} uses {id}", set.set);
            }
        }
    }
}
