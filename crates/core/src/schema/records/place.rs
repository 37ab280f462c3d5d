//! Reads and writes the value of one field at its position.

use super::{Layout, record_keys};
use crate::number;
use crate::schema::Schema;
use crate::schema::written::{plain, typed};
use rust_decimal::Decimal;
use serde_json::Value;

/// Position of a field in its record.
pub(super) struct Place<'a> {
    pub path: Vec<String>,
    node: &'a Value,
    pub at: usize,
    pub length: Option<usize>,
    right: bool,
    pad: char,
    places: u32,
    pub date: Option<&'a str>,
}

impl<'a> Place<'a> {
    pub fn of(schema: &Schema, node: &'a Value, path: Vec<String>) -> Option<Self> {
        let own = record_keys(node)?;
        let number = |key: &str| own.get(key).and_then(Value::as_u64).and_then(|number| usize::try_from(number).ok());
        let text = |key: &str| own.get(key).and_then(Value::as_str);
        let right = text("side").map_or(schema.json_type(node) == Some("number"), |side| side == "right");
        Some(Self {
            path,
            node,
            at: number("at")?,
            length: number("length"),
            right,
            pad: text("pad").and_then(|pad| pad.chars().next()).unwrap_or(' '),
            places: number("places").unwrap_or(0) as u32,
            date: text("date"),
        })
    }

    pub fn name(&self) -> String {
        self.path.join(".")
    }

    /// Returns whether a line of this many characters ends inside it. Trailing blanks are often left out.
    pub fn cut_by(&self, characters: usize) -> bool {
        let from = self.at.saturating_sub(1);
        let ends = self.length.is_some_and(|length| from < characters && characters < from + length);
        ends && (self.right || self.pad != ' ')
    }

    pub fn read(&self, schema: &Schema, text: &str, at: &str) -> Result<Option<Value>, String> {
        let blank = |c: char| c == ' ' || c == self.pad;
        let trimmed = match (self.right, self.pad) {
            (_, ' ') => text.trim(),
            // Zeros only are the number 0.
            (true, '0') if !text.trim().is_empty() && text.trim().bytes().all(|byte| byte == b'0') => "0",
            (true, _) => text.trim_start_matches(blank).trim_end(),
            (false, _) => text.trim_end_matches(blank).trim_start(),
        };
        if trimmed.is_empty() {
            return Ok(None);
        }
        if let Some(pattern) = self.date {
            let date = jiff::fmt::strtime::parse(pattern, trimmed).and_then(|parsed| parsed.to_date());
            return date
                .map(|date| Some(Value::from(date.to_string())))
                .map_err(|_| format!("{at}: `{trimmed}` is not a date of the form `{pattern}`"));
        }
        if self.places > 0 {
            let whole = number::read(trimmed).and_then(|text| number::decimal(&text));
            let whole = whole.ok_or_else(|| format!("{at}: expected a number, found `{trimmed}`"))?;
            if trimmed.contains('.') {
                return Err(format!(
                    "{at}: `{trimmed}` has a decimal point, but this field has {} implied decimal places",
                    self.places
                ));
            }
            let shifted = Decimal::from_i128_with_scale(whole.mantissa(), self.places).to_string();
            return typed(schema, self.node, &shifted, at);
        }
        typed(schema, self.node, trimmed, at)
    }

    /// Returns the value padded for its position. A value that would not be read back unchanged is refused: blanks at its ends, a
    /// time that the date pattern leaves out.
    pub fn write(&self, schema: &Schema, value: &Value, layout: &Layout<'_>) -> Result<String, String> {
        let text = self.written(value, layout)?;
        let at = self.name();
        match self.read(schema, &text, &at)? {
            back if same(value, back.as_ref()) => Ok(text),
            back => {
                let shown = back.map_or_else(|| "nothing".to_owned(), |back| back.to_string());
                Err(format!("{at}: {value} would be read back as {shown}"))
            }
        }
    }

    fn written(&self, value: &Value, layout: &Layout<'_>) -> Result<String, String> {
        let separator = layout.separator;
        let at = self.name();
        let text = plain(value).ok_or_else(|| format!("{at}: expected a single value"))?;
        let text = match (self.date, self.places) {
            (Some(pattern), _) if !text.is_empty() => {
                let date: Option<jiff::civil::Date> = text.get(..10).and_then(|day| day.parse().ok());
                let date = date.ok_or_else(|| format!("{at}: expected an ISO date, found `{text}`"))?;
                jiff::fmt::strtime::format(pattern, date).map_err(|error| format!("{at}: {error}"))?
            }
            (None, 1..) if !text.is_empty() => {
                let number = number::read(&text).and_then(|text| number::decimal(&text));
                let number = number.ok_or_else(|| format!("{at}: expected a number, found `{text}`"))?;
                if number.normalize().scale() > self.places {
                    return Err(format!("{at}: {text} has more than {} decimal places", self.places));
                }
                let mut scaled = number;
                scaled.rescale(self.places);
                scaled.mantissa().to_string()
            }
            _ => text.into_owned(),
        };
        if text.contains(['\n', '\r'])
            || text.contains(layout.line_end)
            || separator.is_some_and(|separator| text.contains(separator))
        {
            return Err(format!("{at}: `{}` contains a line end or a separator", text.escape_debug()));
        }
        let (Some(length), None) = (self.length, separator) else { return Ok(text) };
        let missing = length
            .checked_sub(text.chars().count())
            .ok_or_else(|| format!("{at}: `{text}` has {} characters; the field has {length}", text.chars().count()))?;
        let fill: String = std::iter::repeat_n(self.pad, missing).collect();
        Ok(match (self.right, text.strip_prefix('-').filter(|_| self.pad == '0')) {
            (true, Some(rest)) => format!("-{fill}{rest}"),
            (true, None) => fill + &text,
            (false, _) => text + &fill,
        })
    }
}

/// Returns whether the value read back is the value written: a missing one equals an empty text, and numbers are compared by
/// value.
fn same(value: &Value, back: Option<&Value>) -> bool {
    let text = plain(value).unwrap_or_default();
    let Some(back) = back.and_then(plain) else { return text.is_empty() };
    text == back || value.is_number() && number::compare(&text, &back).is_some_and(|order| order.is_eq())
}
