//! Places in a received message from which its event name or delivery id is read.

use serde_json::{Map, Value};
use std::sync::Arc;

/// A place in a received message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    Header(String),
    /// A field of a JSON body, its parts joined by dots.
    Field(String),
    /// A broker's property, outside the headers.
    Property(Property),
}

/// Properties of a message at a broker that can name or identify it (AMQP 0-9-1, class basic).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Property {
    RoutingKey,
    MessageId,
    CorrelationId,
    Type,
}

impl Property {
    /// Every property with its word in a file.
    pub const ALL: [(&'static str, Self); 4] = [
        ("routing-key", Self::RoutingKey),
        ("message-id", Self::MessageId),
        ("correlation-id", Self::CorrelationId),
        ("type", Self::Type),
    ];

    /// Returns the word in a file.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::RoutingKey => "routing-key",
            Self::MessageId => "message-id",
            Self::CorrelationId => "correlation-id",
            Self::Type => "type",
        }
    }

    /// Returns its name in `$meta`.
    #[must_use]
    pub const fn key(self) -> &'static str {
        match self {
            Self::RoutingKey => "routing_key",
            Self::MessageId => "message_id",
            Self::CorrelationId => "correlation_id",
            Self::Type => "type",
        }
    }
}

/// A header by name; `None` when it is missing or no text.
pub type Headers<'a> = &'a dyn Fn(&str) -> Option<&'a str>;

impl Place {
    /// Returns the text at the place, if there is one. `properties` has a broker's properties, see [`crate::intake::Provenance`].
    #[must_use]
    pub fn find(&self, headers: Headers<'_>, properties: &Map<String, Value>, body: Option<&Value>) -> Option<String> {
        match self {
            Self::Header(name) => headers(name).map(str::to_owned),
            Self::Property(property) => properties.get(property.key())?.as_str().map(str::to_owned),
            Self::Field(path) => match path.split('.').try_fold(body?, |at, part| at.get(part))? {
                Value::String(text) => Some(text.clone()),
                Value::Number(number) => Some(number.to_string()),
                Value::Null | Value::Bool(_) | Value::Array(_) | Value::Object(_) => None,
            },
        }
    }

    /// Parses the body as JSON if one of these places is a field of it. A body that cannot be parsed has no fields; it is
    /// received all the same, for a person to look at.
    #[must_use]
    pub fn look_into(places: [&Option<Self>; 2], body: &[u8]) -> Option<Arc<Value>> {
        let looks = places.into_iter().flatten().any(|place| matches!(place, Self::Field(_)));
        if looks { serde_json::from_slice(body).ok().map(Arc::new) } else { None }
    }

    /// Returns it in words for the sender, e.g. `the header X-Event`.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Header(name) => format!("the header {name}"),
            Self::Field(path) => format!("the field {path}"),
            Self::Property(property) => format!("the property {}", property.as_str()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn names_are_found_in_headers_fields_and_properties() {
        let body = json!({ "type": "purchase.placed", "data": { "id": 7 }, "list": [1] });
        let properties = json!({ "routing_key": "picks.swift", "priority": 3 });
        let find = |name: &str| (name == "X-Event").then_some("item.listed");
        let at = |place: Place| place.find(&find, properties.as_object().unwrap(), Some(&body));
        let field = |path: &str| at(Place::Field(path.into()));
        assert_eq!(field("type").as_deref(), Some("purchase.placed"));
        assert_eq!((field("data.id").as_deref(), field("data"), field("none.at.all")), (Some("7"), None, None));
        assert_eq!(at(Place::Header("X-Event".into())).as_deref(), Some("item.listed"));
        assert_eq!(at(Place::Property(Property::RoutingKey)).as_deref(), Some("picks.swift"));
        assert_eq!(at(Place::Property(Property::MessageId)), None);
    }

    #[test]
    fn a_body_is_looked_into_only_for_a_field() {
        let header = Some(Place::Header("X-Event".into()));
        let field = Some(Place::Field("type".into()));
        assert_eq!(Place::look_into([&header, &None], b"{}"), None);
        assert_eq!(Place::look_into([&header, &field], b"{}").as_deref(), Some(&json!({})));
        assert_eq!(Place::look_into([&field, &None], b"{"), None, "what cannot be read has no fields");
    }
}
