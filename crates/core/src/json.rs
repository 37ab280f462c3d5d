//! Reads JSON from outside. A document with a duplicate field name is ambiguous, and is refused.

use serde_json::Value;
use std::collections::HashSet;

/// A byte order mark, which may precede a text in UTF-8 (RFC 8259, section 8.1).
const MARK: &[u8] = b"\xEF\xBB\xBF";

/// Reads one document, at most 128 levels deep. Numbers keep their digits.
///
/// # Errors
/// A sentence with line and column: invalid JSON, or a duplicate name in an object.
pub fn read(bytes: &[u8]) -> Result<Value, String> {
    let bytes = bytes.strip_prefix(MARK).unwrap_or(bytes);
    let value = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
    once(bytes, &value)?;
    Ok(value)
}

/// Reads documents that follow one another, e.g. one a line.
///
/// # Errors
/// As [`read`].
pub fn read_all(bytes: &[u8]) -> Result<Vec<Value>, String> {
    let bytes = bytes.strip_prefix(MARK).unwrap_or(bytes);
    let mut values = serde_json::Deserializer::from_slice(bytes).into_iter();
    let (mut all, mut from) = (Vec::new(), 0);
    while let Some(value) = values.next() {
        let value = value.map_err(|error| error.to_string())?;
        let end = values.byte_offset();
        once(&bytes[from..end], &value)?;
        all.push(value);
        from = end;
    }
    Ok(all)
}

/// Reports a duplicate name. The parser keeps the last of such fields, so there are fewer fields than colons then.
fn once(bytes: &[u8], value: &Value) -> Result<(), String> {
    if colons(bytes) == fields(value) {
        return Ok(());
    }
    let mut walk = Walk { bytes, at: 0 };
    walk.value("").map_or(Ok(()), Err)
}

fn fields(value: &Value) -> usize {
    match value {
        Value::Object(own) => own.len() + own.values().map(fields).sum::<usize>(),
        Value::Array(items) => items.iter().map(fields).sum(),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => 0,
    }
}

/// The colons outside of texts, of what is JSON.
fn colons(bytes: &[u8]) -> usize {
    let (mut count, mut quoted, mut escaped) = (0, false, false);
    for &byte in bytes {
        match byte {
            _ if escaped => escaped = false,
            b'\\' => escaped = quoted,
            b'"' => quoted = !quoted,
            b':' => count += usize::from(!quoted),
            _ => {}
        }
    }
    count
}

/// Goes through what is known to be JSON, and no deeper than the parser went.
struct Walk<'b> {
    bytes: &'b [u8],
    at: usize,
}

impl Walk<'_> {
    fn blanks(&mut self) {
        while self.bytes.get(self.at).is_some_and(u8::is_ascii_whitespace) {
            self.at += 1;
        }
    }

    /// Returns the next byte that is not white space.
    fn next(&mut self) -> u8 {
        self.blanks();
        self.bytes.get(self.at).copied().unwrap_or_default()
    }

    fn text(&mut self) -> String {
        let from = self.at;
        let mut escaped = false;
        self.at += 1;
        while let Some(&byte) = self.bytes.get(self.at) {
            self.at += 1;
            match byte {
                _ if escaped => escaped = false,
                b'\\' => escaped = true,
                b'"' => break,
                _ => {}
            }
        }
        serde_json::from_slice(&self.bytes[from..self.at]).unwrap_or_default()
    }

    /// Returns the first duplicate name below, as a sentence.
    fn value(&mut self, path: &str) -> Option<String> {
        match self.next() {
            b'{' => self.object(path),
            b'[' => {
                self.at += 1;
                let mut n = 0;
                while self.next() != b']' && self.at < self.bytes.len() {
                    n += 1;
                    let found = self.value(&format!("{path}[{n}]"));
                    if found.is_some() {
                        return found;
                    }
                    if self.next() == b',' {
                        self.at += 1;
                    }
                }
                self.at += 1;
                None
            }
            b'"' => {
                self.text();
                None
            }
            _ => {
                while self
                    .bytes
                    .get(self.at)
                    .is_some_and(|byte| !matches!(byte, b',' | b']' | b'}') && !byte.is_ascii_whitespace())
                {
                    self.at += 1;
                }
                None
            }
        }
    }

    fn object(&mut self, path: &str) -> Option<String> {
        let mut names = HashSet::new();
        self.at += 1;
        while self.next() == b'"' {
            let at = self.at;
            let name = self.text();
            let below = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
            if !names.insert(name) {
                let line = self.bytes[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
                return Some(format!("the field `{below}` is there twice, the second time at line {line}"));
            }
            self.next();
            // The colon.
            self.at += 1;
            let found = self.value(&below);
            if found.is_some() {
                return found;
            }
            if self.next() == b',' {
                self.at += 1;
            }
        }
        self.at += 1;
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    #[test]
    fn a_name_that_stands_twice_is_reported_with_its_place() {
        let says = |text: &str| read(text.as_bytes()).expect_err(text);
        assert_eq!(says(r#"{"a":1,"a":1}"#), "the field `a` is there twice, the second time at line 1");
        assert_eq!(
            says("{\"x\":[{},\n{\"b\":{\"c\":\":\",\n\"c\":2}}]}"),
            "the field `x[2].b.c` is there twice, the second time at line 3"
        );
        assert_eq!(says(r#"{"a":{"b":1},"a":{"b":2}}"#), "the field `a` is there twice, the second time at line 1");
        assert_eq!(says(r#"{"é":1,"\u00e9":1}"#), "the field `é` is there twice, the second time at line 1");
        assert_eq!(says(r#"{"a:\"":1,"a:\"":{":":2}}"#), "the field `a:\"` is there twice, the second time at line 1");
        assert_eq!(
            read_all(b"{\"a\":1}\n{\"a\":2,\"a\":3}").unwrap_err(),
            "the field `a` is there twice, the second time at line 2"
        );
        assert!(says("{\"a\":").contains("line 1 column 5"));
        assert!(says("").contains("EOF"));
        assert!(says(&"[".repeat(1000)).contains("recursion limit"));
        assert!(says("{\"a\":1} x").contains("trailing characters"));
        assert!(says("{\"a\":\"\u{1}\"}").contains("control character"));
        assert_eq!(read(b"\xEF\xBB\xBF{\"a\":1}"), Ok(json!({ "a": 1 })));
        assert_eq!(read_all(b"{\"a\":1}\n{\"a\":2}").unwrap().len(), 2);
        assert_eq!(read(br#"{"a":{"a":{"a":[]}},"b":{"a":"x:y"}}"#).unwrap()["b"]["a"], "x:y");
    }

    proptest! {
        /// Either every field of the text is in the parsed document, or the document is refused.
        #[test]
        fn fields_are_all_there_or_refused(names in prop::collection::vec("[a-c\"\\\\:{é]{0,2}", 0..6), deep in any::<bool>()) {
            let fields: Vec<String> = names.iter().enumerate().map(|(n, name)| format!("{}: {n}", json!(name))).collect();
            let object = format!("{{ {} }}", fields.join(" , "));
            let text = if deep { format!("[ 1 , {{ \"o\" : {object} }} ]") } else { object };
            let unique: HashSet<&String> = names.iter().collect();
            match read(text.as_bytes()) {
                Ok(value) => {
                    let own = if deep { &value[1]["o"] } else { &value };
                    prop_assert_eq!(own.as_object().map(serde_json::Map::len), Some(names.len()));
                    prop_assert_eq!(unique.len(), names.len());
                }
                Err(says) => {
                    prop_assert!(says.contains("is there twice"), "{}", says);
                    prop_assert!(unique.len() < names.len());
                }
            }
        }
    }
}
