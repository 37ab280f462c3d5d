//! The fields of a transaction set, as those of a schema are shown and searched.

use super::Leaf;
use crate::x12::SetDefinition;
use crate::x12::definitions::{Content, Entry, Use};
use serde_json::Value;

/// Returns the elements of a set in the order of its table, each with the loops it is in: `N1[].N301`. The opening segment of a
/// loop has its elements in the loop: `N1[].N102`. Codes with their meanings are the examples.
#[must_use]
pub fn fields_of_set(set: &SetDefinition) -> Vec<(String, Leaf)> {
    let mut all = Vec::new();
    level(set, &set.table, "", &mut all);
    all
}

fn level(set: &SetDefinition, entries: &[Entry], at: &str, all: &mut Vec<(String, Leaf)>) {
    for entry in entries {
        match entry {
            Entry::Segment { id, .. } => segment(set, id, entry.mandatory(), at, all),
            Entry::Loop { of, .. } => level(set, of, &format!("{at}{}[].", entry.id()), all),
        }
    }
}

fn segment(set: &SetDefinition, id: &str, needed: bool, at: &str, all: &mut Vec<(String, Leaf)>) {
    let Some(definition) = set.segment(id) else { return };
    for (n, place) in definition.places().enumerate() {
        let path = format!("{at}{id}{:02}", n + 1);
        let (kind, examples) = match &place.content {
            Content::Element(element) => {
                let codes = element.codes().iter().map(|(code, says)| Value::from(format!("{code} {says}")));
                (format!("{} {}-{}", element.kind, element.min, element.max), codes.collect())
            }
            Content::Composite(_) => ("composite".to_owned(), Vec::new()),
        };
        let required = needed && place.use_ == Use::Mandatory;
        all.push((
            path,
            Leaf { path: Vec::new(), kind, format: String::new(), required, title: place.content.name().to_owned(), examples },
        ));
    }
}

#[cfg(test)]
mod tests {
    use super::fields_of_set;
    use crate::x12::Definitions;

    #[test]
    fn the_elements_of_a_set_stand_in_its_order_below_their_loops() {
        let all = fields_of_set(Definitions::standard().find("004010", "850").expect("the set"));
        let of =
            |path: &str| all.iter().find(|(known, _)| known == path).map(|(_, leaf)| leaf).unwrap_or_else(|| panic!("{path}"));
        let number = of("BEG03");
        assert_eq!((number.kind.as_str(), number.required, number.title.as_str()), ("AN 1-22", true, "Purchase Order Number"));
        assert!(!of("BEG04").required);
        assert!(of("PO1[].PO103").examples.iter().any(|code| code == "EA Each"));
        assert!(!of("N1[].N301").required, "its segment may be left out");
        let place = |path: &str| all.iter().position(|(known, _)| known == path);
        assert!(place("BEG01") < place("N1[].N102") && place("N1[].N102") < place("PO1[].PO101"));
    }
}
