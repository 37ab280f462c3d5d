//! Dates of made-up documents: relative to today.

use jiff::civil::Date;
use jiff::{Span, Timestamp, tz::TimeZone};

/// Returns today's date, in UTC.
#[must_use]
pub fn today() -> Date {
    Timestamp::now().to_zoned(TimeZone::UTC).date()
}

/// Returns the date that many days after today.
#[must_use]
pub fn days_from_today(days: i64) -> Date {
    today().saturating_add(Span::new().days(days))
}
