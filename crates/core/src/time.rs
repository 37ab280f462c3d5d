//! A moment, as a number of microseconds.

use serde::{Deserialize, Serialize};
use std::time::Duration;

/// Microseconds since 1970-01-01 00:00:00 UTC.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Timestamp(pub i64);

/// Writes RFC 3339 in UTC, to the second.
impl std::fmt::Display for Timestamp {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match jiff::Timestamp::from_microsecond(self.0) {
            Ok(moment) => write!(f, "{moment:.0}"),
            Err(_) => write!(f, "{} µs", self.0),
        }
    }
}

impl Timestamp {
    /// The moment `ms` milliseconds after 1970.
    #[must_use]
    pub const fn from_millis(ms: i64) -> Self {
        Self(ms * 1000)
    }

    /// Whole milliseconds since 1970.
    #[must_use]
    pub const fn millis(self) -> i64 {
        self.0.div_euclid(1000)
    }

    /// Returns this moment plus `span`; stops at the largest value.
    #[must_use]
    pub fn after(self, span: Duration) -> Self {
        Self(self.0.saturating_add(i64::try_from(span.as_micros()).unwrap_or(i64::MAX)))
    }

    /// Returns the time from `earlier` to this moment; zero when `earlier` is later.
    #[must_use]
    pub fn since(self, earlier: Self) -> Duration {
        Duration::from_micros(u64::try_from(self.0.saturating_sub(earlier.0)).unwrap_or(0))
    }

    /// The moment that a text names: RFC 3339, or a day, which begins at midnight UTC.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let day = || text.parse::<jiff::civil::Date>().ok()?.to_zoned(jiff::tz::TimeZone::UTC).ok().map(|day| day.timestamp());
        let moment = text.parse::<jiff::Timestamp>().ok().or_else(day)?;
        Some(Self(moment.as_microsecond()))
    }

    /// `CCYYMMDD` and `HHMM` in UTC, as X12 envelopes carry them.
    #[must_use]
    pub fn x12(self) -> (String, String) {
        let seconds = self.0.div_euclid(1_000_000);
        let (days, rest) = (seconds.div_euclid(86_400), seconds.rem_euclid(86_400));
        // Days to civil date, counting years from March so that a leap day comes last.
        let shifted = days + 719_468;
        let era = shifted.div_euclid(146_097);
        let of_era = shifted.rem_euclid(146_097);
        let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
        let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
        let month_index = (5 * of_year + 2) / 153;
        let day = of_year - (153 * month_index + 2) / 5 + 1;
        let month = if month_index < 10 { month_index + 3 } else { month_index - 9 };
        let year = year_of_era + era * 400 + i64::from(month <= 2);
        (format!("{year:04}{month:02}{day:02}"), format!("{:02}{:02}", rest / 3600, rest % 3600 / 60))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_read_from_text() {
        assert_eq!(Timestamp::parse("2026-11-23T07:19:00Z"), Some(Timestamp(1_795_418_340_000_000)));
        assert_eq!(Timestamp::parse("2026-11-23T08:19:00+01:00"), Some(Timestamp(1_795_418_340_000_000)));
        assert_eq!(Timestamp::parse("2024-02-29"), Some(Timestamp(1_709_164_800_000_000)));
        assert_eq!((Timestamp::parse("2026-02-30"), Timestamp::parse("soon"), Timestamp::parse("")), (None, None, None));
    }

    #[test]
    fn x12_dates_of_known_moments() {
        let at = |seconds: i64| Timestamp::from_millis(seconds * 1000).x12();
        assert_eq!(at(0), ("19700101".into(), "0000".into()));
        assert_eq!(at(1_709_164_800), ("20240229".into(), "0000".into()));
        assert_eq!(at(1_795_418_340), ("20261123".into(), "0719".into()));
    }
}
