//! The Quillhaven web shop: calls a webhook whenever something happens, signed as Standard Webhooks 1.0 say.

use crate::order_system::ITEMS;
use crate::{days_from_today, today};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use serde_json::{Value, json};
use sha2::Sha256;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// Makes up purchases and sends them. The same seed gives the same purchases on the same day.
#[derive(Debug)]
pub struct Shop {
    address: String,
    secret: String,
    random: fastrand::Rng,
    client: reqwest::Client,
    /// The last purchase number used.
    pub number: u32,
}

/// An event with its body: sent again, it is unchanged.
#[derive(Debug, Clone)]
pub struct ShopEvent {
    /// `webhook-id`.
    pub id: String,
    pub body: String,
}

impl Shop {
    /// Creates a shop that continues after this number. `secret` begins with `whsec_`.
    ///
    /// # Panics
    /// When no client can be created.
    #[must_use]
    pub fn new(address: &str, secret: &str, number: u32) -> Self {
        let client = wirewatch_loopback::http().timeout(Duration::from_secs(10)).build().expect("a client");
        let (address, secret) = (address.to_owned(), secret.to_owned());
        Self { address, secret, random: fastrand::Rng::with_seed(u64::from(number)), client, number }
    }

    /// Somebody buys something.
    pub fn purchase(&mut self) -> ShopEvent {
        self.number += 1;
        let number = format!("W-{}", self.number);
        let mut cents = 0;
        let basket: Vec<Value> = (1..=self.random.usize(1..=4))
            .map(|line| {
                let (article, name, each) = ITEMS[self.random.usize(0..ITEMS.len())];
                let count = self.random.u64(1..=3);
                let price: u64 = each.replace('.', "").parse().unwrap_or(0);
                cents += count * price;
                json!({ "line": line, "article": article, "name": name, "count": count, "each": amount(price) })
            })
            .collect();
        let (lane, days) = (self.random.u32(1..=99), self.random.i64(3..=30));
        let data = json!({
            "number": number,
            "currency": "USD",
            "wished_by": days_from_today(days).to_string(),
            "buyer": { "name": "Ida Thistle", "mail": "ida@thistle.example" },
            "parcel_to": { "name": "Ida Thistle", "street": format!("{lane} Heather Row"), "town": "Tansy Mills", "region": "HV", "postcode": "HV104" },
            "basket": basket,
            "total": amount(cents),
        });
        self.event("purchase.placed", &number, &data)
    }

    /// An article is in the shop now.
    pub fn listing(&mut self) -> ShopEvent {
        let (article, name, each) = ITEMS[self.random.usize(0..ITEMS.len())];
        let mark = self.random.u32(..);
        self.event("item.listed", &format!("{article}-{mark:08x}"), &json!({ "article": article, "name": name, "each": each }))
    }

    fn event(&self, event: &str, id: &str, data: &Value) -> ShopEvent {
        let body = json!({ "type": event, "timestamp": format!("{}T00:00:00Z", today()), "data": data });
        ShopEvent { id: format!("{event}:{id}"), body: body.to_string() }
    }

    /// Tells of it; the status of the answer.
    ///
    /// # Errors
    /// A sentence when nobody answers.
    pub async fn tell(&self, event: &ShopEvent) -> Result<u16, String> {
        self.tell_as(event, &self.secret).await
    }

    /// Sends it signed with another secret.
    ///
    /// # Errors
    /// A sentence when there is no answer.
    pub async fn tell_as(&self, event: &ShopEvent, secret: &str) -> Result<u16, String> {
        let seconds = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        let request = self
            .client
            .post(&self.address)
            .header("content-type", "application/json")
            .header("webhook-id", &event.id)
            .header("webhook-timestamp", seconds.to_string())
            .header("webhook-signature", sign(secret, &event.id, seconds, event.body.as_bytes()));
        let sent = request.body(event.body.clone()).send().await;
        sent.map(|response| response.status().as_u16()).map_err(|error| error.to_string())
    }
}

/// `webhook-signature` of a call.
#[must_use]
pub fn sign(secret: &str, id: &str, seconds: u64, body: &[u8]) -> String {
    let key = STANDARD.decode(secret.trim_start_matches("whsec_")).unwrap_or_default();
    let mut mac = <Hmac<Sha256> as KeyInit>::new_from_slice(&key).expect("an HMAC takes a key of any length");
    mac.update(format!("{id}.{seconds}.").as_bytes());
    mac.update(body);
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}

fn amount(cents: u64) -> serde_json::Number {
    format!("{}.{:02}", cents / 100, cents % 100).parse().expect("a number")
}
