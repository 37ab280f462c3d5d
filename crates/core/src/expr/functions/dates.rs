//! Functions over dates and moments. A date is written CCYYMMDD, YYMMDD or as ISO 8601 does, with or without a time; an offset
//! that is written counts.

use super::{Given, Values};
use crate::expr::eval::{fail, shorten};
use crate::expr::{EvalError, Item};
use jiff::civil::{Date, DateTime};
use jiff::fmt::strtime::BrokenDownTime;
use jiff::fmt::temporal::Pieces;
use jiff::tz::{Offset, TimeZone};
use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;

/// A clock time, with its offset from UTC if the text has one.
struct Written {
    clock: DateTime,
    offset: Option<Offset>,
}

impl Written {
    /// Reads a date, or a date with a time.
    fn of(text: &str) -> Option<Self> {
        let text = text.trim();
        if let Some(date) = digits_only(text) {
            return Some(Self { clock: date.to_datetime(jiff::civil::Time::midnight()), offset: None });
        }
        // Only the forms with separators: what is left of a number cannot pass for a year.
        let dashed = text.len() >= 10 && text.is_char_boundary(10) && text.as_bytes()[4] == b'-' && text.as_bytes()[7] == b'-';
        let pieces = Pieces::parse(text).ok().filter(|_| dashed)?;
        if pieces.time_zone_annotation().is_some() {
            return None;
        }
        let clock = pieces.date().to_datetime(pieces.time().unwrap_or_default());
        Some(Self { clock, offset: pieces.to_numeric_offset() })
    }

    /// The same moment as a clock in UTC shows it; none where no offset is written.
    fn in_utc(&self) -> Option<DateTime> {
        self.clock.checked_sub(SignedDuration::from_secs(i64::from(self.offset?.seconds()))).ok()
    }
}

/// Parses CCYYMMDD, or YYMMDD: 69 to 99 are years of the 20th century, 00 to 68 of the 21st, as POSIX defines `%y`.
fn digits_only(text: &str) -> Option<Date> {
    if !text.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let part = |from: usize, to: usize| text[from..to].parse::<i16>().ok();
    let (year, at) = match text.len() {
        8 => (part(0, 4)?, 4),
        6 => (century(part(0, 2)?), 2),
        _ => return None,
    };
    let (month, day) = (i8::try_from(part(at, at + 2)?).ok()?, i8::try_from(part(at + 2, at + 4)?).ok()?);
    Date::new(year, month, day).ok().filter(|_| year > 0)
}

/// The whole year of its last two digits.
const fn century(year: i16) -> i16 {
    if year >= 69 { 1900 + year } else { 2000 + year }
}

/// The day at a place.
fn day(given: &Values<'_, '_>, at: usize) -> Result<Date, EvalError> {
    Ok(written(given, at)?.clock.date())
}

fn written(given: &Values<'_, '_>, at: usize) -> Result<Written, EvalError> {
    let text = given.text(at)?;
    Written::of(&text).map_or_else(|| fail(&given.nodes[at], format!("expected a date, found `{}`", shorten(&text))), Ok)
}

/// `date(text)`: an ISO date.
pub(super) fn date<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(Item::text(day(given, 0)?.to_string()))
}

/// `days_between(date, later)`.
pub(super) fn days_between<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    match given.text_or_nothing(1)?.filter(|text| !text.trim().is_empty()) {
        None => Ok(Item::Missing),
        Some(_) => Ok(Item::Number(Decimal::from((day(given, 1)? - day(given, 0)?).get_days()))),
    }
}

/// `date_as(date, pattern)` by the letters of strftime, as a clock at the date's own offset shows it; UTC where it has none.
pub(super) fn date_as<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let written = written(given, 0)?;
    let pattern = given.text(1)?;
    let mut time = BrokenDownTime::from(written.clock);
    time.set_offset(Some(written.offset.unwrap_or(Offset::UTC)));
    match time.to_string(pattern.as_bytes()) {
        Ok(text) => Ok(Item::text(text)),
        Err(error) => fail(&given.nodes[1], format!("`{}` is not a date pattern: {error}", shorten(&pattern))),
    }
}

/// `date_from(text, pattern)`: an ISO date.
pub(super) fn date_from<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let (text, pattern) = (given.text(0)?, given.text(1)?);
    match jiff::fmt::strtime::parse(&*pattern, &*text).and_then(|parsed| parsed.to_date()) {
        Ok(date) => Ok(Item::text(date.to_string())),
        Err(_) => fail(&given.nodes[0], format!("`{}` is not a date of the form `{}`", shorten(&text), shorten(&pattern))),
    }
}

/// `date_plus(date, days)`: an ISO date.
pub(super) fn date_plus<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let (day, days) = (day(given, 0)?, given.number(1)?);
    let whole = days.normalize();
    let span = i32::try_from(whole.mantissa()).ok().filter(|_| whole.scale() == 0);
    let Some(span) = span.and_then(|days| jiff::Span::new().try_days(days).ok()) else {
        return fail(&given.nodes[1], format!("expected a whole number of days, found {days}"));
    };
    match day.checked_add(span).ok().filter(|later| later.year() > 0) {
        Some(later) => Ok(Item::text(later.to_string())),
        None => fail(&given.nodes[1], format!("{days} days from {day} is outside the years 1 to 9999")),
    }
}

fn zone(given: &Values<'_, '_>) -> Result<TimeZone, EvalError> {
    let name = given.text(1)?;
    TimeZone::get(&name)
        .or_else(|_| fail(&given.nodes[1], format!("expected a time zone such as Europe/Vienna, found `{}`", shorten(&name))))
}

/// `local(moment, zone)`: RFC 3339 with the offset of that zone then.
pub(super) fn local<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let text = given.text(0)?;
    let Some(moment) = Written::of(&text).and_then(|written| written.in_utc()) else {
        let says = format!("expected a time with an offset, such as 2026-11-23T08:00:00Z, found `{}`", shorten(&text));
        return fail(&given.nodes[0], says);
    };
    let zone = zone(given)?;
    // The last hours of the year 9999 have no timestamp; the offset before them is used.
    let near = moment.in_tz("UTC").map_or(Timestamp::MAX, |zoned| zoned.timestamp());
    let offset = zone.to_offset(near);
    match moment.checked_add(SignedDuration::from_secs(i64::from(offset.seconds()))) {
        Ok(clock) => Ok(Item::text(rfc_3339(clock, offset))),
        Err(_) => fail(&given.nodes[0], format!("`{}` is outside the years 1 to 9999 in that zone", shorten(&text))),
    }
}

/// `utc(text, zone)`: the moment at which a clock there shows the text. A time that occurs twice, when clocks are put back, is
/// the first of both; a time that is skipped is moved later by the gap. A text with an offset needs no zone.
pub(super) fn utc<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let (text, zone) = (given.text(0)?, zone(given)?);
    let timed = text.len() > 10;
    let Some(written) = Written::of(&text).filter(|_| timed) else {
        return fail(
            &given.nodes[0],
            format!("expected a date with a time, such as 2026-11-23T08:00, found `{}`", shorten(&text)),
        );
    };
    let moment = match written.offset {
        Some(_) => written.in_utc(),
        None => match written.clock.to_zoned(zone.clone()) {
            Ok(zoned) => Some(zoned.timestamp().to_zoned(TimeZone::UTC).datetime()),
            Err(_) => {
                let seconds = zone.to_offset(Timestamp::MAX).seconds();
                written.clock.checked_sub(SignedDuration::from_secs(i64::from(seconds))).ok()
            }
        },
    };
    match moment {
        Some(moment) => Ok(Item::text(moment.strftime("%Y-%m-%dT%H:%M:%S%.fZ").to_string())),
        None => fail(&given.nodes[0], format!("`{}` is outside the years 1 to 9999 in UTC", shorten(&text))),
    }
}

/// Returns RFC 3339, with a fraction of the second if there is one.
fn rfc_3339(clock: DateTime, offset: Offset) -> String {
    let seconds = offset.seconds();
    let (sign, minutes) = (if seconds < 0 { '-' } else { '+' }, seconds.abs() / 60);
    format!("{}{sign}{:02}:{:02}", clock.strftime("%Y-%m-%dT%H:%M:%S%.f"), minutes / 60, minutes % 60)
}
