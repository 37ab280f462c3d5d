//! Tables of the standard: the segments of a set, the elements of a segment, the values of an element.
//!
//! They are data files under `defs/`, compiled in; [`Definitions::standard`] reads them once.

mod codes;
mod dictionary;
mod files;
mod guide;
mod table;

pub(crate) use codes::pack;
pub use dictionary::{CompositeDefinition, Content, Dictionary, ElementDefinition, Kind, Place, SegmentDefinition, Use};
pub(crate) use dictionary::{Quick, Rule, RuleKind};
pub use files::DefinitionError;
pub use guide::{Added, Condition, ElementGuide, Guide, GuideUse, SegmentGuide};
pub use table::{Entry, SetDefinition};
pub(crate) use table::{NodeId, SegmentKey};

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

/// Set definitions, by version and set.
#[derive(Debug, Default, Clone)]
pub struct Definitions {
    dictionaries: BTreeMap<String, Arc<Dictionary>>,
    sets: BTreeMap<(String, String), Arc<SetDefinition>>,
}

const DICTIONARIES: [&str; 2] =
    [include_str!("../../defs/004010/dictionary.toml"), include_str!("../../defs/005010/dictionary.toml")];
const SETS: [&str; 7] = [
    include_str!("../../defs/004010/850.toml"),
    include_str!("../../defs/004010/855.toml"),
    include_str!("../../defs/004010/997.toml"),
    include_str!("../../defs/005010/850.toml"),
    include_str!("../../defs/005010/855.toml"),
    include_str!("../../defs/005010/997.toml"),
    include_str!("../../defs/005010/999.toml"),
];

impl Definitions {
    /// The definitions that ship with the crate.
    pub fn standard() -> &'static Arc<Self> {
        static STANDARD: OnceLock<Arc<Definitions>> = OnceLock::new();
        STANDARD.get_or_init(|| {
            let mut all = Self::default();
            for (version, text) in ["004010", "005010"].into_iter().zip(DICTIONARIES) {
                all.add_dictionary(version, text).expect("compiled-in dictionary");
            }
            for text in SETS {
                all.add_set(text).expect("compiled-in table");
            }
            Arc::new(all)
        })
    }

    /// Adds the dictionary of a version, from the text of a file like those under `defs/`.
    ///
    /// # Errors
    /// [`DefinitionError`] for an invalid file, or an unknown base.
    pub fn add_dictionary(&mut self, version: &str, text: &str) -> Result<(), DefinitionError> {
        let dictionary = files::dictionary(version, text, &self.dictionaries)?;
        self.dictionaries.insert(version.to_owned(), Arc::new(dictionary));
        Ok(())
    }

    /// Adds a set, from the text of a file like those under `defs/`, with segments of its version's dictionary.
    ///
    /// # Errors
    /// [`DefinitionError`] for an invalid file, or a segment that the dictionary lacks.
    pub fn add_set(&mut self, text: &str) -> Result<Arc<SetDefinition>, DefinitionError> {
        let set = Arc::new(files::set(text, &self.dictionaries)?);
        self.sets.insert((set.version.clone(), set.set.clone()), set.clone());
        Ok(set)
    }

    /// Puts a set, e.g. one narrowed by a [`Guide`], into the place of the one with its version and number.
    pub fn replace(&mut self, set: Arc<SetDefinition>) {
        self.sets.insert((set.version.clone(), set.set.clone()), set);
    }

    /// The definition of `set` in the version of a group's GS08.
    ///
    /// Industry suffixes (`004010VICS`) are cut off: the first six characters decide.
    #[must_use]
    pub fn find(&self, version: &str, set: &str) -> Option<&Arc<SetDefinition>> {
        let version = version.get(..6).unwrap_or(version);
        self.sets.get(&(version.to_owned(), set.to_owned()))
    }

    /// Returns whether any set of that version is known.
    #[must_use]
    pub fn knows_version(&self, version: &str) -> bool {
        let version = version.get(..6).unwrap_or(version);
        self.dictionaries.contains_key(version)
    }

    /// The segments and elements of a version; of the oldest one known where that version is not.
    #[must_use]
    pub fn dictionary(&self, version: &str) -> Option<&Arc<Dictionary>> {
        let version = version.get(..6).unwrap_or(version);
        self.dictionaries.get(version).or_else(|| self.dictionaries.values().next())
    }

    /// Every definition, by version and number.
    pub fn all(&self) -> impl Iterator<Item = &Arc<SetDefinition>> {
        self.sets.values()
    }
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
        let known: Vec<String> = Definitions::standard().all().map(|set| format!("{} {}", set.version, set.set)).collect();
        let expected = ["004010 850", "004010 855", "004010 997", "005010 850", "005010 855", "005010 997", "005010 999"];
        assert_eq!(known, expected);
    }

    #[test]
    fn a_later_version_has_what_it_changes_and_the_rest_as_before() {
        let lengths = |version: &str| {
            let set = Definitions::standard().find(version, "850").unwrap();
            let reference = set.segment("REF").unwrap();
            (reference.element(2).unwrap().max, set.segment("BEG").unwrap().element(3).unwrap().max)
        };
        assert_eq!((lengths("004010"), lengths("005010")), ((30, 22), (50, 22)));
    }

    #[test]
    fn every_rule_speaks_of_elements_that_its_segment_has_and_every_length_can_be_met() {
        for dictionary in Definitions::standard().dictionaries.values() {
            for segment in dictionary.segments() {
                for rule in &segment.rules {
                    assert!(rule.positions.len() > 1, "{}: a rule relates elements", segment.id);
                    assert!(rule.positions.iter().all(|at| (1..=segment.len()).contains(at)), "{} {rule:?}", segment.id);
                }
                for n in 1..=segment.len() {
                    let Some(element) = segment.element(n) else { continue };
                    assert!((1..=element.max).contains(&element.min), "{}{n:02} {element:?}", segment.id);
                    for code in element.codes.keys() {
                        assert!(code.len() <= element.max, "{}: {code}", element.number);
                    }
                }
            }
        }
    }
}
