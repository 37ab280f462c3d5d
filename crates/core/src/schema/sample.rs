//! Made-up documents of a schema.

use super::{Schema, names_a_day};
use serde_json::{Map, Number, Value};

/// Deepest nesting that is filled.
const DEPTH: usize = 16;
const WORDS: [&str; 12] =
    ["Clover", "Linden", "Heather", "Willow", "Thyme", "Borage", "Sage", "Acacia", "Lavender", "Aster", "Chestnut", "Mint"];

/// Makes up a document that fits the schema; the same seed gives the same document. Values come from enumerations and examples,
/// otherwise from type, format and name.
#[must_use]
pub fn sample(schema: &Schema, seed: u64) -> Value {
    let mut dice = Dice(seed);
    made(schema, &schema.root, "", 0, &mut dice)
}

/// SplitMix64: any seed gives a good sequence.
struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut x = self.0;
        x = (x ^ (x >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        x = (x ^ (x >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        (x ^ (x >> 31)) % bound.max(1)
    }

    fn one_of<'v, T>(&mut self, values: &'v [T]) -> &'v T {
        &values[self.below(values.len() as u64) as usize]
    }
}

fn made(schema: &Schema, node: &Value, name: &str, depth: usize, dice: &mut Dice) -> Value {
    let node = schema.resolve(node);
    if let Some(only) = node.get("const") {
        return only.clone();
    }
    for key in ["enum", "examples"] {
        if let Some(Value::Array(values)) = node.get(key)
            && !values.is_empty()
        {
            return dice.one_of(values).clone();
        }
    }
    let kind = match node.get("type") {
        Some(Value::String(kind)) => kind.as_str(),
        Some(Value::Array(kinds)) => kinds.iter().filter_map(Value::as_str).find(|kind| *kind != "null").unwrap_or("null"),
        _ if node.get("properties").is_some() => "object",
        _ if node.get("items").is_some() => "array",
        _ => "string",
    };
    match kind {
        "object" => {
            let mut fields = Map::new();
            for (name, required) in schema.fields(node) {
                let wanted = required || (depth < DEPTH && dice.below(4) > 0);
                if let (true, Ok(Some(inner))) = (wanted, schema.field(node, name)) {
                    fields.insert(name.to_owned(), made(schema, inner, name, depth + 1, dice));
                }
            }
            Value::Object(fields)
        }
        "array" => {
            let bound = |key: &str, otherwise: u64| node.get(key).and_then(Value::as_u64).unwrap_or(otherwise);
            let least = bound("minItems", 1);
            let count =
                if depth >= DEPTH { least } else { least + dice.below((bound("maxItems", 4).max(least) - least).min(3) + 1) };
            let item = node.get("items").cloned().unwrap_or(Value::Bool(true));
            (0..count).map(|_| made(schema, &item, name, depth + 1, dice)).collect()
        }
        "integer" => Value::from(1 + dice.below(40)),
        "number" => {
            let text = format!("{}.{:02}", 1 + dice.below(99), dice.below(100));
            serde_json::from_str::<Number>(&text).map_or(Value::from(1), Value::Number)
        }
        "boolean" => Value::from(dice.below(2) == 0),
        "null" => Value::Null,
        _ => Value::from(text(node, name, dice)),
    }
}

fn text(node: &Value, name: &str, dice: &mut Dice) -> String {
    let date = |dice: &mut Dice| format!("2026-{:02}-{:02}", 1 + dice.below(12), 1 + dice.below(28));
    let word = *dice.one_of(&WORDS);
    let shown = match node.get("format").and_then(Value::as_str) {
        Some("date") => date(dice),
        Some("date-time") => format!("{}T{:02}:{:02}:00Z", date(dice), dice.below(24), dice.below(60)),
        Some("email") => format!("{}@example.com", word.to_lowercase()),
        Some("uri") => format!("https://example.com/{}", word.to_lowercase()),
        Some("uuid") => format!("{:08x}-0000-8000-8000-{:012x}", dice.below(1 << 32), dice.below(1 << 48)),
        _ if name.is_empty() => word.to_owned(),
        _ if names_a_day(name) => date(dice),
        _ => named(name, word, dice),
    };
    let bound = |key: &str| node.get(key).and_then(Value::as_u64).map(|length| length as usize);
    let shown: String = shown.chars().take(bound("maxLength").unwrap_or(usize::MAX)).collect();
    let short = bound("minLength").unwrap_or(0).saturating_sub(shown.chars().count());
    shown + &"x".repeat(short)
}

/// A text as its name lets expect it.
fn named(name: &str, word: &str, dice: &mut Dice) -> String {
    let name = name.to_lowercase();
    let is = |parts: &[&str]| parts.iter().any(|part| name.contains(part));
    match () {
        () if is(&["mail"]) => format!("{}@example.com", word.to_lowercase()),
        () if is(&["currency"]) => "USD".to_owned(),
        () if is(&["country"]) => "US".to_owned(),
        () if is(&["region", "province"]) => (*dice.one_of(&["HV", "TM", "CL"])).to_owned(),
        () if is(&["postcode", "postal", "zip"]) => format!("HV{}", 100 + dice.below(900)),
        () if is(&["phone"]) => format!("555-01{:02}", dice.below(100)),
        () if is(&["street", "address"]) => format!("{} {word} Lane", 1 + dice.below(90)),
        () if is(&["name", "town", "city", "text", "note", "title"]) => word.to_owned(),
        () => format!("{word}-{}", 100 + dice.below(900)),
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Schema, infer};
    use super::sample;
    use crate::schema::misfits;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn any_document() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::from),
            (0..1000).prop_map(Value::from),
            "[a-z]{0,8}|2026-1[0-2]-0[1-9]|2026-11-23T07:00:00Z|a@b.co".prop_map(Value::from),
        ];
        leaf.prop_recursive(4, 30, 4, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..4).prop_map(Value::Array),
                prop::collection::vec(("[a-d]", inner), 0..4).prop_map(|fields| Value::Object(fields.into_iter().collect())),
            ]
        })
    }

    proptest! {
        #[test]
        fn a_schema_fits_every_sample_it_is_made_from(samples in prop::collection::vec(any_document(), 1..5)) {
            let schema = Schema { name: "x".to_owned(), root: infer(&samples, "x") };
            for one in &samples {
                prop_assert_eq!(misfits(&schema, one), Vec::<String>::new(), "{}", one);
            }
        }

        #[test]
        fn what_is_made_up_fits_and_comes_again(document in any_document(), seed: u64) {
            let schema = Schema { name: "x".to_owned(), root: infer(&[document], "x") };
            let made = sample(&schema, seed);
            prop_assert_eq!(misfits(&schema, &made), Vec::<String>::new(), "{}", made);
            prop_assert_eq!(sample(&schema, seed), made);
        }
    }

    #[test]
    fn a_text_is_what_its_name_lets_expect() {
        let names = ["placed_on", "shipDate", "buyer_mail", "zip", "currency", "reference"];
        let fields: serde_json::Map<String, Value> =
            names.iter().map(|name| ((*name).to_owned(), json!({ "type": "string" }))).collect();
        let node = json!({ "type": "object", "required": names, "properties": fields });
        let made = sample(&Schema { name: "x".to_owned(), root: node }, 3);
        let text = |name: &str| made[name].as_str().unwrap_or_default().to_owned();
        assert!(text("placed_on").starts_with("2026-") && text("shipDate").len() == 10, "{made}");
        assert!(text("buyer_mail").ends_with("@example.com") && text("zip").len() == 5, "{made}");
        assert!(text("currency") == "USD" && text("reference").contains('-'), "{made}");
    }

    #[test]
    fn types_formats_and_examples_are_collected() {
        let node = infer(
            &[json!({ "day": "2026-11-23", "n": 1, "rows": [{ "q": 2 }, { "q": 2.5, "t": "x" }] }), json!({ "n": null })],
            "Two",
        );
        let expected = json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Two", "type": "object", "required": ["n"],
            "properties": {
                "day": { "type": "string", "format": "date", "examples": ["2026-11-23"] },
                "n": { "type": ["integer", "null"], "examples": [1] },
                "rows": { "type": "array", "items": { "type": "object", "required": ["q"], "properties": {
                    "q": { "type": "number", "examples": [2, 2.5] }, "t": { "type": "string", "examples": ["x"] } } } },
            },
        });
        assert_eq!(node, expected);
    }

    #[test]
    fn leading_zeros_and_ids_of_texts_stay_texts() {
        let rows = |text: &[u8]| super::super::read_sample(super::super::Written::Csv, text).unwrap();
        let samples = rows(b"sku,store,pieces,orderNo,gtin\n12,0012,3,7001,12345678901234567890\n13,13,4,7002,4\n");
        let node = super::super::infer_of_texts(&samples, "x");
        let kind = |name: &str| node["items"]["properties"][name]["type"].clone();
        let kinds: Vec<_> = ["sku", "store", "pieces", "orderNo", "gtin"].map(kind).to_vec();
        assert_eq!(kinds, ["string", "string", "integer", "string", "string"]);
        let schema = Schema { name: "x".to_owned(), root: node };
        let read = schema.read(super::super::Written::Csv, b"sku,store,pieces,orderNo,gtin\n0012,7,03,0,5\n").unwrap();
        assert_eq!(read, json!([{ "sku": "0012", "store": "7", "pieces": 3, "orderNo": "0", "gtin": "5" }]));
    }
}
