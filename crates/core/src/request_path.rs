//! Paths of requests: they stay below the address of their connection, whatever values are put into them.

use crate::expr::{EvalError, Scope, Template};

/// Returns why a text is not a path below an address; `None` if it is one.
///
/// An empty text is the address itself. Upward steps are found in every encoding, since servers decode addresses first (WHATWG
/// URL, 4.4).
#[must_use]
pub fn fault(path: &str) -> Option<String> {
    let before_query = path.split('?').next().unwrap_or_default();
    let step_up = |segment: &&str| {
        let plain = segment.to_ascii_lowercase().replace("%2e", ".");
        plain == "." || plain == ".."
    };
    if !path.is_empty() && !path.starts_with(['/', '?']) {
        return Some("a path starts with `/`".to_owned());
    }
    if path.starts_with("//") {
        return Some("a path that starts with `//` names another host".to_owned());
    }
    if let Some(wrong) = path.chars().find(|c| matches!(c, '\\' | '#') || c.is_control() || c.is_whitespace()) {
        return Some(format!("{wrong:?} is not allowed in a path"));
    }
    before_query.split('/').find(step_up).map(|segment| format!("`{segment}` is not allowed as a part of a path"))
}

/// Evaluates a template to a path, with its values percent-encoded.
///
/// # Errors
/// [`EvalError`] if a value is missing, or the result is not a path below the address.
pub fn render(template: &Template, scope: &Scope<'_>) -> Result<String, EvalError> {
    let path = template.render(scope, |value| Ok(encoded(value)))?;
    match fault(&path) {
        None => Ok(path),
        Some(says) => Err(EvalError { span: 0..template.text().len(), says: format!("the path `{path}`: {says}") }),
    }
}

/// A value inside a path: everything but unreserved characters is percent-encoded (RFC 3986, 2.3).
fn encoded(value: &str) -> String {
    let mut encoded = String::with_capacity(value.len());
    for byte in value.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => encoded.push(char::from(byte)),
            _ => encoded.push_str(&format!("%{byte:02X}")),
        }
    }
    encoded
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::map::scope_of;
    use crate::{Document, expr::Library};
    use serde_json::{Map, json};
    use std::sync::Arc;

    #[test]
    fn no_value_leads_to_another_place() {
        let path = |template: &str, value: &str| {
            let document = Document::Json(Arc::new(json!({ "a": value, "dot": "." })));
            let (variables, library) = (Map::new(), Library::default());
            let template = Template::parse(template).expect("a template");
            render(&template, &scope_of(&document, &variables, &library)).map_err(|error| error.says)
        };
        let cases = [
            ("/orders/{a}", "MF-1", Ok("/orders/MF-1")),
            ("/orders/{a}", "1.5", Ok("/orders/1.5")),
            ("/orders/{a}", "...", Ok("/orders/...")),
            ("/orders/{a}", "../users", Ok("/orders/..%2Fusers")),
            ("/orders/{a}", "@elsewhere", Ok("/orders/%40elsewhere")),
            ("/find?q={a}", "..", Ok("/find?q=..")),
            ("/orders/{a}", "a\u{0}b", Ok("/orders/a%00b")),
            ("/orders/{a}", "..", Err("`..` is not allowed as a part of a path")),
            ("/orders/{a}/lines", ".", Err("`.` is not allowed as a part of a path")),
            ("/orders/{dot}{a}", ".", Err("`..` is not allowed as a part of a path")),
            ("/orders/%2E{a}", ".", Err("`%2E.` is not allowed as a part of a path")),
            ("{a}/orders", ".elsewhere", Err("a path starts with `/`")),
            ("{a}", "/orders", Err("a path starts with `/`")),
            ("//{a}", "elsewhere", Err("a path that starts with `//` names another host")),
            ("/a#{a}", "x", Err("'#' is not allowed in a path")),
            ("/a\\{a}", "x", Err("'\\\\' is not allowed in a path")),
            ("/orders/{a}", "", Err("`a` gives no value")),
        ];
        for (template, value, expected) in cases {
            let found = path(template, value);
            match (&found, expected) {
                (Ok(found), Ok(expected)) => assert_eq!(found, expected),
                (Err(says), Err(part)) => assert!(says.ends_with(part), "{template} {value}: {says}"),
                _ => panic!("{template} {value}: {found:?}"),
            }
        }
    }
}
