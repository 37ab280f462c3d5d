//! The data files of definitions: how they are written, and what may be wrong with one.

use super::codes::CodeSet;
use super::dictionary::{
    CompositeDefinition, Content, Dictionary, ElementDefinition, Kind, Place, Rule, RuleKind, SegmentDefinition, Use,
};
use super::table::{Entry, SetDefinition};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;
use std::sync::Arc;

/// A definition file, or a guide, that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{says}")]
pub struct DefinitionError {
    /// The fault in one sentence.
    pub says: String,
    /// Place in the text, in bytes; `None` if the file is valid by itself but conflicts with others.
    pub at: Option<Range<usize>>,
}

pub(super) fn error(says: impl Into<String>) -> DefinitionError {
    DefinitionError { says: says.into(), at: None }
}

/// Parses a file, or returns its fault.
pub(super) fn from_toml<T: DeserializeOwned>(text: &str) -> Result<T, DefinitionError> {
    toml_edit::de::from_str(text)
        .map_err(|wrong| DefinitionError { says: wrong.message().lines().collect::<Vec<_>>().join("; "), at: wrong.span() })
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SetFile {
    set: String,
    name: String,
    functional_id: String,
    version: String,
    table: Vec<EntryFile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, expecting = "an entry of the table: `seg` or `loop`, with `max`")]
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
    assumed: bool,
    #[serde(default)]
    of: Vec<EntryFile>,
}

/// Segments, composites and elements of a dictionary file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct DictionaryFile {
    base: Option<String>,
    segments: BTreeMap<String, SegmentFile>,
    composites: BTreeMap<String, SegmentFile>,
    elements: BTreeMap<String, ElementFile>,
    codes: BTreeMap<String, BTreeMap<String, String>>,
}

#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, expecting = "a segment: `name` and `elements`")]
struct SegmentFile {
    name: String,
    elements: Option<Vec<String>>,
    #[serde(default)]
    rules: Vec<String>,
    #[serde(default)]
    assumed: bool,
}

#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, expecting = "a data element: `name` and `form`")]
struct ElementFile {
    name: String,
    form: String,
    list: Option<String>,
}

pub(super) fn set(text: &str, dictionaries: &BTreeMap<String, Arc<Dictionary>>) -> Result<SetDefinition, DefinitionError> {
    let file: SetFile = from_toml(text)?;
    let dictionary = dictionaries
        .get(&file.version)
        .ok_or_else(|| error(format!("{} {}: there is no dictionary of {0}", file.version, file.set)))?;
    let table = file.table.into_iter().map(entry).collect::<Result<_, _>>()?;
    SetDefinition::new(file.set, file.name, file.functional_id, table, dictionary.clone())
}

fn entry(file: EntryFile) -> Result<Entry, DefinitionError> {
    let max = if file.max == 0 { u32::MAX } else { file.max };
    match (file.seg, file.loop_) {
        (Some(id), None) => Ok(Entry::Segment { id, mandatory: file.use_.as_deref() == Some("M"), max, assumed: file.assumed }),
        (None, Some(id)) => {
            let of = file.of.into_iter().map(entry).collect::<Result<Vec<_>, _>>()?;
            if of.first().is_none_or(|first| first.id() != id) {
                return Err(error(format!("the loop {id} begins with another segment than {id}")));
            }
            Ok(Entry::Loop { id, mandatory: file.needed, max, assumed: file.assumed, of })
        }
        _ => Err(error("an entry is either a seg or a loop")),
    }
}

pub(super) fn dictionary(
    version: &str,
    text: &str,
    known: &BTreeMap<String, Arc<Dictionary>>,
) -> Result<Dictionary, DefinitionError> {
    let file: DictionaryFile = from_toml(text)?;
    let base = match &file.base {
        Some(base) => Some(known.get(base).ok_or_else(|| error(format!("{version} builds on {base}, which is not known")))?),
        None => None,
    };
    extended(version, base.map(Arc::as_ref), file)
}

/// Returns a dictionary with the additions and changes of `file`. The rest is inherited, with the elements as changed.
pub(super) fn extended(
    version: &str,
    base: Option<&Dictionary>,
    mut file: DictionaryFile,
) -> Result<Dictionary, DefinitionError> {
    let mut elements = base.map(|base| base.elements.clone()).unwrap_or_default();
    for (number, element) in std::mem::take(&mut file.elements) {
        let number: u16 = number.parse().map_err(|_| error(format!("data element {number} is not a number")))?;
        let before = elements.get(&number).map(|before: &Arc<ElementDefinition>| before.codes.clone()).unwrap_or_default();
        elements.insert(number, Arc::new(element_definition(number, element, before)?));
    }
    for (number, codes) in std::mem::take(&mut file.codes) {
        let known = number.parse::<u16>().ok().and_then(|number| elements.get_mut(&number));
        let element = known.ok_or_else(|| error(format!("codes for {number}, which is not a data element here")))?;
        let element = Arc::make_mut(element);
        element.codes.extend(codes);
        element.packed = packed(&element.codes);
    }
    let mut composites: HashMap<String, Arc<CompositeDefinition>> = HashMap::new();
    let inherited = base.into_iter().flat_map(|base| base.composites.values()).map(|old| {
        let parts = old.parts.iter().map(|place| renewed(place, &elements, &HashMap::new())).collect();
        CompositeDefinition { id: old.id.clone(), name: old.name.clone(), parts, rules: old.rules.clone() }
    });
    composites.extend(inherited.map(|composite| (composite.id.clone(), Arc::new(composite))));
    for (id, composite) in std::mem::take(&mut file.composites) {
        let places = composite.elements.unwrap_or_default();
        let parts = places.iter().map(|text| place(&id, text, &elements, &HashMap::new())).collect::<Result<_, _>>()?;
        let rules = composite.rules.iter().map(|text| rule(&id, text)).collect::<Result<_, _>>()?;
        composites.insert(id.clone(), Arc::new(CompositeDefinition { id, name: composite.name, parts, rules }));
    }
    let mut segments: HashMap<String, Arc<SegmentDefinition>> = HashMap::new();
    for old in base.into_iter().flat_map(|base| base.segments.values()) {
        let places = old.elements.iter().map(|place| renewed(place, &elements, &composites)).collect();
        let mut renewed = SegmentDefinition { elements: places, ..old.as_ref().clone() };
        renewed.renew();
        segments.insert(old.id.clone(), Arc::new(renewed));
    }
    for (id, segment) in file.segments {
        let open = segment.elements.is_none();
        let places = segment.elements.unwrap_or_default();
        let places = places.iter().map(|text| place(&id, text, &elements, &composites)).collect::<Result<Vec<_>, _>>()?;
        let rules = segment.rules.iter().map(|text| rule(&id, text)).collect::<Result<Vec<_>, _>>()?;
        // Present positions are bits of one number.
        if places.len() > 64 {
            return Err(error(format!("{id} has {} elements; at most 64 can be checked", places.len())));
        }
        if let Some(far) = rules.iter().flat_map(|rule| &rule.positions).find(|at| **at == 0 || **at > places.len()) {
            return Err(error(format!("a rule of {id} uses position {far}, but {id} has {}", places.len())));
        }
        let (id, assumed) = (id.clone(), segment.assumed);
        let mut definition = SegmentDefinition {
            id: id.clone(),
            name: segment.name,
            assumed,
            open,
            elements: places,
            rules,
            needed: 0,
            quick: Vec::new(),
            pairs: 0,
            other_rules: Vec::new(),
        };
        definition.renew();
        segments.insert(id, Arc::new(definition));
    }
    Ok(Dictionary { version: version.to_owned(), segments, composites, elements })
}

/// A place as before, with the element or composite as it is now.
fn renewed(
    place: &Place,
    elements: &HashMap<u16, Arc<ElementDefinition>>,
    composites: &HashMap<String, Arc<CompositeDefinition>>,
) -> Place {
    let content = match &place.content {
        Content::Element(old) => Content::Element(elements.get(&old.number).unwrap_or(old).clone()),
        Content::Composite(old) => Content::Composite(composites.get(&old.id).unwrap_or(old).clone()),
    };
    Place { content, ..place.clone() }
}

fn element_definition(
    number: u16,
    file: ElementFile,
    before: BTreeMap<String, String>,
) -> Result<ElementDefinition, DefinitionError> {
    let unclear = || error(format!("data element {number}: expected a form such as `AN 1/30`, found `{}`", file.form));
    let (kind, lengths) = file.form.split_once(' ').ok_or_else(unclear)?;
    let (min, max) = lengths.split_once('/').ok_or_else(unclear)?;
    let kind = match kind {
        "AN" => Kind::Text,
        "ID" => Kind::Code,
        "R" => Kind::Decimal,
        "DT" => Kind::Date,
        "TM" => Kind::Time,
        "B" => Kind::Binary,
        numeric => Kind::Numeric(numeric.strip_prefix('N').and_then(|places| places.parse().ok()).ok_or_else(unclear)?),
    };
    let (min, max) = (min.parse().map_err(|_| unclear())?, max.parse().map_err(|_| unclear())?);
    let complete = file.list.as_deref() == Some("sure");
    let packed = packed(&before);
    Ok(ElementDefinition { number, name: file.name, kind, min, max, codes: before, complete, packed })
}

fn packed(codes: &BTreeMap<String, String>) -> Arc<CodeSet> {
    Arc::new(CodeSet::new(codes.keys().map(String::as_str)))
}

/// `355 M`, `C040 O`, and `1271 O 10` for an element that may be repeated.
fn place(
    segment: &str,
    text: &str,
    elements: &HashMap<u16, Arc<ElementDefinition>>,
    composites: &HashMap<String, Arc<CompositeDefinition>>,
) -> Result<Place, DefinitionError> {
    let mut words = text.split(' ');
    let (what, use_) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
    let use_ = match use_ {
        "M" => Use::Mandatory,
        "O" => Use::Optional,
        "X" => Use::Relational,
        _ => return Err(error(format!("{segment}: `{text}` needs its use: M, O or X"))),
    };
    let repeats = match words.next() {
        Some(times) => {
            times.parse().map_err(|_| error(format!("{segment}: `{times}` in `{text}` is not a number of repetitions")))?
        }
        None => 1,
    };
    let content = match what.parse::<u16>() {
        Ok(number) => elements.get(&number).cloned().map(Content::Element),
        Err(_) => composites.get(what).cloned().map(Content::Composite),
    };
    let content = content.ok_or_else(|| error(format!("{segment} uses {what}, which is not in the dictionary")))?;
    Ok(Place { use_, content, repeats, narrowed: None })
}

fn rule(segment: &str, text: &str) -> Result<Rule, DefinitionError> {
    let bad = || error(format!("{segment}: `{text}` is not a relational condition"));
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
    Ok(Rule::new(kind, positions))
}
