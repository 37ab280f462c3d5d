//! Implementation guides: a partner's requirements and permissions beyond the standard.

use super::dictionary::{Narrowed, Place, SegmentDefinition};
use super::files::{DefinitionError, DictionaryFile, error, extended, from_toml};
use super::table::{Entry, Node, SetDefinition};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A partner's guide to one set, as in its file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Guide {
    pub title: String,
    /// The set it narrows: `x12/004010/850`.
    pub of: String,
    /// Segments that are narrowed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub segment: Vec<SegmentGuide>,
    /// Segments at places where the standard has none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub add: Vec<Added>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rule: Vec<Condition>,
    /// Segments and elements of its own, in the form of a dictionary file.
    #[serde(skip_serializing)]
    pub dictionary: Option<DictionaryFile>,
}

/// Rules for one place of the table.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default, expecting = "a rule for a segment: `at`, with `use`, `max` or `elements`")]
pub struct SegmentGuide {
    /// The place: loops from the outside in, then the segment, e.g. `N1/PER`; a loop's own segment is `N1/N1`, `N1` the loop.
    pub at: String,
    #[serde(rename = "use", skip_serializing_if = "Option::is_none")]
    pub use_: Option<GuideUse>,
    /// The most times it may come.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max: Option<u32>,
    /// By designator, e.g. `BEG02`.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub elements: BTreeMap<String, ElementGuide>,
}

/// Requirement: mandatory, optional or forbidden.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum GuideUse {
    Required,
    Forbidden,
}

/// Rules for one element.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default, expecting = "a rule for an element, such as `{ use = \"required\" }`")]
pub struct ElementGuide {
    #[serde(rename = "use", skip_serializing_if = "Option::is_none")]
    pub use_: Option<GuideUse>,
    /// The only codes or values it may have.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub codes: Vec<String>,
    /// Codes allowed besides those of the standard.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub more_codes: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shortest: Option<usize>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest: Option<usize>,
    /// The sentence for who breaks it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub says: Option<String>,
}

/// A segment at a place where the standard has none.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, expecting = "a segment that is added: `segment` and `after`")]
pub struct Added {
    /// Id; the segment is in the dictionary of the version, or in the guide's own.
    pub segment: String,
    /// The place it follows, e.g. `PO1/REF`.
    pub after: String,
    /// The maximum number of repetitions; 1 when left out.
    #[serde(default = "once")]
    pub max: u32,
}

fn once() -> u32 {
    1
}

/// A rule with a sentence of its own: when an element of a segment has one of some values, others are required or forbidden.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default, expecting = "a rule: `in`, `when` and `needs`")]
pub struct Condition {
    /// The segment's id, e.g. `N1`.
    #[serde(rename = "in")]
    pub within: String,
    /// The element that decides, e.g. `N101`; if empty, the rule applies to each such segment.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub when: String,
    /// The values for which the rule applies; all if empty.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub is: Vec<String>,
    /// Elements that must be given then.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<String>,
    /// Elements that must not.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub forbids: Vec<String>,
    /// The sentence for who breaks it.
    pub says: String,
}

impl Guide {
    /// Reads a guide from the text of its file.
    ///
    /// # Errors
    /// [`DefinitionError`] with the place in the text.
    pub fn read(text: &str) -> Result<Self, DefinitionError> {
        from_toml(text)
    }

    /// The text of its file: what [`Self::read`] reads, with each segment's elements a line each.
    #[must_use]
    pub fn to_text(&self) -> String {
        let mut document = toml_edit::ser::to_document(self).unwrap_or_default();
        // Tables of their own read better than one long line for a segment.
        for key in ["segment", "add", "rule"] {
            let Some(list) = document.get_mut(key) else { continue };
            let inline = std::mem::take(list);
            if let Ok(mut tables) = inline.into_array_of_tables() {
                for table in tables.iter_mut() {
                    if let Some(elements) = table.get_mut("elements")
                        && let Ok(elements_table) = std::mem::take(elements).into_table()
                    {
                        *elements = toml_edit::Item::Table(elements_table);
                    }
                }
                document.insert(key, toml_edit::Item::ArrayOfTables(tables));
            }
        }
        document.to_string()
    }

    /// Version and number of the set it narrows.
    #[must_use]
    pub fn set(&self) -> Option<(&str, &str)> {
        self.of.strip_prefix("x12/")?.split_once('/')
    }

    /// The set as the guide, named `name`, has it.
    ///
    /// # Errors
    /// [`DefinitionError`] where the guide speaks of something that the set does not have.
    pub fn apply(&self, name: &str, standard: &SetDefinition) -> Result<SetDefinition, DefinitionError> {
        let mut set = standard.clone();
        set.guide = name.to_owned();
        if let Some(own) = &self.dictionary {
            let version = standard.version.clone();
            set.dictionary = Arc::new(extended(&version, Some(standard.dictionary.as_ref()), own.clone())?);
        }
        if !self.add.is_empty() || self.dictionary.is_some() {
            let mut table = standard.table.clone();
            for added in &self.add {
                insert(&mut table, &added.after, added)
                    .ok_or_else(|| error(format!("add {}: {} has no place {}", added.segment, set.set, added.after)))?;
            }
            set.lay_out(table)?;
        }
        for narrowed in &self.segment {
            let at = place(&set, &narrowed.at)
                .ok_or_else(|| error(format!("{} has no place {}: write a segment of a loop as N1/PER", set.set, narrowed.at)))?;
            narrow(&mut set.nodes[at], narrowed)?;
        }
        for rule in &self.rule {
            let segment =
                set.segment(&rule.within).ok_or_else(|| error(format!("a rule uses {}, which is not a segment", rule.within)))?;
            for designator in rule.needs.iter().chain(&rule.forbids).chain(Some(&rule.when).filter(|when| !when.is_empty())) {
                position(segment, designator)?;
            }
            set.conditions.push(rule.clone());
        }
        set.renew_steps();
        Ok(set)
    }
}

fn narrow(node: &mut Node, by: &SegmentGuide) -> Result<(), DefinitionError> {
    match by.use_ {
        Some(GuideUse::Required) => (node.narrowed_need, node.mandatory) = (!node.mandatory, true),
        Some(GuideUse::Forbidden) => node.forbidden = true,
        None => {}
    }
    if let Some(max) = by.max {
        (node.narrowed_max, node.max) = (max < node.max, max);
    }
    if by.elements.is_empty() {
        return Ok(());
    }
    let segment = Arc::make_mut(&mut node.segment);
    for (designator, element) in &by.elements {
        let at = position(segment, designator)?;
        segment.elements[at - 1].narrowed = Some(Box::new(Narrowed {
            forbidden: element.use_ == Some(GuideUse::Forbidden),
            needed: element.use_ == Some(GuideUse::Required),
            codes: element.codes.clone(),
            more_codes: element.more_codes.clone(),
            shortest: element.shortest,
            longest: element.longest,
            says: element.says.clone(),
        }));
    }
    segment.renew();
    Ok(())
}

/// The position that a designator such as `BEG02` names in a segment.
fn position(segment: &SegmentDefinition, designator: &str) -> Result<usize, DefinitionError> {
    let number = designator.strip_prefix(segment.id.as_str()).filter(|number| number.len() == 2);
    let at = number.and_then(|number| number.parse().ok()).filter(|at| (1..=segment.len()).contains(at));
    at.ok_or_else(|| error(format!("{designator} is not an element of {}: it has {0}01 to {0}{:02}", segment.id, segment.len())))
}

/// The node at a place such as `N1/PER`.
fn place(set: &SetDefinition, path: &str) -> Option<usize> {
    let (mut from, mut to, mut found) = (1, set.nodes.len(), None);
    for step in path.split('/') {
        let mut at = from;
        found = None;
        while at < to {
            if set.nodes[at].id == step {
                found = Some(at);
                break;
            }
            at = usize::from(set.nodes[at].end);
        }
        (from, to) = (found? + 1, usize::from(set.nodes[found?].end));
    }
    found
}

fn insert(table: &mut Vec<Entry>, after: &str, added: &Added) -> Option<()> {
    let (step, rest) = after.split_once('/').map_or((after, None), |(step, rest)| (step, Some(rest)));
    let at = table.iter().position(|entry| entry.id() == step)?;
    match (rest, &mut table[at]) {
        (Some(rest), Entry::Loop { of, .. }) => insert(of, rest, added),
        (Some(_), Entry::Segment { .. }) => None,
        (None, _) => {
            let max = if added.max == 0 { u32::MAX } else { added.max };
            table.insert(at + 1, Entry::Segment { id: added.segment.clone(), mandatory: false, max, assumed: false });
            Some(())
        }
    }
}

impl Place {
    pub(crate) fn guide(&self) -> Option<&Narrowed> {
        self.narrowed.as_deref()
    }
}

impl Condition {
    /// The designators needed or forbidden that a segment breaks the rule by, with whether it is missing.
    pub(crate) fn broken_by<'c>(&'c self, segment: &crate::Segment<'_>) -> impl Iterator<Item = (usize, bool)> + use<'c> {
        let at =
            |designator: &str| designator.get(self.within.len()..).and_then(|number| number.parse::<usize>().ok()).unwrap_or(0);
        let holds = self.when.is_empty() || {
            let value = segment.element(at(&self.when));
            !value.is_empty() && (self.is.is_empty() || self.is.iter().any(|is| is.as_bytes() == value))
        };
        let missing = self.needs.iter().map(move |needed| (at(needed), true));
        let there = self.forbids.iter().map(move |forbidden| (at(forbidden), false));
        let broken: Vec<(usize, bool)> = match holds {
            true => missing.chain(there).filter(|(at, missing)| segment.element(*at).is_empty() == *missing).collect(),
            false => Vec::new(),
        };
        broken.into_iter()
    }
}
