//! Spans of time as people write them: `250ms`, `2s`, `5m`, `1h`, `7d`.

use std::time::Duration;

/// Reads a span. `None` when it is not a whole number followed by `ms`, `s`, `m`, `h` or `d`.
#[must_use]
pub fn parse(text: &str) -> Option<Duration> {
    let split = text.find(|c: char| !c.is_ascii_digit())?;
    let (number, unit) = text.split_at(split);
    let number: u64 = number.parse().ok()?;
    let seconds = |each: u64| number.checked_mul(each).map(Duration::from_secs);
    match unit.trim() {
        "ms" => Some(Duration::from_millis(number)),
        "s" => seconds(1),
        "m" => seconds(60),
        "h" => seconds(3600),
        "d" => seconds(86_400),
        _ => None,
    }
}

/// Writes a span shortly, to two figures: `0.4 s`, `12 s`, `3 min`, `2 h`, `5 d`.
#[must_use]
pub fn short(span: Duration) -> String {
    let ms = span.as_millis();
    match ms {
        0..1000 => format!("{ms} ms"),
        1000..10_000 => format!("{:.1} s", span.as_secs_f64()),
        10_000..120_000 => format!("{} s", ms / 1000),
        120_000..7_200_000 => format!("{} min", ms / 60_000),
        7_200_000..172_800_000 => format!("{} h", ms / 3_600_000),
        _ => format!("{} d", ms / 86_400_000),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_read_and_write() {
        assert_eq!(parse("250ms"), Some(Duration::from_millis(250)));
        assert_eq!(parse("5m"), Some(Duration::from_secs(300)));
        assert_eq!([parse("5"), parse("m"), parse("5 weeks"), parse("")], [None; 4]);
        assert_eq!(short(Duration::from_millis(1400)), "1.4 s");
        assert_eq!(short(Duration::from_secs(600)), "10 min");
    }
}
