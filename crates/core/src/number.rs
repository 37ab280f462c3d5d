//! Numbers written as texts: one strict reader, comparison at any length, and exact arithmetic.
//!
//! A number may have more digits than a [`Decimal`] holds (an id of forty digits). It can be compared and passed on; calculating
//! with it is an error, never a rounding.

use rust_decimal::Decimal;
use std::borrow::Cow;
use std::cmp::Ordering;

/// Most decimal places of a number in calculations.
const SCALE: u32 = 28;

/// A number's sign, digits and exponent, as they are written.
struct Parts<'t> {
    negative: bool,
    plus: bool,
    point: bool,
    whole: &'t str,
    fraction: &'t str,
    exponent: &'t str,
}

impl<'t> Parts<'t> {
    fn of(text: &'t str) -> Option<Self> {
        let (negative, plus) = (text.starts_with('-'), text.starts_with('+'));
        let rest = &text[usize::from(negative || plus)..];
        let (mantissa, exponent) = match rest.find(['e', 'E']) {
            Some(at) => (&rest[..at], Some(&rest[at + 1..])),
            None => (rest, None),
        };
        let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
        let digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
        let sound = digits(whole) && digits(fraction) && !(whole.is_empty() && fraction.is_empty());
        let exponent = match exponent {
            None => "",
            Some(written) => {
                let plain = written.strip_prefix(['+', '-']).unwrap_or(written);
                if plain.is_empty() || !digits(plain) {
                    return None;
                }
                written
            }
        };
        sound.then_some(Self { negative, plus, point: mantissa.contains('.'), whole, fraction, exponent })
    }

    fn is_json(&self) -> bool {
        let whole = !self.whole.is_empty() && (self.whole.len() == 1 || !self.whole.starts_with('0'));
        whole && !self.plus && !(self.point && self.fraction.is_empty())
    }

    fn json(&self) -> String {
        let whole = self.whole.trim_start_matches('0');
        let whole = if whole.is_empty() { "0" } else { whole };
        let mut text = format!("{}{whole}", if self.negative { "-" } else { "" });
        if !self.fraction.is_empty() {
            text += ".";
            text += self.fraction;
        }
        if !self.exponent.is_empty() {
            text += "e";
            text += self.exponent;
        }
        text
    }

    /// Reads a number with few digits and no exponent, as nearly all numbers are.
    fn short(&self) -> Option<Decimal> {
        let is_short = self.exponent.is_empty() && self.whole.len() + self.fraction.len() <= 18;
        is_short.then(|| {
            let digits = self.whole.bytes().chain(self.fraction.bytes());
            let mantissa = digits.fold(0i64, |all, digit| all * 10 + i64::from(digit - b'0'));
            Decimal::new(if self.negative { -mantissa } else { mantissa }, self.fraction.len() as u32)
        })
    }

    /// The exponent; one beyond 18 digits counts as the largest.
    fn power(&self) -> i64 {
        let (sign, digits) = match self.exponent.strip_prefix('-') {
            Some(digits) => (-1, digits),
            None => (1, self.exponent.trim_start_matches('+')),
        };
        let digits = digits.trim_start_matches('0');
        let size = if digits.len() > 18 { i64::MAX / 4 } else { digits.parse().unwrap_or(0) };
        sign * size
    }

    /// The significant digits and the power of ten of the place before the first: `0.12` is `12` and 0. No digits for zero.
    fn significant(&self) -> (String, i64) {
        let all = format!("{}{}", self.whole, self.fraction);
        let zeros = all.len() - all.trim_start_matches('0').len();
        let digits = all.trim_matches('0').to_owned();
        let place = self.whole.len() as i64 - zeros as i64;
        (digits, self.power().saturating_add(place))
    }
}

/// Reads a number: JSON's form (RFC 8259, section 6), and the forms that partners write: white space around it, a plus sign,
/// leading zeros, a point without digits on one side (X12.6, type R).
///
/// Returns JSON's form with every digit. `None` for everything else: `1_000`, `1,5`, `12 pieces`, an empty text.
#[must_use]
pub fn read(text: &str) -> Option<Cow<'_, str>> {
    let text = text.trim_ascii();
    let parts = Parts::of(text)?;
    Some(if parts.is_json() { Cow::Borrowed(text) } else { Cow::Owned(parts.json()) })
}

/// Compares two numbers exactly, at any length. `None` if one of the texts is not a number.
#[must_use]
pub fn compare(a: &str, b: &str) -> Option<Ordering> {
    let (a, b) = (Parts::of(a)?, Parts::of(b)?);
    if let (Some(a), Some(b)) = (a.short(), b.short()) {
        return Some(a.cmp(&b));
    }
    let ((left, left_place), (right, right_place)) = (a.significant(), b.significant());
    let sign = |negative: bool, digits: &str| if digits.is_empty() { 0 } else { 1 - 2 * i8::from(negative) };
    let (left_sign, right_sign) = (sign(a.negative, &left), sign(b.negative, &right));
    let size = (left_place, left).cmp(&(right_place, right));
    Some(left_sign.cmp(&right_sign).then(match left_sign {
        0 => Ordering::Equal,
        1 => size,
        _ => size.reverse(),
    }))
}

/// Returns one text for every form of a number: `1.5`, `1.50` and `15e-1` are equal. `None` if the text is not a number.
#[must_use]
pub fn canonical(text: &str) -> Option<String> {
    let parts = Parts::of(text)?;
    let (digits, place) = parts.significant();
    if digits.is_empty() {
        return Some("0".to_owned());
    }
    Some(format!("{}{digits}e{place}", if parts.negative { "-" } else { "" }))
}

/// Returns the number for calculations, with its trailing zeros if they fit.
///
/// Reads what [`read`] does. `None` if the text is not a number or has more digits than a decimal holds (28, some of 29): it is
/// never rounded.
#[must_use]
pub fn decimal(text: &str) -> Option<Decimal> {
    let parts = Parts::of(text.trim_ascii())?;
    if let Some(short) = parts.short() {
        return Some(short);
    }
    let zeros = |digits: &str| digits.bytes().all(|byte| byte == b'0');
    if zeros(parts.whole) && zeros(parts.fraction) {
        return Some(Decimal::new(0, (parts.fraction.len() as u32).min(SCALE)));
    }
    let mut digits = format!("{}{}", parts.whole, parts.fraction);
    let mut scale = (parts.fraction.len() as i64).checked_sub(parts.power())?;
    while scale > i64::from(SCALE) && digits.ends_with('0') {
        digits.pop();
        scale -= 1;
    }
    if scale < 0 {
        let more = usize::try_from(-scale).ok().filter(|more| *more <= SCALE as usize + 1)?;
        digits.extend(std::iter::repeat_n('0', more));
        scale = 0;
    }
    let plain = digits.trim_start_matches('0');
    let mantissa: i128 = if plain.len() > 38 { return None } else { plain.parse().ok()? };
    fit(if parts.negative { -mantissa } else { mantissa }, u32::try_from(scale).ok()?)
}

/// Returns a mantissa and scale as a decimal, without trailing zeros if only that makes them fit.
fn fit(mut mantissa: i128, mut scale: u32) -> Option<Decimal> {
    loop {
        if let Some(whole) = (scale <= SCALE).then(|| Decimal::try_from_i128_with_scale(mantissa, scale).ok()).flatten() {
            return Some(whole);
        }
        if scale == 0 || mantissa % 10 != 0 {
            return None;
        }
        (mantissa, scale) = (mantissa / 10, scale - 1);
    }
}

/// Returns the exact sum; `None` if it has more digits than a decimal holds.
#[must_use]
pub fn add(a: Decimal, b: Decimal) -> Option<Decimal> {
    let exact = |a: Decimal, b: Decimal| {
        let scale = a.scale().max(b.scale());
        let lift = |one: Decimal| one.mantissa().checked_mul(10i128.checked_pow(scale - one.scale())?);
        fit(lift(a)?.checked_add(lift(b)?)?, scale)
    };
    exact(a, b).or_else(|| exact(a.normalize(), b.normalize()))
}

/// Returns the exact product; `None` if it has more digits than a decimal holds.
#[must_use]
pub fn multiply(a: Decimal, b: Decimal) -> Option<Decimal> {
    let exact = |a: Decimal, b: Decimal| fit(a.mantissa().checked_mul(b.mantissa())?, a.scale() + b.scale());
    exact(a, b).or_else(|| exact(a.normalize(), b.normalize()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn one_reader_takes_what_json_and_partners_write() {
        let cases = [
            ("0", "0"),
            ("-0", "-0"),
            ("1.50", "1.50"),
            ("1e5", "1e5"),
            ("1E-5", "1E-5"),
            (" 7\n", "7"),
            ("+7", "7"),
            ("007", "7"),
            (".5", "0.5"),
            ("5.", "5"),
            ("-.5", "-0.5"),
            ("000", "0"),
            ("+00.10e2", "0.10e2"),
        ];
        for (text, expected) in cases {
            assert_eq!(read(text).as_deref(), Some(expected), "{text}");
        }
        for text in [
            "",
            " ",
            ".",
            "-",
            "+",
            "e5",
            "1e",
            "1e+",
            "1_000",
            "1,5",
            "1 000",
            "0x10",
            "12 pieces",
            "--1",
            "1.2.3",
            "NaN",
            "inf",
            "٣",
            "1e5.0",
        ] {
            assert_eq!(read(text), None, "{text}");
        }
    }

    #[test]
    fn numbers_of_any_length_are_compared_exactly() {
        let long = "12345678901234567890123456789012345678901";
        let cases = [
            ("1.5", "1.50", Ordering::Equal),
            ("-0", "0.000", Ordering::Equal),
            ("15e-1", "1.5", Ordering::Equal),
            (long, "12345678901234567890123456789012345678902", Ordering::Less),
            (long, long, Ordering::Equal),
            ("-2", "-1", Ordering::Less),
            ("-1", "0", Ordering::Less),
            ("0.09", "0.1", Ordering::Less),
            ("10", "9", Ordering::Greater),
            ("1e999999999999999999999", "1e9", Ordering::Greater),
            ("1e-999999999999999999999", "0", Ordering::Greater),
            ("0.30000000000000000000000000000000000000001", "0.3", Ordering::Greater),
        ];
        for (a, b, expected) in cases {
            assert_eq!(compare(a, b), Some(expected), "{a} {b}");
            assert_eq!(compare(b, a), Some(expected.reverse()), "{b} {a}");
            assert_eq!(canonical(a) == canonical(b), expected.is_eq(), "{a} {b}");
        }
        assert_eq!((compare("1", "x"), canonical("x")), (None, None));
    }

    #[test]
    fn more_digits_than_a_decimal_holds_are_no_number_to_calculate_with() {
        let shown = |text: &str| decimal(text).map(|number| number.to_string());
        assert_eq!(shown("1.10").as_deref(), Some("1.10"));
        assert_eq!(shown("-1.5e3").as_deref(), Some("-1500"));
        assert_eq!(shown("1e-28").as_deref(), Some("0.0000000000000000000000000001"));
        assert_eq!(shown("0.00000000000000000000000000000000000").as_deref(), Some("0.0000000000000000000000000000"));
        assert_eq!(shown("79228162514264337593543950335").as_deref(), Some("79228162514264337593543950335"));
        for text in
            ["79228162514264337593543950336", "0.12345678901234567890123456789", "1e-29", "1e30", "1e99999999999999999999"]
        {
            assert_eq!(shown(text), None, "{text}");
        }
        let most = decimal("79228162514264337593543950335").unwrap();
        let one = |text: &str| decimal(text).unwrap();
        assert_eq!(add(most, one("1")), None);
        assert_eq!(multiply(most, one("2")), None);
        assert_eq!(multiply(one("1e-20"), one("1e-9")), None, "a product is never rounded");
        assert_eq!(multiply(one("1.10"), one("3")).unwrap().to_string(), "3.30");
        assert_eq!(add(one("0.1"), one("0.2")).unwrap().to_string(), "0.3");
        assert_eq!(add(one("79228162514264337593543950334"), one("1.0")).unwrap().to_string(), most.to_string());
    }

    proptest! {
        #[test]
        fn what_is_read_is_json_and_the_same_number(text in "[ +-]{0,1}[0-9]{0,5}\\.?[0-9]{0,5}([eE][+-]?[0-9]{1,2})?") {
            if let Some(read) = read(&text) {
                prop_assert!(serde_json::from_str::<serde_json::Number>(&read).is_ok(), "{read}");
                prop_assert_eq!(compare(text.trim(), &read), Some(Ordering::Equal));
            }
        }

        #[test]
        fn order_and_sums_are_those_of_whole_numbers(a in -10_000i64..10_000, b in -10_000i64..10_000, places in 0u32..6) {
            let (left, right) = (Decimal::new(a, places), Decimal::new(b, places));
            prop_assert_eq!(compare(&left.to_string(), &right.to_string()), Some(a.cmp(&b)));
            prop_assert_eq!(add(left, right), Some(Decimal::new(a + b, places)));
            prop_assert_eq!(multiply(left, right), Some(Decimal::from_i128_with_scale(i128::from(a) * i128::from(b), 2 * places)));
        }
    }
}
