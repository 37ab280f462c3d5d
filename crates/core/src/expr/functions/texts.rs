//! Functions that make texts of texts, numbers and dates.

use super::date;
use crate::expr::eval::{fail, number, shorten};
use crate::expr::{EvalError, Item, Node};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use jiff::Zoned;
use jiff::fmt::temporal::Pieces;
use jiff::tz::TimeZone;
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
    if rest.starts_with(char::is_alphanumeric) || text.is_empty() { rest.to_owned() } else { format!("0{rest}") }
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

/// `date_as(date, pattern)` by the letters of strftime.
pub(super) fn date_as<'a>(node: &'a Node, text: &str, pattern: &str) -> Result<Item<'a>, EvalError> {
    let zoned = moment(text).or_else(|| moment(&date(text)?));
    let Some(zoned) = zoned else {
        return fail(node, format!("`{}` is no date", shorten(text)));
    };
    match jiff::fmt::strtime::format(pattern, &zoned) {
        Ok(text) => Ok(Item::text(text)),
        Err(error) => fail(node, format!("`{}` is no pattern of a date: {error}", shorten(pattern))),
    }
}

/// What a text of RFC 3339 or an ISO date names, as a clock at its own offset shows it; UTC where it has none.
fn moment(text: &str) -> Option<Zoned> {
    let pieces = Pieces::parse(text).ok()?;
    let zone = pieces.to_numeric_offset().map_or(TimeZone::UTC, TimeZone::fixed);
    pieces.date().to_datetime(pieces.time().unwrap_or_default()).to_zoned(zone).ok()
}

fn zone(node: &Node, name: &str) -> Result<TimeZone, EvalError> {
    TimeZone::get(name)
        .or_else(|_| fail(node, format!("`{}` is no time zone; they are named as in Europe/Vienna", shorten(name))))
}

/// `local(moment, zone)`: RFC 3339 with the offset that holds there then.
pub(super) fn local<'a>(node: &'a Node, text: &str, name: &str) -> Result<Item<'a>, EvalError> {
    let Ok(moment) = text.parse::<jiff::Timestamp>() else {
        return fail(node, format!("`{}` is no moment: it needs an offset, as in 2026-11-23T08:00:00Z", shorten(text)));
    };
    Ok(Item::text(moment.to_zoned(zone(node, name)?).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()))
}

/// `utc(text, zone)`: the moment at which a clock there shows that. Of a time that comes twice, when clocks are put back, it
/// is the first; a time that they leave out is as much later.
pub(super) fn utc<'a>(node: &'a Node, text: &str, name: &str) -> Result<Item<'a>, EvalError> {
    let zone = zone(node, name)?;
    let zoned = text.parse::<jiff::civil::DateTime>().and_then(|time| time.to_zoned(zone));
    match zoned {
        Ok(zoned) => Ok(Item::text(zoned.timestamp().strftime("%Y-%m-%dT%H:%M:%SZ").to_string())),
        Err(_) => fail(node, format!("`{}` is no date with a time, as in 2026-11-23T08:00", shorten(text))),
    }
}

fn day(node: &Node, text: &str) -> Result<jiff::civil::Date, EvalError> {
    let day = moment(text).or_else(|| moment(&date(text)?));
    day.map_or_else(|| fail(node, format!("`{}` is no date", shorten(text))), |day| Ok(day.date()))
}

/// `date_plus(date, days)`: an ISO date.
pub(super) fn date_plus<'a>(node: &'a Node, text: &str, days: Decimal) -> Result<Item<'a>, EvalError> {
    let whole = days.normalize();
    let span = i32::try_from(whole.mantissa())
        .ok()
        .filter(|_| whole.scale() == 0)
        .and_then(|days| jiff::Span::new().try_days(days).ok());
    let Some(later) = span.and_then(|span| day(node, text).ok()?.checked_add(span).ok()) else {
        day(node, text)?;
        return fail(node, format!("{days} is no number of days"));
    };
    Ok(Item::text(later.to_string()))
}

/// `days_between(date, later)`: negative where the second is earlier; nothing where one of them is missing.
pub(super) fn days_between<'a>(node: &'a Node, from: &str, to: &str) -> Result<Item<'a>, EvalError> {
    if from.is_empty() || to.is_empty() {
        return Ok(Item::Missing);
    }
    let (from, to) = (day(node, from)?, day(node, to)?);
    Ok(Item::Number(Decimal::from((to - from).get_days())))
}

/// `date_from(text, pattern)`: an ISO date.
pub(super) fn date_from<'a>(node: &'a Node, text: &str, pattern: &str) -> Result<Item<'a>, EvalError> {
    match jiff::fmt::strtime::parse(pattern, text).and_then(|parsed| parsed.to_date()) {
        Ok(date) => Ok(Item::text(date.to_string())),
        Err(_) => fail(node, format!("`{}` is no date of the form `{}`", shorten(text), shorten(pattern))),
    }
}

/// `number_as(number, places, thousands, point)`: `1.234,50`.
pub(super) fn number_as<'a>(
    node: &'a Node,
    value: &Item<'_>,
    places: usize,
    thousands: &str,
    point: &str,
) -> Result<Item<'a>, EvalError> {
    let places = places.min(28) as u32;
    let mut rounded = number(node, value)?.round_dp_with_strategy(places, RoundingStrategy::MidpointAwayFromZero);
    rounded.rescale(places);
    let text = rounded.abs().to_string();
    let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
    let mut shown = if rounded.is_sign_negative() && !rounded.is_zero() { "-".to_owned() } else { String::new() };
    for (n, digit) in whole.chars().enumerate() {
        if n > 0 && (whole.len() - n).is_multiple_of(3) {
            shown.push_str(thousands);
        }
        shown.push(digit);
    }
    if !fraction.is_empty() {
        shown.push_str(point);
        shown.push_str(fraction);
    }
    Ok(Item::text(shown))
}
