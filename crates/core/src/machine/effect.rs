//! Effects: requests to the outside, and their outcomes.

use crate::Digest;
use crate::broker::SHORT;
use crate::connection::RepeatRule;
use crate::flow::Method;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};
use std::fmt;
use std::time::Duration;

/// An effect to perform.
#[derive(Debug, Clone, PartialEq)]
pub struct Work {
    pub step: String,
    pub generation: u16,
    pub effect: Effect,
    /// Digest of the request: a rebuild that asks for another one has diverged.
    pub request: Digest,
    /// The idempotency key: origin, flow, step and generation.
    pub key: Digest,
    /// Done only when no other message with the same cause did it before.
    pub once: Option<Claim>,
}

/// Claim on a cause: of the messages with the same cause, only one performs the effect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    pub cause: Digest,
    /// How long the cause counts as the same.
    pub within: Duration,
}

/// A request to the outside.
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    Call {
        connection: String,
        method: Method,
        path: String,
        body: Option<Body>,
    },
    /// A file of that name with that content.
    Send {
        connection: String,
        file: String,
        body: Body,
    },
    /// A message at a broker.
    Publish {
        connection: String,
        post: Box<Post>,
        body: Body,
    },
}

/// Destination and properties of a message at a broker (AMQP 0-9-1, class basic). Its message id is the work's key.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Post {
    /// Empty for the default exchange.
    pub exchange: String,
    pub routing_key: String,
    pub content_type: &'static str,
    pub headers: Vec<(String, String)>,
    /// Empty texts are left out.
    pub correlation_id: String,
    pub reply_to: String,
    pub kind: String,
    pub priority: Option<u8>,
    pub expires_ms: Option<u64>,
}

/// Bytes of all headers of a message at a broker, at most: properties go in one frame, of 128 KB as brokers have it.
const HEADERS: usize = 100_000;

impl Post {
    /// Refuses what the protocol cannot carry. Sent all the same, it would end the connection, and with it what other messages have
    /// under way there.
    ///
    /// # Errors
    /// A sentence with what is too long.
    pub fn check(&self) -> Result<(), String> {
        let texts = [
            ("exchange", &self.exchange),
            ("routing key", &self.routing_key),
            ("correlation id", &self.correlation_id),
            ("reply_to", &self.reply_to),
            ("type", &self.kind),
        ];
        let names = self.headers.iter().map(|(name, _)| ("name of a header", name));
        if let Some((what, text)) = texts.into_iter().chain(names).find(|(_, text)| text.len() > SHORT) {
            return Err(format!("the {what} has {} bytes; a broker takes at most {SHORT}", text.len()));
        }
        let bytes: usize = self.headers.iter().map(|(name, value)| name.len() + value.len()).sum();
        if bytes > HEADERS {
            return Err(format!("the headers together have {bytes} bytes; a broker takes at most {HEADERS}"));
        }
        Ok(())
    }

    /// Everything but the exchange and the key, one a line, for people and for the digest.
    #[must_use]
    pub fn properties(&self) -> Vec<(String, String)> {
        let plain = [("type", &self.kind), ("correlation-id", &self.correlation_id), ("reply-to", &self.reply_to)].into_iter();
        let mut all: Vec<(String, String)> =
            plain.filter(|(_, value)| !value.is_empty()).map(|(name, value)| (name.to_owned(), value.clone())).collect();
        all.extend(self.priority.map(|priority| ("priority".to_owned(), priority.to_string())));
        all.extend(self.expires_ms.map(|ms| ("expires".to_owned(), format!("{ms} ms"))));
        all.extend(self.headers.iter().map(|(name, value)| (format!("header {name}"), value.clone())));
        all
    }
}

impl Effect {
    /// Returns the connection it uses.
    #[must_use]
    pub fn connection(&self) -> &str {
        match self {
            Self::Call { connection, .. } | Self::Send { connection, .. } | Self::Publish { connection, .. } => connection,
        }
    }

    /// Returns a digest of the whole request.
    #[must_use]
    pub fn digest(&self) -> Digest {
        match self {
            Self::Call { connection, method, path, body } => {
                let body = body.as_ref().map_or(&[][..], |body| &body.0);
                Digest::of(&[connection.as_bytes(), method.as_str().as_bytes(), path.as_bytes(), body])
            }
            Self::Send { connection, file, body } => Digest::of(&[connection.as_bytes(), file.as_bytes(), &body.0]),
            Self::Publish { connection, post, body } => {
                let properties = post.properties();
                let mut parts = vec![connection.as_bytes(), post.exchange.as_bytes(), post.routing_key.as_bytes(), &body.0];
                parts.extend(properties.iter().flat_map(|(name, value)| [name.as_bytes(), value.as_bytes()]));
                Digest::of(&parts)
            }
        }
    }

    /// The request as one line: `POST /orders`, a file name, or exchange and routing key.
    #[must_use]
    pub fn line(&self) -> String {
        match self {
            Self::Call { method, path, .. } => format!("{} {path}", method.as_str()),
            Self::Send { file, .. } => file.clone(),
            Self::Publish { post, .. } if post.exchange.is_empty() => format!("queue {}", post.routing_key),
            Self::Publish { post, .. } => format!("{} {}", post.exchange, post.routing_key),
        }
    }

    /// Returns its properties besides the content, by name.
    #[must_use]
    pub fn properties(&self) -> Vec<(String, String)> {
        match self {
            Self::Publish { post, .. } => post.properties(),
            Self::Call { .. } | Self::Send { .. } => Vec::new(),
        }
    }

    /// Returns its content.
    #[must_use]
    pub fn body(&self) -> Option<&Body> {
        match self {
            Self::Call { body, .. } => body.as_ref(),
            Self::Send { body, .. } | Self::Publish { body, .. } => Some(body),
        }
    }
}

/// Outcome of an effect.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Done. `status` is 0 where the protocol has none.
    Answer { status: u16, body: Body },
    /// Failed in a way that may pass; the other side may ask for a pause.
    Again { says: String, status: u16, body: Body, after_ms: Option<u64> },
    /// The same request will be refused again.
    Refused { says: String, status: u16, body: Body },
    /// The connection cannot be used at present, by any message.
    Held { says: String, status: u16 },
    /// May or may not have been done, and must not be repeated blindly.
    InDoubt { says: String },
}

impl Outcome {
    /// Returns what to do when a process ended between an effect and its outcome; `None` to repeat it.
    #[must_use]
    pub fn after_a_crash(rule: RepeatRule) -> Option<Self> {
        match rule {
            RepeatRule::Key | RepeatRule::Safe => None,
            RepeatRule::Never => Some(Self::InDoubt {
                says: "the service stopped before the answer arrived; the request may have taken effect".to_owned(),
            }),
        }
    }

    /// The status, where there is one.
    #[must_use]
    pub fn status(&self) -> u16 {
        match self {
            Self::Answer { status, .. }
            | Self::Again { status, .. }
            | Self::Refused { status, .. }
            | Self::Held { status, .. } => *status,
            Self::InDoubt { .. } => 0,
        }
    }

    /// Returns the answer's body, if there is one.
    #[must_use]
    pub fn body(&self) -> Option<&Body> {
        match self {
            Self::Answer { body, .. } | Self::Again { body, .. } | Self::Refused { body, .. } => Some(body),
            Self::Held { .. } | Self::InDoubt { .. } => None,
        }
    }

    /// The sentence, where it went wrong.
    #[must_use]
    pub fn says(&self) -> &str {
        match self {
            Self::Answer { .. } => "",
            Self::Again { says, .. } | Self::Refused { says, .. } | Self::Held { says, .. } | Self::InDoubt { says } => says,
        }
    }
}

/// Bytes that were sent or received. Stored as text if they are text, otherwise as hex digits after a NUL.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Body(pub Vec<u8>);

impl Body {
    /// Returns the bytes as text; invalid UTF-8 is replaced.
    #[must_use]
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.0).into_owned()
    }

    /// The media type, by what it begins with.
    #[must_use]
    pub fn content_type(&self) -> &'static str {
        let start = self.0.trim_ascii_start();
        match start.first() {
            Some(b'{' | b'[') => "application/json",
            Some(b'<') => "application/xml",
            _ if start.starts_with(b"ISA") => "application/edi-x12",
            _ if std::str::from_utf8(&self.0).is_ok() => "text/plain; charset=utf-8",
            _ => "application/octet-stream",
        }
    }
}

impl From<&str> for Body {
    fn from(text: &str) -> Self {
        Self(text.as_bytes().to_vec())
    }
}

impl fmt::Debug for Body {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", String::from_utf8_lossy(&self.0[..self.0.len().min(200)]))
    }
}

impl Serialize for Body {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match std::str::from_utf8(&self.0) {
            Ok(text) if !text.starts_with('\0') => serializer.serialize_str(text),
            _ => {
                serializer.collect_str(&format_args!("\0{}", self.0.iter().map(|byte| format!("{byte:02x}")).collect::<String>()))
            }
        }
    }
}

impl<'de> Deserialize<'de> for Body {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let Some(hex) = text.strip_prefix('\0') else { return Ok(Self(text.into_bytes())) };
        let pairs =
            hex.as_bytes().chunks(2).map(|two| std::str::from_utf8(two).ok().and_then(|two| u8::from_str_radix(two, 16).ok()));
        pairs.collect::<Option<Vec<u8>>>().map(Self).ok_or_else(|| D::Error::custom("expected hexadecimal digits"))
    }
}

#[cfg(test)]
mod tests {
    use super::Body;
    use proptest::prelude::*;

    #[test]
    fn what_a_body_is_shows_by_its_beginning() {
        let of = |bytes: &[u8]| Body(bytes.to_vec()).content_type();
        assert_eq!([of(b" {}"), of(b"\n[1]"), of(b"<a/>")], ["application/json", "application/json", "application/xml"]);
        assert_eq!(
            [of(b"ISA*00"), of(b"sku;n"), of(b"")],
            ["application/edi-x12", "text/plain; charset=utf-8", "text/plain; charset=utf-8"]
        );
        assert_eq!(of(&[0x89, b'P', 0xFF]), "application/octet-stream");
    }

    #[test]
    fn hex_digits_that_are_none_are_refused() {
        for wrong in ["\"\\u00000g\"", "\"\\u00000\\u0000\"", "7"] {
            assert!(serde_json::from_str::<Body>(wrong).is_err(), "{wrong}");
        }
    }

    proptest! {
        /// The bytes sent are the bytes shown and sent again, whatever they are.
        #[test]
        fn bytes_come_back_from_what_is_stored(bytes in prop_oneof![
            prop::collection::vec(any::<u8>(), 0..64),
            "\\PC{0,40}".prop_map(String::into_bytes),
            "\u{0}[0-9a-f]{0,6}".prop_map(String::into_bytes),
        ]) {
            let body = Body(bytes);
            let stored = serde_json::to_string(&body).expect("stored");
            prop_assert_eq!(serde_json::from_str::<Body>(&stored).expect("read"), body);
        }
    }
}
