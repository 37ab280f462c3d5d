//! Builds a transaction set from a map's result: fields by designator, in the order of the set's table.

use crate::Document;
use crate::expr::split_designator;
use crate::partner::Sending;
use crate::x12::definitions::{Entry, SetDefinition};
use crate::x12::plain::compose;
use crate::x12::{Delimiters, Envelope, GroupHead, Level, Party, SetTree, Tokens, Writer, check_set};
use serde_json::{Map as Fields, Value, json};
use std::sync::Arc;

/// Returns the set as `edi tree` writes it: `{"set": …, "version": …, "tree": …}`. The writer adds ST and SE.
pub(super) fn tree(set: &SetDefinition, fields: &Fields<String, Value>) -> Value {
    json!({ "set": set.set, "version": set.version, "tree": { "loop": set.set, "of": level(&set.table, fields) } })
}

/// Returns the segments and loops of one level, in the order of the table. An id that occurs twice there is filled at the first.
fn level(entries: &[Entry], fields: &Fields<String, Value>) -> Vec<Value> {
    let mut all = Vec::new();
    let mut done: Vec<&str> = Vec::new();
    for entry in entries {
        let id = entry.id();
        if done.contains(&id) {
            continue;
        }
        done.push(id);
        let lists = fields.get(id).and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_object);
        match entry {
            Entry::Segment { .. } => {
                all.extend(segment(id, fields));
                all.extend(lists.filter_map(|item| segment(id, item)));
            }
            Entry::Loop { of, .. } => {
                let opener = segment(id, fields).map(|opener| json!({ "loop": id, "of": [opener] }));
                all.extend(opener);
                let made = lists.map(|item| level(of, item)).filter(|inner| !inner.is_empty());
                all.extend(made.map(|inner| json!({ "loop": id, "of": inner })));
            }
        }
    }
    all
}

/// The segment with the elements that `fields` has of it; none where it has none.
fn segment(id: &str, fields: &Fields<String, Value>) -> Option<Value> {
    let own =
        fields.iter().filter(|(name, value)| matches!(split_designator(name), (own, Some(_)) if own == id) && !is_empty(value));
    let mut elements: Fields<String, Value> = own.map(|(name, value)| (name.clone(), value.clone())).collect();
    if elements.is_empty() {
        return None;
    }
    elements.insert("segment".to_owned(), Value::from(id));
    Some(Value::Object(elements))
}

fn is_empty(value: &Value) -> bool {
    value.is_null() || value.as_str().is_some_and(str::is_empty)
}

/// Writes such a tree with the separators of `sending`, with control number 0001 until it is sealed.
pub(super) fn document(set: &Arc<SetDefinition>, tree: &Value, sending: &Sending) -> Result<Document, String> {
    let nodes = crate::edi::tree::from_json(&tree["tree"]).map_err(|error| error.to_string())?;
    let nobody = || Party { qualifier: "ZZ".to_owned(), id: "NOBODY".to_owned() };
    let delimiters = sending.delimiters;
    let envelope = Envelope {
        sender: nobody(),
        receiver: nobody(),
        date: "20260101".to_owned(),
        time: "0000".to_owned(),
        version: set.version.get(..5).unwrap_or("00401").to_owned(),
        control: 1,
        wants_ta1: false,
        usage: "T".to_owned(),
        delimiters,
    };
    let mut writer = Writer::new(envelope, sending.style);
    writer.start_group(&GroupHead {
        functional_id: set.functional_id.clone(),
        sender: nobody().id,
        receiver: nobody().id,
        control: 1,
        version: set.version.clone(),
    });
    compose(set, &nodes, &mut writer).map_err(|error| error.to_string())?;
    let bytes = writer.finish().map_err(|error| error.to_string())?;
    // Between ISA and GS, and GE and IEA.
    let tokens = Tokens::new(bytes.as_slice(), delimiters);
    let (first, last) = (tokens.segment(2), tokens.segment(tokens.len() - 3));
    let own: Arc<[u8]> = bytes[first.offset as usize..last.end as usize].into();
    if let Some(says) = unsound(set, &own, delimiters) {
        return Err(says);
    }
    let tree = SetTree::new(set.clone(), own, delimiters).map_err(|error| error.to_string())?;
    Ok(Document::X12(Arc::new(tree)))
}

/// X12 data element 723: the code is not in the element's list.
const NO_SUCH_CODE: &str = "7";

/// Returns why a partner would reject the set. Codes are left to the partner's guide, which may have more.
fn unsound(set: &Arc<SetDefinition>, bytes: &[u8], delimiters: Delimiters) -> Option<String> {
    let faults = check_set(set, bytes, delimiters).faults;
    let mut wrong =
        faults.iter().filter(|fault| fault.rejects() && !(fault.level == Level::Element && fault.code == NO_SUCH_CODE));
    let first = wrong.next()?;
    let more = match wrong.count() {
        0 => String::new(),
        1 => "; 1 more error".to_owned(),
        more => format!("; {more} more errors"),
    };
    Some(format!("segment {}: {}{more}", first.position, first.says))
}
