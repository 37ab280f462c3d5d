//! Properties and headers of a received message, as expressions read them in `$meta`.

use lapin::message::Delivery;
use lapin::types::AMQPValue;
use serde_json::{Map, Value};
use wirewatch_core::place::Property;

/// Returns all properties that are set; see [`wirewatch_core::intake::Provenance::properties`].
pub fn of(delivery: &Delivery) -> Map<String, Value> {
    let mut all = Map::new();
    let mut tell = |name: &str, value: Option<Value>| {
        if let Some(value) = value.filter(|value| value.as_str() != Some("")) {
            all.insert(name.to_owned(), value);
        }
    };
    let properties = &delivery.properties;
    tell("exchange", Some(delivery.exchange.as_str().into()));
    tell(Property::RoutingKey.key(), Some(delivery.routing_key.as_str().into()));
    let text = |value: &Option<lapin::types::ShortString>| value.as_ref().map(|value| Value::from(value.as_str()));
    tell(Property::MessageId.key(), text(properties.message_id()));
    tell(Property::CorrelationId.key(), text(properties.correlation_id()));
    tell(Property::Type.key(), text(properties.kind()));
    tell("reply_to", text(properties.reply_to()));
    tell("content_type", text(properties.content_type()));
    tell("priority", properties.priority().map(Value::from));
    // A text of milliseconds on the wire.
    let expires = properties.expiration().as_ref().and_then(|text| text.as_str().parse::<u64>().ok());
    tell("expires_ms", expires.map(Value::from));
    tell("redelivered", delivery.redelivered.then(|| true.into()));
    let headers: Map<String, Value> = properties.headers().iter().flat_map(|table| table.inner()).map(entry).collect();
    tell("headers", (!headers.is_empty()).then_some(Value::Object(headers)));
    all
}

fn entry((name, value): (&lapin::types::ShortString, &AMQPValue)) -> (String, Value) {
    (name.as_str().to_owned(), json(value))
}

/// Converts a header's value to JSON. Decimals and bytes become texts.
fn json(value: &AMQPValue) -> Value {
    match value {
        AMQPValue::Boolean(value) => (*value).into(),
        AMQPValue::ShortShortInt(value) => (*value).into(),
        AMQPValue::ShortShortUInt(value) => (*value).into(),
        AMQPValue::ShortInt(value) => (*value).into(),
        AMQPValue::ShortUInt(value) => (*value).into(),
        AMQPValue::LongInt(value) => (*value).into(),
        AMQPValue::LongUInt(value) => (*value).into(),
        AMQPValue::LongLongInt(value) => (*value).into(),
        AMQPValue::Float(value) => f64::from(*value).into(),
        AMQPValue::Double(value) => (*value).into(),
        AMQPValue::DecimalValue(value) => format!("{}e-{}", value.value, value.scale).into(),
        AMQPValue::ShortString(value) => value.as_str().into(),
        AMQPValue::LongString(value) => String::from_utf8_lossy(value.as_bytes()).into(),
        AMQPValue::FieldArray(values) => values.as_slice().iter().map(json).collect(),
        AMQPValue::Timestamp(seconds) => (*seconds).into(),
        AMQPValue::FieldTable(table) => Value::Object(table.inner().iter().map(entry).collect()),
        AMQPValue::ByteArray(bytes) => String::from_utf8_lossy(bytes.as_slice()).into(),
        AMQPValue::Void => Value::Null,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lapin::BasicProperties;
    use lapin::types::FieldTable;

    #[test]
    fn what_is_set_is_reported_and_nothing_else() {
        let mut delivery = Delivery::mock(1, "picks".into(), "picks.swift".into(), true, b"{}".to_vec());
        let mut headers = FieldTable::default();
        headers.insert("x-tries".into(), AMQPValue::LongInt(2));
        headers.insert("x-why".into(), AMQPValue::LongString("no stock".into()));
        let properties = BasicProperties::default().with_message_id("m1".into()).with_expiration("1500".into());
        delivery.properties = properties.with_headers(headers).with_priority(3);
        let expected = serde_json::json!({
            "exchange": "picks", "routing_key": "picks.swift", "message_id": "m1", "priority": 3, "expires_ms": 1500,
            "redelivered": true, "headers": { "x-tries": 2, "x-why": "no stock" },
        });
        assert_eq!(Value::Object(of(&delivery)), expected);
        let plain = Delivery::mock(1, "".into(), "orders".into(), false, Vec::new());
        assert_eq!(Value::Object(of(&plain)), serde_json::json!({ "routing_key": "orders" }));
    }
}
