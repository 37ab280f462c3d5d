//! What an answer over HTTP means: decided here once, for real calls, dry runs and cases alike.
//!
//! | answer | outcome |
//! |---|---|
//! | 2xx | done |
//! | 408, 425, 429, 5xx but 503 | again, after `Retry-After` where given |
//! | 401, 503 | the connection is put on hold |
//! | any other, redirects too | refused |
//!
//! What may concern one message alone, such as 403, is no reason here to hold the connection: that needs several in a row, which
//! the engine sees.

use super::{Body, Outcome};

/// Fields of an answer that usually hold a sentence for people; the first one counts.
const SENTENCES: [&str; 5] = ["detail", "problem", "message", "error", "title"];
/// Most characters of an answer that are quoted.
const QUOTED: usize = 200;

/// Returns the outcome of a call that was answered with `status`. `after_ms` is the pause that the answer asks for.
#[must_use]
pub fn meaning(status: u16, body: Body, after_ms: Option<u64>) -> Outcome {
    let says = match first_words(&body).as_str() {
        "" => format!("answered {status}"),
        words => format!("answered {status}: {words}"),
    };
    match status {
        200..=299 => Outcome::Answer { status, body },
        401 => Outcome::Held { says: format!("{says}; check the credentials of the connection"), status },
        503 => Outcome::Held { says, status },
        408 | 425 | 429 | 500..=599 => Outcome::Again { says, status, body, after_ms },
        _ => Outcome::Refused { says, status, body },
    }
}

/// Returns the words of an answer for people: a field that usually holds a sentence, or the first line of the text.
fn first_words(body: &Body) -> String {
    let text = body.text();
    let value: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
    let field = SENTENCES.iter().find_map(|name| value.get(name)?.as_str());
    let words = field.unwrap_or(if value.is_null() { text.trim() } else { "" });
    words.lines().next().unwrap_or_default().chars().take(QUOTED).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_status_has_its_meaning() {
        let kind = |status: u16| match meaning(status, "{\"detail\":\"no\"}".into(), Some(7)) {
            Outcome::Answer { .. } => "done",
            Outcome::Again { after_ms: Some(7), .. } => "again",
            Outcome::Again { .. } => "again, at another time",
            Outcome::Refused { .. } => "refused",
            Outcome::Held { .. } => "held",
            Outcome::InDoubt { .. } => "in doubt",
        };
        let of = |statuses: &[u16]| statuses.iter().map(|status| kind(*status)).collect::<Vec<_>>();
        assert_eq!(of(&[200, 201, 204, 299]), ["done"; 4]);
        assert_eq!(of(&[408, 425, 429, 500, 502, 504, 599]), ["again"; 7]);
        assert_eq!(of(&[401, 503]), ["held"; 2]);
        assert_eq!(of(&[0, 100, 300, 301, 304, 307, 400, 403, 404, 409, 410, 422, 600, 999]), ["refused"; 14]);
    }

    #[test]
    fn a_person_reads_the_sentence_of_the_answer() {
        let said = |body: &str| first_words(&body.into());
        assert_eq!(said(r#"{"detail":"unknown item","n":1}"#), "unknown item");
        assert_eq!(said("plain words\nmore"), "plain words");
        assert_eq!(said(r#"{"n":1}"#), "");
        assert_eq!(said(r#"{"detail":7,"message":"no"}"#), "no");
        assert_eq!(said(&"ü".repeat(500)).chars().count(), QUOTED);
        assert_eq!(meaning(422, "".into(), None).says(), "answered 422");
    }
}
