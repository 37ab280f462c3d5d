//! Requests to every operation of the API, made from its own description and with nonsense: no answer is a 5xx, every request is
//! answered, and the service stays up. `make fuzz TARGET=api` runs for the given time.

use crate::scene::Scene;
use serde_json::{Map, Value, json};
use std::time::{Duration, Instant};
use wirewatch_standins::marrowfield::Flaw;

/// Makes requests up from a description.
struct Maker {
    random: fastrand::Rng,
    description: Value,
    /// Names, keys and ids that are there.
    known: Vec<String>,
}

/// Sends one request.
#[derive(Debug)]
struct Made {
    method: String,
    path: String,
    query: Vec<(String, String)>,
    content: Option<(String, Vec<u8>)>,
}

impl Maker {
    fn one<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.random.usize(..of.len())]
    }

    fn text(&mut self) -> String {
        match self.random.u8(..20) {
            0..=9 => self.known[self.random.usize(..self.known.len())].clone(),
            10 => "x".repeat(self.random.usize(..20_000)),
            11 => self.one(&["\0", "a\0b", "\u{1b}[2J", "\u{9b}", "\u{202e}", "\u{fdd0}", "\u{ffff}", "\r\n\r\n"]).to_owned(),
            12 => self.one(&["../../etc/passwd", "..%2f..", "%00", "%ff", "//host", "@host", "?", "#", "a b", "+"]).to_owned(),
            13 => {
                self.one(&["2026-11-23T07:00:00Z", "-271821-04-20T00:00:00Z", "9999-12-31T23:59:59.999999999Z", "now"]).to_owned()
            }
            14 => self.one(&["{", "[[[[", "{\"a\":1e999}", "title = ", "ISA*00*", "<a>", "\"", "'; drop table live"]).to_owned(),
            _ => self
                .one(&["", "a", "0", "-1", "18446744073709551616", "null", "true", "failed", "resend", "json", "x12"])
                .to_owned(),
        }
    }

    fn number(&mut self) -> Value {
        let all = [
            json!(0),
            json!(1),
            json!(-1),
            json!(50),
            json!(1001),
            json!(u32::MAX),
            json!(i64::MAX),
            json!(u64::MAX),
            json!(1.5),
        ];
        all[self.random.usize(..all.len())].clone()
    }

    /// A value that the schema describes, mostly.
    fn value(&mut self, schema: &Value, depth: usize) -> Value {
        if self.random.u8(..12) == 0 || depth > 6 {
            return match self.random.u8(..6) {
                0 => Value::Null,
                1 => self.number(),
                2 => json!([]),
                3 => json!({}),
                4 => (0..self.random.usize(..200)).fold(json!(1), |inner, _| json!([inner])),
                _ => Value::from(self.text()),
            };
        }
        if let Some(name) = schema["$ref"].as_str() {
            let of = self.description.pointer(name.trim_start_matches('#')).cloned().expect("a schema that is referred to");
            return self.value(&of, depth + 1);
        }
        if let Some(all) = schema["allOf"].as_array() {
            let objects: Vec<Value> = all.iter().map(|one| self.value(one, depth + 1)).collect();
            return Value::Object(objects.iter().filter_map(Value::as_object).flat_map(|one| one.clone()).collect());
        }
        for choice in ["enum", "oneOf", "anyOf"] {
            if let Some(all) = schema[choice].as_array().filter(|all| !all.is_empty()) {
                let chosen = all[self.random.usize(..all.len())].clone();
                return if choice == "enum" { chosen } else { self.value(&chosen, depth + 1) };
            }
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => kinds[self.random.usize(..kinds.len())].as_str().unwrap_or_default().to_owned(),
            kind => kind.as_str().unwrap_or_default().to_owned(),
        };
        match kind.as_str() {
            "object" => {
                let mut object = Map::new();
                for (name, of) in schema["properties"].as_object().cloned().unwrap_or_default() {
                    if self.random.u8(..8) > 0 {
                        object.insert(name, self.value(&of, depth + 1));
                    }
                }
                if schema["additionalProperties"].is_object() || self.random.u8(..10) == 0 {
                    let inner = self.value(&schema["additionalProperties"].clone(), depth + 1);
                    object.insert(self.text(), inner);
                }
                Value::Object(object)
            }
            "array" => (0..self.random.usize(..4)).map(|_| self.value(&schema["items"].clone(), depth + 1)).collect(),
            "integer" | "number" => self.number(),
            "boolean" => Value::Bool(self.random.bool()),
            "null" => Value::Null,
            _ => Value::from(self.text()),
        }
    }

    fn request(&mut self) -> Made {
        let paths = self.description["paths"].as_object().expect("paths").clone();
        let (path, methods) = paths.iter().nth(self.random.usize(..paths.len())).expect("one of them");
        let methods = methods.as_object().expect("methods");
        let (method, operation) = methods.iter().nth(self.random.usize(..methods.len())).expect("one of them");
        let mut made = Made { method: method.to_uppercase(), path: path.clone(), query: Vec::new(), content: None };
        for parameter in operation["parameters"].as_array().cloned().unwrap_or_default() {
            let name = parameter["name"].as_str().expect("a name");
            let value = match self.value(&parameter["schema"], 0) {
                Value::String(text) => text,
                other => other.to_string(),
            };
            if parameter["in"] == "path" {
                let segment: String = value.bytes().map(|byte| format!("%{byte:02x}")).collect();
                made.path = made.path.replace(&format!("{{{name}}}"), &segment);
            } else if self.random.bool() {
                made.query.push((name.to_owned(), value));
            }
        }
        if let Some((kind, body)) = operation["requestBody"]["content"].as_object().and_then(|all| all.iter().next()) {
            let bytes = match (kind.as_str(), self.random.u8(..10)) {
                (_, 0) => self.text().into_bytes(),
                ("application/json", _) => self.value(&body["schema"], 0).to_string().into_bytes(),
                (_, 1) => (0..self.random.usize(..500)).map(|_| self.random.u8(..)).collect(),
                _ => self.text().into_bytes(),
            };
            made.content = Some((kind.clone(), bytes));
        }
        made
    }
}

fn wanted(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_request_made_up_from_the_description_is_answered_with_a_fault_of_ours() {
    let mut scene = Scene::open().await;
    scene.send(3, Flaw::None);
    scene.quiet(3).await;
    let service = &scene.service;
    let description = service.get("/api/openapi.json").await.unwrap();
    let messages = scene.messages("").await;
    let ids = messages.iter().flat_map(|one| ["id", "arrival", "key"].map(|name| one[name].as_str().unwrap().to_owned()));
    let names = [
        "partner-orders",
        "shop-orders",
        "erp",
        "shop",
        "chat",
        "warehouse",
        "po-to-order",
        "marrowfield",
        "flows/picks.toml",
        "1",
    ];
    let known = ids.chain(names.map(str::to_owned)).filter(|text| !text.is_empty()).collect();
    let mut maker = Maker { random: fastrand::Rng::with_seed(wanted("FUZZ_SEED", 7)), description, known };
    let (requests, seconds) = (wanted("FUZZ_REQUESTS", 400), wanted("FUZZ_SECONDS", 0));
    let begun = Instant::now();
    let (mut asked, mut by_class, mut faults) = (0, [0_usize; 6], Vec::new());
    while asked < requests || begun.elapsed() < Duration::from_secs(seconds) {
        asked += 1;
        let made = maker.request();
        let mut request = service.request(&made.method, &made.path).query(&made.query).timeout(Duration::from_secs(30));
        if let Some((kind, bytes)) = &made.content {
            request = request.header("content-type", kind).body(bytes.clone());
        }
        // The beginning of a stream is enough: its status.
        match request.send().await {
            Ok(answer) => {
                let status = answer.status().as_u16();
                by_class[usize::from(status / 100).min(5)] += 1;
                if status >= 500 {
                    faults.push(format!("{status} {} to {made:?}", answer.text().await.unwrap_or_default()));
                }
            }
            Err(error) => faults.push(format!("{error} to {made:?}")),
        }
        if faults.len() > 20 {
            break;
        }
    }
    let shown: Vec<String> = faults.iter().map(|one| one.chars().take(600).collect()).collect();
    assert!(faults.is_empty(), "{} of {asked}:\n{}", faults.len(), shown.join("\n"));
    assert!(by_class[2] > 0 && by_class[4] > 0, "{by_class:?}: some are answered, some refused");
    assert!(!service.logged().contains("panicked"), "{}", service.logged());
    println!("measured: {asked} requests made up, {} answered, {} refused, none with a fault of ours", by_class[2], by_class[4]);
}
