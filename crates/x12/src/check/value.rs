//! Checks values of data elements by type (X12.6).

use crate::definitions::{ElementDefinition, Kind, Quick};
use crate::fault::printable;

/// Fault of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Problem {
    TooShort,
    TooLong,
    Character,
    NotNumber,
    NotDate,
    NotTime,
    UnknownCode,
    /// A code that a list which may be incomplete does not have: only noted.
    NotListed,
    /// Components where the element has none.
    Components,
}

impl Problem {
    /// Data element 723 code, and what follows the element's name and a colon.
    pub fn describe(self, element: &ElementDefinition, value: &[u8]) -> (&'static str, String) {
        let shown = printable(value);
        let length = length(element.kind, &String::from_utf8_lossy(value));
        match self {
            Self::TooShort => ("4", format!("too short: `{shown}` has {length} characters, at least {} are needed", element.min)),
            Self::TooLong => ("5", format!("too long: `{shown}` has {length} characters, at most {} are allowed", element.max)),
            Self::Character => ("6", format!("`{shown}` contains a character that is not allowed")),
            Self::NotNumber => ("6", format!("expected a number, found `{shown}`")),
            Self::NotDate => ("8", format!("expected a date, found `{shown}`")),
            Self::NotTime => ("9", format!("expected a time, found `{shown}`")),
            Self::UnknownCode | Self::NotListed => ("7", format!("unknown code `{shown}`")),
            Self::Components => ("13", format!("expected a single value, found components: `{shown}`")),
        }
    }
}

/// Checks a value, which is not empty, against its element.
pub(crate) fn check(element: &ElementDefinition, value: &[u8]) -> Result<(), Problem> {
    checked(&element.quick(), value, text)
}

/// The same of a value that is known to be printable ASCII.
#[inline]
pub(crate) fn check_plain(element: &Quick, value: &[u8]) -> Result<(), Problem> {
    checked(element, value, plain_text)
}

#[inline]
fn checked(element: &Quick, value: &[u8], text: impl Fn(&[u8]) -> Result<usize, Problem>) -> Result<(), Problem> {
    let length = match element.kind {
        Kind::Text | Kind::Code => text(value)?,
        Kind::Numeric(_) => numeric(value).ok_or(Problem::NotNumber)?,
        Kind::Decimal => decimal(value).ok_or(Problem::NotNumber)?,
        Kind::Date | Kind::Time => {
            let all_digits = value.iter().all(u8::is_ascii_digit);
            let (fits, problem) = match element.kind {
                Kind::Date => (all_digits && (!matches!(value.len(), 6 | 8) || is_day(value)), Problem::NotDate),
                _ => (all_digits && (!matches!(value.len(), 4 | 6..=8) || is_time(value)), Problem::NotTime),
            };
            if !fits || (value.len() == 5 && element.kind == Kind::Time) {
                return Err(problem);
            }
            value.len()
        }
        Kind::Binary => value.len(),
    };
    if length < element.min as usize {
        return Err(Problem::TooShort);
    }
    if length > element.max as usize {
        return Err(Problem::TooLong);
    }
    if !element.codes.is_empty() && !element.codes.contains(value) {
        return Err(if element.complete { Problem::UnknownCode } else { Problem::NotListed });
    }
    Ok(())
}

/// Returns the length in characters of a text with at least one character that is not a space, and no control characters.
fn text(value: &[u8]) -> Result<usize, Problem> {
    // In plain ASCII, one byte is one character.
    let plain = value.iter().fold(true, |plain, byte| plain & (0x20..0x7f).contains(byte));
    if plain {
        return plain_text(value);
    }
    let text = std::str::from_utf8(value).map_err(|_| Problem::Character)?;
    if text.chars().any(char::is_control) || text.trim().is_empty() {
        return Err(Problem::Character);
    }
    Ok(text.chars().count())
}

fn plain_text(value: &[u8]) -> Result<usize, Problem> {
    let says_something = value[0] != b' ' || value.iter().any(|byte| *byte != b' ');
    if says_something { Ok(value.len()) } else { Err(Problem::Character) }
}

/// Returns the length of a value as the standard counts it: of a number its digits (X12.6, 3.5.1.1 and 3.5.1.2).
fn length(kind: Kind, text: &str) -> usize {
    match kind {
        Kind::Numeric(_) | Kind::Decimal => text.chars().filter(char::is_ascii_digit).count(),
        Kind::Text | Kind::Code | Kind::Date | Kind::Time | Kind::Binary => text.chars().count(),
    }
}

/// Digits of `-12`, where it is such a number.
fn numeric(value: &[u8]) -> Option<usize> {
    let digits = value.strip_prefix(b"-").unwrap_or(value);
    (!digits.is_empty() && digits.iter().all(u8::is_ascii_digit)).then_some(digits.len())
}

/// Digits of `-1.25` or `1.2E-3`, where it is such a number.
fn decimal(value: &[u8]) -> Option<usize> {
    let rest = value.strip_prefix(b"-").unwrap_or(value);
    let (mut digits, mut points) = (0, 0);
    for (n, byte) in rest.iter().enumerate() {
        match byte {
            b'0'..=b'9' => digits += 1,
            b'.' if points == 0 => points = 1,
            b'E' if digits > 0 => return Some(digits + numeric(&rest[n + 1..])?),
            _ => return None,
        }
    }
    (digits > 0).then_some(digits)
}

/// Returns whether `text` is `CCYYMMDD` or `YYMMDD` and an existing day (X12.6, data type DT).
#[must_use]
pub fn is_date(text: &str) -> bool {
    let bytes = text.as_bytes();
    matches!(bytes.len(), 6 | 8) && bytes.iter().all(u8::is_ascii_digit) && is_day(bytes)
}

/// Returns whether six or eight digits are an existing day.
fn is_day(digits: &[u8]) -> bool {
    let number = |part: &[u8]| part.iter().fold(0u32, |number, digit| number * 10 + u32::from(digit - b'0'));
    let (year, rest) = match digits.len() {
        8 => (number(&digits[..4]), &digits[4..]),
        _ => (2000 + number(&digits[..2]), &digits[2..]),
    };
    let (month, day) = (number(&rest[..2]), number(&rest[2..]));
    let leap = (year.is_multiple_of(4) && !year.is_multiple_of(100)) || year.is_multiple_of(400);
    let days = match month {
        2 => 28 + u32::from(leap),
        4 | 6 | 9 | 11 => 30,
        1 | 3 | 5 | 7 | 8 | 10 | 12 => 31,
        _ => return false,
    };
    (1..=days).contains(&day)
}

/// Returns whether digits are `HHMM`, `HHMMSS`, `HHMMSSD` or `HHMMSSDD` (X12.6, data type TM).
pub(crate) fn is_time(value: &[u8]) -> bool {
    let two = |at: usize| value.get(at..at + 2).map(|two| (two[0].wrapping_sub(b'0')) * 10 + two[1].wrapping_sub(b'0'));
    matches!(value.len(), 4 | 6 | 7 | 8)
        && value.iter().all(u8::is_ascii_digit)
        && two(0).is_some_and(|hour| hour < 24)
        && two(2).is_some_and(|minute| minute < 60)
        && (value.len() == 4 || two(4).is_some_and(|second| second < 60))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_has_its_sign_point_and_exponent_in_their_places() {
        for (text, digits) in [("1", 1), ("-12", 2), ("1.25", 3), (".5", 1), ("5.", 1), ("-0.10", 3), ("1.2E3", 3), ("12E-10", 4)]
        {
            assert_eq!(decimal(text.as_bytes()), Some(digits), "{text}");
        }
        for text in ["", "-", ".", "1.2.3", "1-", "+1", "1,5", "E5", "1E", "1E1.5", "twelve"] {
            assert_eq!(decimal(text.as_bytes()), None, "{text}");
        }
        assert_eq!((numeric(b"-7"), numeric(b"7.0"), numeric(b"-")), (Some(1), None, None));
    }

    #[test]
    fn a_time_is_one_of_the_day() {
        for time in ["0000", "2359", "235959", "2359599", "23595999"] {
            assert!(is_time(time.as_bytes()), "{time}");
        }
        for time in ["2400", "2360", "235960", "23595", "12", "12:0", ""] {
            assert!(!is_time(time.as_bytes()), "{time}");
        }
    }
}
