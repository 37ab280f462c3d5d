//! The warehouse of Quillhaven Bee Supply: takes picks from a queue, and tells by another what has left.
//!
//! The order system releases its orders to it over the same broker. A pick that it cannot make is rejected, so the
//! broker moves it to the dead letters.

use crate::order_system::OrderSystem;
use futures_util::StreamExt;
use lapin::message::Delivery;
use lapin::options::{BasicAckOptions, BasicConsumeOptions, BasicPublishOptions, BasicRejectOptions, ConfirmSelectOptions};
use lapin::types::FieldTable;
use lapin::uri::{AMQPUri, AMQPUserInfo};
use lapin::{BasicProperties, Channel, Connection, ConnectionProperties};
use serde_json::{Value, json};
use std::time::Duration;

/// The broker, as somebody at the other end of it reaches it.
#[derive(Debug, Clone)]
pub struct Bus {
    /// `amqp://host:port`.
    pub address: String,
    pub user: String,
    pub password: String,
    /// Stands before the names of all queues; empty in the demo.
    pub prefix: String,
}

/// Queues as the demo's workspace names them.
const RELEASED: &str = "orders-released";
const PICKS: &str = "picks-to-do";
const SHIPMENTS: &str = "shipments";

/// Orders of the web shop are packed here.
const ACCOUNT: &str = "web-shop";
/// It carries everything but these.
const NOT_STOCKED: &str = "QH-SMOKER-S";
/// So many pieces go with the large van.
const MANY: u64 = 6;
const CARRIERS: [&str; 3] = ["SWIFTFOOT", "HILLWAY", "NIGHTMAIL"];

impl Bus {
    async fn open(&self) -> Result<(Connection, Channel), lapin::Error> {
        let mut uri: AMQPUri = self.address.parse().map_err(std::io::Error::other)?;
        uri.authority.userinfo = AMQPUserInfo { username: self.user.clone(), password: self.password.clone() };
        let properties = ConnectionProperties::default().with_connection_name("Quillhaven warehouse".into());
        let connection = Connection::connect_uri(uri, properties).await?;
        let channel = connection.create_channel().await?;
        channel.confirm_select(ConfirmSelectOptions::default()).await?;
        Ok((connection, channel))
    }

    /// Puts a message into a queue; confirmed when this returns.
    async fn put(&self, channel: &Channel, queue: &str, id: &str, kind: &str, body: &Value) -> Result<(), lapin::Error> {
        let properties = BasicProperties::default().with_delivery_mode(2).with_content_type("application/json".into());
        let properties = properties.with_message_id(id.into()).with_type(kind.into());
        let options = BasicPublishOptions { mandatory: true, ..BasicPublishOptions::default() };
        let (queue, body) = (format!("{}{queue}", self.prefix), body.to_string());
        let confirmed =
            channel.basic_publish("".into(), queue.as_str().into(), options, body.as_bytes(), properties).await?.await?;
        match confirmed.take_message() {
            None => Ok(()),
            Some(_) => Err(std::io::Error::other(format!("there is no queue {queue} yet")).into()),
        }
    }
}

/// Releases the shop's orders to the warehouse as they are booked, those behind the first `released` of them; `told`
/// is called with how many are released. Goes on over whatever happens to the broker.
pub async fn release(bus: Bus, orders: OrderSystem, mut released: usize, told: impl Fn(usize)) {
    loop {
        if let Ok((_connection, channel)) = bus.open().await {
            while release_new(&bus, &channel, &orders, &mut released, &told).await.is_ok() {
                tokio::time::sleep(Duration::from_millis(500)).await;
            }
        }
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
}

async fn release_new(
    bus: &Bus,
    channel: &Channel,
    orders: &OrderSystem,
    released: &mut usize,
    told: &impl Fn(usize),
) -> Result<(), lapin::Error> {
    for (number, order) in orders.orders_of(ACCOUNT, *released) {
        bus.put(channel, RELEASED, &number, "order.released", &release_of(*released, &number, &order)).await?;
        *released += 1;
        told(*released);
    }
    Ok(())
}

/// What the warehouse is told of an order.
fn release_of(nth: usize, number: &str, order: &Value) -> Value {
    let rows = order["rows"].as_array().into_iter().flatten();
    let lines: Vec<Value> =
        rows.map(|row| json!({ "item": row["item"], "text": row["text"], "quantity": row["quantity"] })).collect();
    json!({
        "order": number,
        "reference": order["reference"],
        "ship_on": order["deliver_on"],
        "carrier": CARRIERS[nth % CARRIERS.len()],
        "deliver_to": order["deliver_to"],
        "lines": lines,
    })
}

/// Packs what is to be picked, each pick in this time, and tells what has left. Goes on over whatever happens to the broker.
pub async fn pack(bus: Bus, each: Duration) {
    loop {
        if let Ok((_connection, channel)) = bus.open().await {
            let _ = pack_on(&bus, &channel, each).await;
        }
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
}

async fn pack_on(bus: &Bus, channel: &Channel, each: Duration) -> Result<(), lapin::Error> {
    let queue = format!("{}{PICKS}", bus.prefix);
    let mut picks = channel
        .basic_consume(queue.as_str().into(), "packing table".into(), BasicConsumeOptions::default(), FieldTable::default())
        .await?;
    while let Some(delivery) = picks.next().await {
        let delivery = delivery?;
        tokio::time::sleep(each).await;
        match shipment_of(&delivery) {
            Some(shipment) => {
                if let Some(moved) = moved_date(&delivery) {
                    let id = format!("M-{}", moved["order"].as_str().unwrap_or_default());
                    bus.put(channel, SHIPMENTS, &id, "shipment.moved", &moved).await?;
                }
                let id = format!("S-{}", shipment["order"].as_str().unwrap_or_default());
                bus.put(channel, SHIPMENTS, &id, "shipment.left", &shipment).await?;
                delivery.acker.ack(BasicAckOptions::default()).await?;
            }
            None => drop(delivery.acker.reject(BasicRejectOptions { requeue: false }).await?),
        }
    }
    Ok(())
}

/// What it tells of a pick that cannot leave on its day: whoever wants many pieces waits two days for the large van.
fn moved_date(delivery: &Delivery) -> Option<Value> {
    let pick: Value = serde_json::from_slice(&delivery.data).ok()?;
    let pieces: u64 = pick["lines"].as_array()?.iter().filter_map(|line| line["pieces"].as_u64()).sum();
    let was: jiff::civil::Date = pick["ship_on"].as_str()?.parse().ok()?;
    let ship_on = was.checked_add(jiff::Span::new().days(2)).ok()?;
    (pieces >= MANY).then(|| {
        json!({
            "order": pick["order"],
            "reference": pick["reference"],
            "was": was.to_string(),
            "ship_on": ship_on.to_string(),
            "because": "the large van comes in two days",
        })
    })
}

/// What it tells of a pick once it has left; nothing where it cannot pick.
fn shipment_of(delivery: &Delivery) -> Option<Value> {
    let pick: Value = serde_json::from_slice(&delivery.data).ok()?;
    let lines = pick["lines"].as_array()?;
    if lines.iter().any(|line| line["item"] == NOT_STOCKED) {
        return None;
    }
    let pieces: u64 = lines.iter().filter_map(|line| line["pieces"].as_u64()).sum();
    Some(json!({
        "order": pick["order"],
        "reference": pick["reference"],
        "carrier": pick["carrier"],
        "parcels": pieces.div_ceil(4).max(1),
        "tracking": format!("{}-{}", pick["carrier"].as_str()?.chars().take(2).collect::<String>(), pick["order"].as_str()?),
    }))
}
