//! Takes out of a text what differs from run to run: ids, times, dates.

/// Ids become `ID-1`, `ID-2` in the order they are first seen, times of the day `TIME`, both as wide as they were, so that
/// columns stay columns. Spans such as `12 ms` become `SPAN`, dates of this century such as `20261224` and `2026-12-24` `DATE`.
#[must_use]
pub fn redact(text: &str) -> String {
    let mut ids: Vec<String> = Vec::new();
    let mut out = String::new();
    for line in text.split_inclusive('\n') {
        let mut rest = line;
        while !rest.is_empty() {
            let end = rest.find(|c: char| !(c.is_ascii_alphanumeric() || c == ':' || c == '.')).unwrap_or(rest.len());
            if end == 0 {
                let length = rest.chars().next().map_or(1, char::len_utf8);
                out.push_str(&rest[..length]);
                rest = &rest[length..];
                continue;
            }
            let (word, after) = rest.split_at(end);
            if let Some(after) = behind_span(word, after) {
                // Its width changes from run to run, and with it the blanks that fill its column.
                out.push_str("SPAN");
                let blanks = after.len() - after.trim_start_matches(' ').len();
                rest = &after[blanks.saturating_sub(2)..];
                continue;
            }
            if let Some(after) = behind_date(word, after) {
                out.push_str("DATE");
                rest = after;
                continue;
            }
            out.push_str(&one(word, &mut ids));
            rest = after;
        }
    }
    out
}

/// Returns the text after a number and its unit of time.
fn behind_span<'t>(word: &str, after: &'t str) -> Option<&'t str> {
    let number = word.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.') && word.as_bytes()[0].is_ascii_digit();
    let units = ["ms", "s", "min", "h", "days", "day"];
    let unit = |unit: &&str| {
        let rest = after.strip_prefix(' ')?.strip_prefix(unit)?;
        (!rest.starts_with(|c: char| c.is_ascii_alphanumeric())).then_some(rest)
    };
    units.iter().filter(|_| number).find_map(unit)
}

/// Returns the text after a date, in the form of X12 or of RFC 3339.
fn behind_date<'t>(word: &str, after: &'t str) -> Option<&'t str> {
    let digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    if !word.starts_with("20") || !digits(word) {
        return None;
    }
    if word.len() == 8 {
        return Some(after);
    }
    let rest = after.get(..6).filter(|rest| word.len() == 4 && rest.starts_with('-') && &rest[3..4] == "-")?;
    (digits(&rest[1..3]) && digits(&rest[4..6])).then(|| &after[6..])
}

fn one(word: &str, ids: &mut Vec<String>) -> String {
    let digits = word.bytes().filter(u8::is_ascii_digit).count();
    let is_id = word.len() == 13 && digits >= 3 && word.bytes().all(|byte| byte.is_ascii_digit() || byte.is_ascii_lowercase());
    if is_id {
        let at = ids.iter().position(|known| known == word).unwrap_or_else(|| {
            ids.push(word.to_owned());
            ids.len() - 1
        });
        return format!("{:<13}", format!("ID-{}", at + 1));
    }
    let is_time = word.len() >= 8 && word.as_bytes().get(2) == Some(&b':') && word.as_bytes().get(5) == Some(&b':');
    if is_time { format!("{:<1$}", "TIME", word.len()) } else { word.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_are_numbered_and_times_hidden() {
        let text = "08:01:02 done 0f3k2m9p4q7r1 of 0f3k2m9p4q7r2, again 0f3k2m9p4q7r1";
        assert_eq!(redact(text), "TIME     done ID-1          of ID-2         , again ID-1         ");
    }

    #[test]
    fn dates_are_hidden_and_other_numbers_are_not() {
        let text = "BEG*00*SA*MF-1001**20261201~ \"2026-12-24\", 20501 of 2026-12, 19261201, 2026-1x-24, 202612011";
        assert_eq!(redact(text), "BEG*00*SA*MF-1001**DATE~ \"DATE\", 20501 of 2026-12, 19261201, 2026-1x-24, 202612011");
    }

    #[test]
    fn spans_are_hidden_and_other_numbers_are_not() {
        assert_eq!(redact("after 12 ms─ ● 1.5 s, 3 min"), "after SPAN─ ● SPAN, SPAN");
        assert_eq!(redact("12 ms     x"), redact("120 ms    x"));
        assert_eq!(redact("2 messages, 5 sets, row 3, 12 msec"), "2 messages, 5 sets, row 3, 12 msec");
    }
}
