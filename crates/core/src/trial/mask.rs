//! Personal data made unrecognisable, its form kept.

use crate::x12::{Delimiters, Tokens};
use serde_json::Value;

/// Words in the name of a JSON field that holds such data.
const WORDS: [&str; 9] = ["name", "street", "address", "phone", "mail", "contact", "person", "buyer", "parcel_to"];
/// Elements of X12 that hold such data: names (N102, N2), streets (N3), and contacts (PER02 and its numbers).
const ELEMENTS: [(&str, &[usize]); 4] = [("N1", &[2]), ("N2", &[1, 2]), ("N3", &[1, 2]), ("PER", &[2, 4, 6, 8])];

/// The document with the letters and digits of names, streets, telephone numbers and mail addresses replaced by `x` and
/// `0`: lengths and separators stay, so it is read as before. What is neither JSON nor X12 stays as it is.
#[must_use]
pub fn mask(bytes: &[u8]) -> Vec<u8> {
    if let Some(delimiters) = Delimiters::of_isa(bytes) {
        let mut masked = bytes.to_vec();
        let tokens = Tokens::new(bytes, delimiters);
        for segment in tokens.iter() {
            let own = ELEMENTS.iter().filter(|(id, _)| id.as_bytes() == segment.id()).flat_map(|(_, elements)| *elements);
            for element in own {
                let span = segment.span(*element);
                masked[span.start as usize..span.end as usize].iter_mut().for_each(|byte| *byte = masked_byte(*byte));
            }
        }
        return masked;
    }
    match serde_json::from_slice(bytes) {
        Ok(mut value) => {
            within(&mut value, false);
            serde_json::to_vec_pretty(&value).unwrap_or_else(|_| bytes.to_vec())
        }
        Err(_) => bytes.to_vec(),
    }
}

fn masked_byte(byte: u8) -> u8 {
    match byte {
        b'0'..=b'9' => b'0',
        b'a'..=b'z' => b'x',
        b'A'..=b'Z' => b'X',
        0x80.. => b'x',
        other => other,
    }
}

fn within(value: &mut Value, personal: bool) {
    match value {
        Value::String(text) if personal => {
            let masked = |c: char| match c {
                '0'..='9' => '0',
                c if c.is_uppercase() => 'X',
                c if c.is_alphabetic() => 'x',
                c => c,
            };
            *text = text.chars().map(masked).collect();
        }
        Value::Array(items) => items.iter_mut().for_each(|item| within(item, personal)),
        Value::Object(fields) => {
            for (name, inner) in fields {
                let lower = name.to_lowercase();
                within(inner, personal || WORDS.iter().any(|word| lower.contains(word)));
            }
        }
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
}

#[cfg(test)]
mod tests {
    use super::mask;

    #[test]
    fn names_and_addresses_lose_their_letters_and_nothing_else_changes() {
        let masked = mask(r#"{"number":"7","parcel_to":{"name":"Ida Böhm","town":"Tansy"},"total":1.10}"#.as_bytes());
        let value: serde_json::Value = serde_json::from_slice(&masked).expect("JSON");
        assert_eq!(value.to_string(), r#"{"number":"7","parcel_to":{"name":"Xxx Xxxx","town":"Xxxxx"},"total":1.10}"#);
        let isa = "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000001*0*T*>~";
        let masked = mask(format!("{isa}N1*ST*Ida 4*92*0012~PER*OC*Ida*TE*555-01~").as_bytes());
        assert_eq!(String::from_utf8_lossy(&masked), format!("{isa}N1*ST*Xxx 0*92*0012~PER*OC*Xxx*TE*000-00~"));
        assert_eq!(mask(b"plain"), b"plain");
    }
}
