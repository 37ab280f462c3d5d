//! Functions that make texts of texts and numbers.

use super::{Given, Values};
use crate::expr::Item;
use crate::expr::eval::fail;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ring::digest;
use rust_decimal::Decimal;
use std::fmt::Write;

fn sha256(text: &str) -> digest::Digest {
    digest::digest(&digest::SHA256, text.as_bytes())
}

/// `base64(text)`.
pub(super) fn base64(text: &str) -> String {
    STANDARD.encode(text)
}

/// `digits(text)`.
pub(super) fn digits(text: &str) -> String {
    text.chars().filter(char::is_ascii_digit).collect()
}

/// `hash(text)`.
pub(super) fn hash(text: &str) -> String {
    hex::encode(sha256(text))
}

/// Removes leading zeros; one stays if there are only zeros, or before a decimal point.
pub(super) fn zeros_off(text: &str) -> String {
    let rest = text.trim_start_matches('0');
    let bare = rest.len() == text.len() || rest.starts_with(char::is_alphanumeric);
    if bare { rest.to_owned() } else { format!("0{rest}") }
}

/// Capitalizes each word.
pub(super) fn title(text: &str) -> String {
    let mut start = true;
    let letter = |c: char| {
        let shown: String = if start { c.to_uppercase().collect() } else { c.to_lowercase().collect() };
        start = !c.is_alphanumeric() && c != '\'';
        shown
    };
    text.chars().map(letter).collect()
}

/// Percent-encoded, all but the unreserved characters of RFC 3986.
pub(super) fn url_part(text: &str) -> String {
    let mut encoded = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => encoded.push(char::from(byte)),
            _ => write!(encoded, "%{byte:02X}").unwrap_or_default(),
        }
    }
    encoded
}

/// A UUID of version 8 (RFC 9562) from the SHA-256 of the text: the same text always gives the same one.
pub(super) fn uuid(text: &str) -> String {
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&sha256(text).as_ref()[..16]);
    bytes[6] = bytes[6] & 0x0F | 0x80;
    bytes[8] = bytes[8] & 0x3F | 0x80;
    let hex = hex::encode(bytes);
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

/// `left(text, length)`; lengths count characters.
pub(super) fn left<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(Item::text(given.text(0)?.chars().take(given.whole(1)?).collect::<String>()))
}

/// `right(text, length)`.
pub(super) fn right<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let text = given.text(0)?;
    let skip = text.chars().count().saturating_sub(given.whole(1)?);
    Ok(Item::text(text.chars().skip(skip).collect::<String>()))
}

/// `pad(text, length, with)`.
pub(super) fn pad<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let (text, fill) = (given.text(0)?, given.text(2)?);
    if fill.is_empty() {
        return fail(&given.nodes[2], "the text to fill with is empty");
    }
    let missing = given.whole(1)?.saturating_sub(text.chars().count());
    Ok(Item::text(fill.chars().cycle().take(missing).collect::<String>() + &text))
}

/// `replace(text, part, with)`.
pub(super) fn replace<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let (text, part) = (given.text(0)?, given.text(1)?);
    if part.is_empty() {
        return fail(&given.nodes[1], "the part to replace is empty");
    }
    Ok(Item::text(text.replace(&*part, &given.text(2)?)))
}

/// `contains(text, part)`.
pub(super) fn contains<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(match given.text_or_nothing(1)? {
        None => Item::Missing,
        Some(part) => Item::bool(given.text(0)?.contains(&*part)),
    })
}

/// `length(text)`.
pub(super) fn length<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(Item::Number(Decimal::from(given.text(0)?.chars().count())))
}

/// `json(value)`.
pub(super) fn json<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(given.values[0].clone().value().map_or(Item::Missing, |value| Item::text(value.to_string())))
}

/// `xml(value, root)`.
pub(super) fn xml<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    if given.values[0].is_nothing() {
        return Ok(Item::Missing);
    }
    let Some(value) = given.values[0].clone().value() else { return Ok(Item::Missing) };
    crate::schema::to_xml(&value, &given.text(1)?).map_or_else(|says| fail(given.node, says), |text| Ok(Item::text(text)))
}
