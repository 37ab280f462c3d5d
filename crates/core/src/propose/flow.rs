//! A first flow for what a capture recorded: connection or queue, schema, flow and case, as files that a person goes on with.

use crate::expr::path_text;
use crate::finding::{Finding, Severity};
use crate::place::{Place, Property};
use crate::schema::{Leaf, Schema, infer};
use crate::workspace::{Files, Workspace};
use crate::x12::Delimiters;
use serde_json::{Map, Value};
use std::fmt::Write;
use std::sync::Arc;

/// Longest name of an event, in bytes; longer texts are content.
const EVENT: usize = 80;
/// Words in the names of headers, and fields of bodies, that hold the event.
const EVENT_WORDS: [&str; 2] = ["event", "topic"];
const EVENT_FIELDS: [&str; 4] = ["type", "event", "event_type", "topic"];
/// Ends of names that say that a field identifies its document; the first is the best.
const KEYS: [&str; 6] = ["number", "no", "reference", "key", "id", "order"];

/// Where a capture recorded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Source<'a> {
    /// An address: the last part of its path.
    Address(&'a str),
    /// A tap on an exchange, by the connection of its broker.
    Exchange { connection: &'a str, exchange: &'a str, routing_key: &'a str },
}

/// One recorded call or message.
#[derive(Debug, Clone, Copy)]
pub struct Recorded<'a> {
    /// Headers of a call; properties of a message at a broker, with its headers below `headers`.
    pub headers: &'a Map<String, Value>,
    pub body: &'a [u8],
}

/// Why no flow is made.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum FirstFlowError {
    #[error("{0}")]
    Says(String),
    /// The workspace would have errors: those.
    #[error("the workspace would have errors with these files")]
    Findings(Vec<Finding>),
}

fn refused<T>(says: impl Into<String>) -> Result<T, FirstFlowError> {
    Err(FirstFlowError::Says(says.into()))
}

/// Returns where the event of a recorded item is named, and its name. Senders name it in a property `type`, in a header, or in a
/// field of the body.
#[must_use]
pub fn event(source: Source<'_>, item: Recorded<'_>) -> Option<(Place, String)> {
    let word = |value: &Value| value.as_str().filter(|word| !word.is_empty() && word.len() <= EVENT).map(str::to_owned);
    let named = |name: &str| name.to_ascii_lowercase().split('-').any(|part| EVENT_WORDS.contains(&part));
    let in_headers = |headers: &Map<String, Value>| {
        headers.iter().filter(|(name, _)| named(name)).find_map(|(name, value)| Some((Place::Header(name.clone()), word(value)?)))
    };
    let field = || {
        let Ok(Value::Object(fields)) = serde_json::from_slice(item.body) else { return None };
        EVENT_FIELDS.iter().find_map(|name| Some((Place::Field((*name).to_owned()), word(fields.get(*name)?)?)))
    };
    match source {
        Source::Address(_) => in_headers(item.headers).or_else(field),
        Source::Exchange { .. } => {
            let property = item.headers.get("type").and_then(word).map(|event| (Place::Property(Property::Type), event));
            let own = || item.headers.get("headers").and_then(Value::as_object).and_then(in_headers);
            property.or_else(own).or_else(field)
        }
    }
}

/// Returns the files that make a flow named `name` of a recorded item: new ones, and a connection file with one queue more.
///
/// `chosen` becomes the flow's case. Its schema is inferred from all the `items` with the same event. `files` is the workspace it
/// is made for.
///
/// # Errors
/// A file of the name that exists already, a body that is not text, or a workspace that would have errors.
pub fn first_flow(
    files: &Files,
    name: &str,
    source: Source<'_>,
    chosen: Recorded<'_>,
    items: &[Recorded<'_>],
) -> Result<Files, FirstFlowError> {
    let Ok(text) = std::str::from_utf8(chosen.body) else {
        return refused("the body is not text: a flow of it needs a schema that describes its bytes");
    };
    if text.trim().is_empty() {
        return refused("the chosen item has no body; choose one that has");
    }
    let found = event(source, chosen);
    let body = Body::of(chosen.body)?;
    let mut made = Files::new();
    let flow = format!("flows/{name}.toml");
    if !is_plain(name) {
        return refused(format!("`{name}` cannot be the name of a flow: use letters, digits and hyphens"));
    }
    let (from, queue) = match source {
        Source::Address(path) => {
            made.insert(format!("connections/{name}.toml"), webhook(name, path, found.as_ref(), chosen));
            (name, "")
        }
        Source::Exchange { connection, .. } => {
            let path = format!("connections/{connection}.toml");
            let Some(before) = files.get(&path) else {
                return refused(format!("{path} is missing: it is the broker of the tapped exchange"));
            };
            let before = before.trim_end_matches('\n');
            made.insert(path, format!("{before}\n\n{}", queue_of(name, source, found.as_ref(), chosen)));
            (connection, name)
        }
    };
    let (takes, key) = match &body {
        Body::Json(own) => {
            let event = |item: Recorded<'_>| event(source, item).map(|(_, event)| event);
            let same = items.iter().filter(|item| event(**item) == event(chosen));
            let mut samples: Vec<Value> = same.filter_map(|item| serde_json::from_slice(item.body).ok()).collect();
            if samples.is_empty() {
                samples.push(own.clone());
            }
            let root = infer(&samples, &title_of(name));
            made.insert(format!("schemas/{name}.schema.json"), pretty(&root));
            (name.to_owned(), key_of(&Schema { name: name.to_owned(), root }, &samples))
        }
        Body::X12(set) => (format!("x12/{set}"), key_of_set(set).map(str::to_owned)),
        Body::Text => ("text".to_owned(), None),
    };
    made.insert(flow, flow_of(name, from, queue, &takes, key.as_deref(), found.as_ref().map(|(_, event)| event.as_str())));
    let ending = match body {
        Body::Json(_) => "json",
        Body::X12(_) => "edi",
        Body::Text => "txt",
    };
    let case = format!("cases/{name}");
    made.insert(format!("{case}/given.{ending}"), text.to_owned());
    let mut about = format!("says  = \"As the capture recorded it\"\nflow  = {}\ngiven = \"given.{ending}\"\n", quoted(name));
    if let Some((_, event)) = &found {
        let _ = writeln!(about, "event = {}", quoted(event));
    }
    made.insert(format!("{case}/case.toml"), about);
    let changed = match source {
        Source::Address(_) => String::new(),
        Source::Exchange { connection, .. } => format!("connections/{connection}.toml"),
    };
    if let Some(known) = made.keys().find(|path| **path != changed && files.contains_key(*path)) {
        return refused(format!("{known} exists already; choose another name"));
    }
    let expected = expected(files, &made, name)?;
    made.insert(format!("{case}/expect.json"), expected);
    Ok(made)
}

/// What the body of an item is read as.
enum Body {
    Json(Value),
    /// The set's code, e.g. `850`.
    X12(String),
    Text,
}

impl Body {
    fn of(body: &[u8]) -> Result<Self, FirstFlowError> {
        match body.trim_ascii_start().first() {
            Some(b'{' | b'[') => match serde_json::from_slice(body) {
                Ok(value) => Ok(Self::Json(value)),
                Err(error) => refused(format!("the body begins like JSON and cannot be read: {error}")),
            },
            Some(b'I') => {
                let set = Delimiters::of_isa(body.trim_ascii_start()).and_then(|delimiters| set_of(body, delimiters));
                Ok(set.map_or(Self::Text, Self::X12))
            }
            _ => Ok(Self::Text),
        }
    }
}

/// Returns ST01 of the first transaction set.
fn set_of(body: &[u8], delimiters: Delimiters) -> Option<String> {
    let mut segments = body.split(|byte| *byte == delimiters.segment).map(<[u8]>::trim_ascii_start);
    let first = segments.find_map(|segment| segment.strip_prefix(b"ST")?.strip_prefix(&[delimiters.element]))?;
    let code = first.split(|byte| *byte == delimiters.element).next()?;
    Some(String::from_utf8_lossy(code).into_owned())
}

/// Returns the purchase order number of the sets that have one in their first segment.
fn key_of_set(set: &str) -> Option<&'static str> {
    match set {
        "850" => Some("BEG03"),
        "855" => Some("BAK03"),
        _ => None,
    }
}

fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string()
}

fn pretty(value: &Value) -> String {
    serde_json::to_string_pretty(value).unwrap_or_default() + "\n"
}

/// Returns whether a name can be that of a file in every folder of a workspace, and in the folders of others: `shop/orders`.
fn is_plain(name: &str) -> bool {
    let plain = |part: &str| {
        part.starts_with(|c: char| c.is_ascii_alphanumeric())
            && part.chars().all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c))
    };
    name.len() <= 100 && name.split('/').all(plain)
}

/// Returns `shop/new-orders` as `New orders`.
fn title_of(name: &str) -> String {
    let own = name.rsplit('/').next().unwrap_or_default().replace(['-', '_'], " ");
    let mut letters = own.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

fn place(place: &Place) -> String {
    let (kind, name) = match place {
        Place::Header(name) => ("header", name.as_str()),
        Place::Field(path) => ("field", path.as_str()),
        Place::Property(property) => ("property", property.as_str()),
    };
    format!("{{ {kind} = {} }}", quoted(name))
}

fn webhook(name: &str, path: &str, event: Option<&(Place, String)>, item: Recorded<'_>) -> String {
    let mut text = format!(
        "title    = {}\nkind     = \"webhook\"\npath     = {}   # the address of the capture: the sender changes nothing\n",
        quoted(&title_of(name)),
        quoted(path)
    );
    if let Some((at, _)) = event {
        let _ = writeln!(text, "event    = {}", place(at));
    }
    if item.headers.contains_key("webhook-id") {
        text.push_str("delivery = { header = \"webhook-id\" }   # identifies a repeated delivery\n");
    }
    text.push_str(
        "# Without a signature, calls of anybody who knows the address are accepted. Agree on a secret with the sender, then:\n",
    );
    let _ = writeln!(text, "# signature = {{ secret = {} }}", quoted(&format!("{}-signing", name.replace('/', "-"))));
    text
}

fn queue_of(name: &str, source: Source<'_>, event: Option<&(Place, String)>, item: Recorded<'_>) -> String {
    let Source::Exchange { exchange, routing_key, .. } = source else { return String::new() };
    let mut text = format!(
        "[[queue]]\nname     = {}\ndeclare  = true\nbind     = [{{ exchange = {}, routing_key = {} }}]\n",
        quoted(name),
        quoted(exchange),
        quoted(routing_key)
    );
    if let Some((at, _)) = event {
        let _ = writeln!(text, "event    = {}", place(at));
    }
    if item.headers.get("message_id").is_some_and(Value::is_string) {
        text.push_str("delivery = { property = \"message-id\" }   # identifies a repeated delivery\n");
    }
    text
}

fn flow_of(name: &str, from: &str, queue: &str, takes: &str, key: Option<&str>, event: Option<&str>) -> String {
    let mut text = format!("title = {}\n", quoted(&title_of(name)));
    match key {
        Some(key) => {
            let _ = writeln!(text, "key   = {}   # people find the message by this field", quoted(key));
        }
        None => text.push_str("# key = \"…\"   the field by which people find the message\n"),
    }
    let queue = (!queue.is_empty()).then(|| quoted(queue));
    let events = event.map(|event| format!("[{}]", quoted(event)));
    let rows = [("from", Some(quoted(from))), ("queue", queue), ("takes", Some(quoted(takes))), ("events", events)];
    let width = if event.is_some() { "events".len() } else { "takes".len() };
    text.push_str("\n[[intake]]\n");
    for (name, value) in rows.iter().filter_map(|(name, value)| Some((name, value.as_ref()?))) {
        let _ = writeln!(text, "{name:<width$} = {value}");
    }
    text.push_str("\n# The next steps are yours: map, check, call, send … This one writes a line into the message's story.\n");
    let says = key.map_or_else(|| "received".to_owned(), |key| format!("{{{key}}} was received"));
    let _ = writeln!(text, "[[step]]\nname = \"noted\"\nnote = {}", quoted(&says));
    text
}

/// Returns the field that identifies a document: one that every sample has, with another value in each, named as keys are.
fn key_of(schema: &Schema, samples: &[Value]) -> Option<String> {
    let level = schema.level();
    let rank = |leaf: &Leaf| {
        let name = leaf.path.last()?.to_lowercase();
        let end = |word: &str| name == word || name.ends_with(&format!("_{word}")) || name.ends_with(&format!("-{word}"));
        KEYS.iter().position(|word| end(word))
    };
    let value = |leaf: &Leaf, sample: &Value| {
        let found = leaf.path.iter().try_fold(sample, |at, name| at.get(name))?;
        (found.is_string() || found.is_number()).then(|| found.to_string())
    };
    let identifies = |leaf: &&Leaf| {
        let mut values: Vec<String> = samples.iter().filter_map(|sample| value(leaf, sample)).collect();
        values.sort_unstable();
        values.dedup();
        values.len() == samples.len()
    };
    let fitting = level.leaves.iter().filter(|leaf| leaf.required).filter(identifies);
    let best =
        fitting.filter_map(|leaf| Some((rank(leaf)?, leaf.path.len(), leaf))).min_by_key(|(rank, depth, _)| (*rank, *depth));
    best.map(|(_, _, leaf)| path_text(&leaf.path))
}

/// Returns the expected result of the flow's case: what it does now.
fn expected(files: &Files, made: &Files, name: &str) -> Result<String, FirstFlowError> {
    let mut all = files.clone();
    all.extend(made.iter().map(|(path, text)| (path.clone(), text.clone())));
    let checked = Workspace::read(&all);
    let errors = |findings: Vec<Finding>| -> Vec<Finding> {
        findings.into_iter().filter(|finding| finding.severity == Severity::Error).collect()
    };
    let Some(workspace) = checked.workspace else { return Err(FirstFlowError::Findings(errors(checked.findings))) };
    let Some(case) = workspace.cases.get(name).cloned() else { return refused("the case cannot be read") };
    let result = case.check(&Arc::new(workspace)).map_err(|error| FirstFlowError::Says(error.to_string()))?;
    match result.actual["arrival"].as_str() {
        Some("received") => Ok(pretty(&result.actual)),
        _ => refused(format!(
            "the flow would not receive the item: {}",
            result.actual["says"].as_str().unwrap_or("it is not taken")
        )),
    }
}
