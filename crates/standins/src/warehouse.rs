//! The warehouse of Quillhaven Bee Supply: takes picks from a queue, and reports shipments by another.
//!
//! The order system releases its orders to it over the same broker. A pick that it cannot make is rejected, so the broker moves
//! it to the dead letters.

use crate::order_system::OrderSystem;
use futures_util::StreamExt;
use lapin::message::Delivery;
use lapin::options::{BasicAckOptions, BasicConsumeOptions, BasicPublishOptions, BasicRejectOptions, ConfirmSelectOptions};
use lapin::types::FieldTable;
use lapin::uri::{AMQPUri, AMQPUserInfo};
use lapin::{BasicProperties, Channel, Connection, ConnectionProperties};
use serde::Deserialize;
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
/// Stocks everything but these.
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
    async fn put(&self, channel: &Channel, queue: &str, id: &str, kind: &str, body: String) -> Result<(), lapin::Error> {
        let media = if body.starts_with('{') { "application/json" } else { "text/plain" };
        let properties = BasicProperties::default().with_delivery_mode(2).with_content_type(media.into());
        let properties = properties.with_message_id(id.into()).with_type(kind.into());
        let options = BasicPublishOptions { mandatory: true, ..BasicPublishOptions::default() };
        let queue = format!("{}{queue}", self.prefix);
        let confirmed =
            channel.basic_publish("".into(), queue.as_str().into(), options, body.as_bytes(), properties).await?.await?;
        match confirmed.take_message() {
            None => Ok(()),
            Some(_) => Err(std::io::Error::other(format!("there is no queue {queue} yet")).into()),
        }
    }
}

/// Releases the shop's orders to the warehouse as they are booked, after the first `released` of them; `on_release` receives the number
/// released. Survives outages of the broker.
pub async fn release(bus: Bus, orders: OrderSystem, mut released: usize, on_release: impl Fn(usize)) {
    loop {
        if let Ok((_connection, channel)) = bus.open().await {
            while release_new(&bus, &channel, &orders, &mut released, &on_release).await.is_ok() {
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
    on_release: &impl Fn(usize),
) -> Result<(), lapin::Error> {
    for (number, order) in orders.orders_of(ACCOUNT, *released) {
        bus.put(channel, RELEASED, &number, "order.released", release_of(*released, &number, &order).to_string()).await?;
        *released += 1;
        on_release(*released);
    }
    Ok(())
}

/// Builds the release of an order for the warehouse.
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

/// Packs picks, each in this time, and reports their shipments. Survives outages of the broker.
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
        match Pick::read(&delivery).filter(Pick::is_stocked) {
            Some(pick) => {
                if let Some(moved) = pick.moved_date() {
                    bus.put(channel, SHIPMENTS, &format!("M-{}", pick.order), "shipment.moved", moved.to_string()).await?;
                }
                bus.put(channel, SHIPMENTS, &format!("S-{}", pick.order), "shipment.left", pick.shipment()).await?;
                delivery.acker.ack(BasicAckOptions::default()).await?;
            }
            None => drop(delivery.acker.reject(BasicRejectOptions { requeue: false }).await?),
        }
    }
    Ok(())
}

/// A pick as it reads one, XML without regard to namespaces.
#[derive(Debug, Deserialize)]
struct Pick {
    #[serde(rename = "@Order")]
    order: String,
    #[serde(rename = "Reference")]
    reference: String,
    #[serde(rename = "Carrier")]
    carrier: String,
    #[serde(rename = "ShipOn")]
    ship_on: String,
    #[serde(rename = "Lines")]
    lines: Lines,
}

#[derive(Debug, Deserialize)]
struct Lines {
    #[serde(rename = "Line", default)]
    all: Vec<PickLine>,
}

#[derive(Debug, Deserialize)]
struct PickLine {
    #[serde(rename = "@Item")]
    item: String,
    #[serde(rename = "@Pieces")]
    pieces: u64,
}

/// Pieces that go into one parcel.
const IN_A_PARCEL: u64 = 4;

impl Pick {
    fn read(delivery: &Delivery) -> Option<Self> {
        quick_xml::de::from_str(std::str::from_utf8(&delivery.data).ok()?).ok()
    }

    fn is_stocked(&self) -> bool {
        self.lines.all.iter().all(|line| line.item != NOT_STOCKED)
    }

    /// Builds the notice of a pick that cannot leave on its day: large orders wait two days for the large van.
    fn moved_date(&self) -> Option<Value> {
        let pieces: u64 = self.lines.all.iter().map(|line| line.pieces).sum();
        let was: jiff::civil::Date = self.ship_on.parse().ok()?;
        let ship_on = was.checked_add(jiff::Span::new().days(2)).ok()?;
        (pieces >= MANY).then(|| {
            json!({
                "order": self.order,
                "reference": self.reference,
                "was": was.to_string(),
                "ship_on": ship_on.to_string(),
                "because": "the large van comes in two days",
            })
        })
    }

    /// Builds the shipment of a pick in records: one `SHP`, a `PCL` for each parcel, a `LIN` for each item in it.
    fn shipment(&self) -> String {
        let day = self.ship_on.replace('-', "");
        let mut text = format!("SHP{:<10}{:<22}{day:<8}{}\n", self.order, self.reference, self.carrier);
        let mut waiting: Vec<(&str, u64)> = self.lines.all.iter().map(|line| (line.item.as_str(), line.pieces)).collect();
        let mut parcel = 0;
        while !waiting.is_empty() {
            parcel += 1;
            let (mut room, mut inside) = (IN_A_PARCEL, Vec::new());
            while let Some((item, pieces)) = waiting.first_mut().filter(|_| room > 0) {
                let packed = room.min(*pieces);
                inside.push((*item, packed));
                (*pieces, room) = (*pieces - packed, room - packed);
                if *pieces == 0 {
                    waiting.remove(0);
                }
            }
            let packed: u64 = inside.iter().map(|(_, pieces)| pieces).sum();
            let carrier: String = self.carrier.chars().take(2).collect();
            text += &format!("PCL{:<20}{:07}\n", format!("{carrier}-{}-{parcel}", self.order), packed * 1250);
            inside.iter().for_each(|(item, pieces)| text += &format!("LIN{item:<12}{pieces:05}\n"));
        }
        text
    }
}
