//! The API's description: what `utoipa` derives from the code, completed with what holds for every operation.

use super::problem::Problem;
use crate::view::words::{EventState, ListOrder, ProblemCode};
use serde_json::{Map, Value, json};
use std::collections::BTreeSet;
use utoipa::OpenApi;

/// Title, conventions and components that no operation names by itself.
#[derive(OpenApi)]
#[openapi(
    info(
        title = "Wire Watch",
        description = "Order flows between partners and systems: messages, arrivals, orders, connections, live events.\n\n\
            Conventions: times are RFC 3339 in UTC; durations end in `_ms`, `_us` or `_seconds`. A response always has every \
            property: a name, id, code, moment or number that does not apply is `null`, a sentence that does not apply is empty. \
            An error is a problem (RFC 9457) with a stable `code`. Lists are given newest first, in pages: send `next` as `before` \
            for the following page."
    ),
    components(schemas(Problem, ProblemCode, EventState, ListOrder))
)]
pub struct Description;

/// The groups of operations, by the second part of their paths.
const TAGS: [(&str, &str, &[&str]); 9] = [
    (
        "status",
        "The service as a whole: status, overview, figures, reasons of failures, and who works on them.",
        &["status", "overview", "figures", "workspace", "reasons", "assignments", "acts"],
    ),
    ("messages", "Messages, their documents, and acts on one or many of them.", &["messages", "bulk-acts"]),
    ("arrivals", "What was received, with its bytes.", &["arrivals"]),
    ("orders", "Orders along their milestone plans.", &["orders"]),
    ("flows", "Flows: pause, resume, record, submit.", &["flows"]),
    ("maps", "Maps: rules, drafts, trials and proposals.", &["maps"]),
    ("connections", "Connections, their secrets and captures.", &["connections", "secrets", "captures"]),
    ("releases", "Deployed workspaces, and their cases.", &["releases", "cases"]),
    ("edi", "X12 documents, read and explained.", &["edi"]),
];
const LIVE: (&str, &str) = ("live", "Server-sent events.");
const SESSION: (&str, &str) = ("session", "Signing in and out.");

/// Problems that an operation can answer with, by status: name of the component, what it means, and who can get it.
const PROBLEMS: [(&str, &str, &str, When); 10] = [
    ("400", "BadRequest", "The request cannot be read, or a value in it is not allowed.", When::Always),
    ("401", "Unauthenticated", "No valid token or session.", When::Always),
    ("403", "Forbidden", "The page that asks is not one of this service.", When::Always),
    ("404", "NotFound", "Nothing has this name or id.", When::Path),
    ("413", "TooLarge", "The request body is too large.", When::Body),
    ("415", "UnsupportedMediaType", "The body must be sent as `application/json`.", When::JsonBody),
    ("421", "WrongHost", "This host name is not served here.", When::Always),
    ("422", "Invalid", "The request can be read and cannot be carried out as it is.", When::Body),
    ("500", "Internal", "A fault of the service; its log has the cause.", When::Always),
    ("503", "Unavailable", "The database does not respond, or the service is stopping: try again later.", When::Always),
];

/// Which operations can answer with a problem.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum When {
    Always,
    /// Operations with a name or id in their path.
    Path,
    /// Operations with a body.
    Body,
    JsonBody,
}

/// Completes the derived description: tags, security, problems of every operation, descriptions of responses, and the
/// properties that a response always has.
pub fn complete(derived: &utoipa::openapi::OpenApi) -> Value {
    let mut all = serde_json::to_value(derived).unwrap_or_default();
    all["tags"] = tags().collect();
    all["security"] = json!([{ "token": [] }, { "session": [] }]);
    let components = &mut all["components"];
    components["securitySchemes"] = json!({
        "token": { "type": "http", "scheme": "bearer", "description": "The token in `token.json` of the service's state folder." },
        "session": { "type": "apiKey", "in": "cookie", "name": "wirewatch-PORT",
            "description": "A browser's session, begun with the link that `wirewatch console` prints. PORT is the port at which the service listens." },
    });
    components["responses"] = problems();
    for (path, operations) in all["paths"].as_object_mut().into_iter().flatten() {
        for operation in operations.as_object_mut().into_iter().flat_map(Map::values_mut) {
            operation["tags"] = json!([tag_of(path)]);
            let responses = problem_responses(operation);
            let known = operation["responses"].as_object_mut().expect("utoipa writes responses");
            for (status, response) in known.iter_mut() {
                describe(status, response);
            }
            for (status, response) in responses {
                known.entry(status).or_insert(response);
            }
        }
    }
    require_all_of_responses(&mut all);
    all
}

fn tags() -> impl Iterator<Item = Value> {
    let tags = TAGS.into_iter().map(|(name, about, _)| (name, about));
    tags.chain([LIVE, SESSION]).map(|(name, about)| json!({ "name": name, "description": about }))
}

fn tag_of(path: &str) -> &'static str {
    let part = path.split('/').nth(2).unwrap_or_default();
    let known = TAGS.iter().find(|(_, _, parts)| parts.contains(&part)).map(|(name, ..)| *name);
    known.unwrap_or(if ["stream", "pulse"].contains(&part) { LIVE.0 } else { SESSION.0 })
}

fn problem_content() -> Value {
    json!({ "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } })
}

fn problems() -> Value {
    let each = PROBLEMS
        .iter()
        .map(|(_, name, about, _)| ((*name).to_owned(), json!({ "description": about, "content": problem_content() })));
    each.collect::<Map<String, Value>>().into()
}

/// The problems that this operation can answer with, by status.
fn problem_responses(operation: &Value) -> Vec<(String, Value)> {
    let parameters = operation["parameters"].as_array().into_iter().flatten();
    let has_path = parameters.into_iter().any(|parameter| parameter["in"] == "path");
    let body = operation.get("requestBody");
    let has_json = body.is_some_and(|body| body["content"].get("application/json").is_some());
    let can = |when| match when {
        When::Always => true,
        When::Path => has_path,
        When::Body => body.is_some(),
        When::JsonBody => has_json,
    };
    let those = PROBLEMS.iter().filter(|(.., when)| can(*when));
    those.map(|(status, name, ..)| ((*status).to_owned(), json!({ "$ref": format!("#/components/responses/{name}") }))).collect()
}

/// Fills what OpenAPI wants of every response: a description, and the media type of a problem.
fn describe(status: &str, response: &mut Value) {
    let about = match status {
        "200" => "Done; the result.",
        "202" => "Accepted; the work continues in the background.",
        "204" => "Done.",
        "409" => "The present state does not allow it; `code` says which.",
        _ => "A problem; `code` says which.",
    };
    if response["description"].as_str().unwrap_or_default().is_empty() {
        response["description"] = about.into();
    }
    if status.starts_with('4') {
        response["content"] = problem_content();
    }
}

/// A response has every property, `null` where it does not apply: each schema that a response reaches says so.
fn require_all_of_responses(all: &mut Value) {
    let mut reached = BTreeSet::new();
    for operations in all["paths"].as_object().into_iter().flat_map(Map::values) {
        for operation in operations.as_object().into_iter().flat_map(Map::values) {
            references(&operation["responses"], &mut reached);
        }
    }
    references(&all["components"]["responses"], &mut reached);
    let mut waiting: Vec<String> = reached.iter().cloned().collect();
    while let Some(name) = waiting.pop() {
        let mut found = BTreeSet::new();
        references(&all["components"]["schemas"][&name], &mut found);
        waiting.extend(found.into_iter().filter(|name| reached.insert(name.clone())));
    }
    for name in reached {
        let schema = &mut all["components"]["schemas"][&name];
        let names: Option<Vec<Value>> =
            schema["properties"].as_object().map(|properties| properties.keys().map(|name| name.as_str().into()).collect());
        if let Some(names) = names {
            schema["required"] = names.into();
        }
    }
}

/// The names of the schemas that a value refers to.
fn references(value: &Value, found: &mut BTreeSet<String>) {
    match value {
        Value::Object(object) => {
            let name = object.get("$ref").and_then(Value::as_str).and_then(|name| name.strip_prefix("#/components/schemas/"));
            found.extend(name.map(str::to_owned));
            object.values().for_each(|value| references(value, found));
        }
        Value::Array(items) => items.iter().for_each(|value| references(value, found)),
        _ => {}
    }
}
