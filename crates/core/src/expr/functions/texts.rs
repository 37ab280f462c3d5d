//! Functions that make texts of texts and numbers.

use super::Values;
use crate::expr::eval::fail;
use crate::expr::{EvalError, Item};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ring::digest;
use rust_decimal::{Decimal, RoundingStrategy};
use std::fmt::Write;

fn sha256(text: &str) -> digest::Digest {
    digest::digest(&digest::SHA256, text.as_bytes())
}

/// A function that makes a text of one; `None` for a name that is none of them.
pub(super) fn of_text(name: &str) -> Option<fn(&str) -> String> {
    Some(match name {
        "base64" => |text| STANDARD.encode(text),
        "digits" => |text| text.chars().filter(char::is_ascii_digit).collect(),
        "hash" => |text| hex::encode(sha256(text)),
        "lower" => str::to_lowercase,
        "text" => str::to_owned,
        "title" => title,
        "trim" => |text| text.trim().to_owned(),
        "upper" => str::to_uppercase,
        "url_part" => url_part,
        "uuid" => uuid,
        "zeros_off" => zeros_off,
        _ => return None,
    })
}

/// The zeros on the left taken off; one stays of nothing but zeros, and before a decimal point.
fn zeros_off(text: &str) -> String {
    let rest = text.trim_start_matches('0');
    let bare = rest.len() == text.len() || rest.starts_with(char::is_alphanumeric);
    if bare { rest.to_owned() } else { format!("0{rest}") }
}

/// Each word with a capital letter, the rest small.
fn title(text: &str) -> String {
    let mut start = true;
    let letter = |c: char| {
        let shown: String = if start { c.to_uppercase().collect() } else { c.to_lowercase().collect() };
        start = !c.is_alphanumeric() && c != '\'';
        shown
    };
    text.chars().map(letter).collect()
}

/// Percent-encoded, all but the unreserved characters of RFC 3986.
fn url_part(text: &str) -> String {
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
fn uuid(text: &str) -> String {
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&sha256(text).as_ref()[..16]);
    bytes[6] = bytes[6] & 0x0F | 0x80;
    bytes[8] = bytes[8] & 0x3F | 0x80;
    let hex = hex::encode(bytes);
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

/// `left`, `right`, `pad` and `replace`: lengths count characters.
pub(super) fn part<'a>(name: &str, given: &Values<'_, 'a>) -> Result<Item<'a>, EvalError> {
    let text = given.text(0)?;
    Ok(Item::text(match name {
        "left" => text.chars().take(given.whole(1)?).collect::<String>(),
        "right" => {
            let skip = text.chars().count().saturating_sub(given.whole(1)?);
            text.chars().skip(skip).collect()
        }
        "pad" => {
            let fill = given.text(2)?;
            if fill.is_empty() {
                return fail(&given.nodes[2], "a text to fill with is needed here");
            }
            let missing = given.whole(1)?.saturating_sub(text.chars().count());
            fill.chars().cycle().take(missing).collect::<String>() + &text
        }
        _ => {
            let part = given.text(1)?;
            if part.is_empty() {
                return fail(&given.nodes[1], "a part to replace is needed here");
            }
            text.replace(&*part, &given.text(2)?)
        }
    }))
}

/// A number with so many decimal places; `None` where it has no room for them.
pub(super) fn rounded(number: Decimal, places: usize, how: RoundingStrategy) -> Option<Decimal> {
    let places = u32::try_from(places).ok().filter(|places| *places <= 28)?;
    let mut rounded = number.round_dp_with_strategy(places, how);
    rounded.rescale(places);
    (rounded.scale() == places).then_some(rounded)
}

/// `number_as(number, places, thousands, point)`: `1.234,50`.
pub(super) fn number_as<'a>(given: &Values<'_, 'a>) -> Result<Item<'a>, EvalError> {
    let (value, places) = (given.number(0)?, given.whole(1)?);
    let (thousands, point) = (given.text(2)?, given.text(3)?);
    let Some(rounded) = rounded(value, places, RoundingStrategy::MidpointAwayFromZero) else {
        return fail(&given.nodes[1], format!("{value} has no room for {places} decimal places"));
    };
    let text = rounded.abs().to_string();
    let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
    if point.is_empty() && !fraction.is_empty() {
        return fail(&given.nodes[3], "a sign for the decimal point is needed here");
    }
    let mut shown = if rounded.is_sign_negative() && !rounded.is_zero() { "-".to_owned() } else { String::new() };
    for (n, digit) in whole.chars().enumerate() {
        if n > 0 && (whole.len() - n).is_multiple_of(3) {
            shown.push_str(&thousands);
        }
        shown.push(digit);
    }
    if !fraction.is_empty() {
        shown.push_str(&point);
        shown.push_str(fraction);
    }
    Ok(Item::text(shown))
}
