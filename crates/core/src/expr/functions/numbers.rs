//! Functions that calculate, and those that read and write numbers.

use super::{Given, Values};
use crate::expr::Item;
use crate::expr::eval::{fail, shorten};
use crate::number;
use rust_decimal::{Decimal, RoundingStrategy};
use serde_json::Value;
use std::borrow::Cow;

/// `abs(number)`.
pub(super) fn abs<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(Item::Number(given.number(0)?.abs()))
}

/// `number(text)`: the digits stay as they were written, 1.10 is 1.10, however many there are.
pub(super) fn number_of<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let text = given.text(0)?;
    match number::read(&text) {
        None => fail(&given.nodes[0], format!("expected a number, found `{}`", shorten(&text))),
        Some(written) => match number::decimal(&written) {
            Some(number) => Ok(Item::Number(number)),
            None => match serde_json::from_str(&written) {
                Ok(number) => Ok(Item::Json(Cow::Owned(Value::Number(number)))),
                Err(_) => fail(&given.nodes[0], format!("expected a number, found `{}`", shorten(&text))),
            },
        },
    }
}

/// `round(number, places, how)`.
pub(super) fn round<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let value = given.number(0)?;
    let places = given.whole(1)?;
    let how = match given.values.get(2).map(|_| given.text(2)).transpose()?.as_deref() {
        None => RoundingStrategy::MidpointAwayFromZero,
        Some("even") => RoundingStrategy::MidpointNearestEven,
        Some("up") => RoundingStrategy::AwayFromZero,
        Some("down") => RoundingStrategy::ToZero,
        Some(other) => {
            return fail(&given.nodes[2], format!("`{}` is not a way to round: write 'even', 'up' or 'down'", shorten(other)));
        }
    };
    match rounded(value, places, how) {
        Some(rounded) => Ok(Item::Number(rounded)),
        None => fail(&given.nodes[1], format!("{value} cannot have {places} decimal places: the limit is 28 digits")),
    }
}

/// Rounds to `places` decimal places; `None` if the number has no room for them.
fn rounded(number: Decimal, places: usize, how: RoundingStrategy) -> Option<Decimal> {
    let places = u32::try_from(places).ok().filter(|places| *places <= 28)?;
    let mut rounded = number.round_dp_with_strategy(places, how);
    rounded.rescale(places);
    (rounded.scale() == places).then_some(rounded)
}

/// `number_as(number, places, thousands, point)`: `1.234,50`.
pub(super) fn number_as<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let (value, places) = (given.number(0)?, given.whole(1)?);
    let (thousands, point) = (given.text(2)?, given.text(3)?);
    let Some(rounded) = rounded(value, places, RoundingStrategy::MidpointAwayFromZero) else {
        return fail(&given.nodes[1], format!("{value} cannot have {places} decimal places: the limit is 28 digits"));
    };
    let text = rounded.abs().to_string();
    let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
    if point.is_empty() && !fraction.is_empty() {
        return fail(&given.nodes[3], "the decimal point is empty");
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
