//! Traffic of the demo. Marrowfield sends a burst of files at the start, then one every few seconds, and collects its
//! acknowledgments. The web shop sends a purchase every few seconds, now and then a duplicate, another event, or a forged call.

use serde::{Deserialize, Serialize};
use std::fs;
use std::path::PathBuf;
use std::time::Duration;
use wirewatch_standins::marrowfield::{Flaw, Marrowfield, collect, drop_file};
use wirewatch_standins::order_system::OrderSystem;
use wirewatch_standins::shop::Shop;
use wirewatch_standins::warehouse::{self, Bus};

const BURST: usize = 8;
/// Small numbers on purpose: a demo that ran for years would still count on.
const FIRST_ORDER: u32 = 20_500;
/// The samples have the numbers before, so that they can be fired into a running demo.
const FIRST_CONTROL: u32 = 200;

#[derive(Serialize, Deserialize)]
struct Numbers {
    control: u32,
    order: u32,
}

/// Runs until a fault, and returns it.
pub async fn run(state: PathBuf, every: Duration) -> String {
    let drop = state.join("files/marrowfield/to-us");
    let collected = state.join("files/marrowfield/collected");
    let book = state.join("marrowfield.json");
    let numbers = fs::read(&book).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
    let first = numbers.is_none();
    let Numbers { control, order } = numbers.unwrap_or(Numbers { control: FIRST_CONTROL, order: FIRST_ORDER });
    let mut marrowfield = Marrowfield::new(u64::from(control), control, order);
    let mut left = if first { BURST } else { 2 };
    // The burst has one file of each interesting kind.
    let mut shown = if first { vec![Flaw::WrongCount, Flaw::UnknownItem] } else { Vec::new() };
    let mut last: Option<(String, String)> = None;
    loop {
        let flaw = shown.pop().unwrap_or_else(|| marrowfield.chance());
        let sent = marrowfield.interchange(flaw);
        let name = format!("po-{:06}.edi", sent.control);
        // Numbers first: after a crash in between one is left out, which is better than used twice.
        let numbers = Numbers { control: marrowfield.control, order: marrowfield.order };
        let written = serde_json::to_vec(&numbers).map_err(std::io::Error::other).and_then(|bytes| fs::write(&book, bytes));
        let written = written.and_then(|()| drop_file(&drop, &name, sent.text.as_bytes()));
        if let Err(error) = written {
            return format!("Marrowfield cannot drop its files: {error}");
        }
        // Now and then the partner sends a file again, because it missed the acknowledgment.
        if marrowfield.control.is_multiple_of(17)
            && let Some((name, text)) = &last
        {
            let _ = drop_file(&drop, &format!("again-{name}"), text.as_bytes());
        }
        last = Some((name, sent.text));
        if let Err(error) = collect(&state.join("files/marrowfield/to-them"), &collected) {
            return format!("Marrowfield cannot collect its acknowledgments: {error}");
        }
        if left > 0 {
            left -= 1;
        } else {
            tokio::time::sleep(every).await;
        }
    }
}

const FIRST_PURCHASE: u32 = 4_000;

/// Sends purchases for ever; a refused one is sent again.
pub async fn shop(state: PathBuf, address: String, secret: String, every: Duration) {
    let book = state.join("shop.json");
    let number = fs::read(&book).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or(FIRST_PURCHASE);
    let mut shop = Shop::new(&address, &secret, number);
    loop {
        let event = shop.purchase();
        let _ = serde_json::to_vec(&shop.number).map(|bytes| fs::write(&book, bytes));
        while !matches!(shop.tell(&event).await, Ok(200..300)) {
            tokio::time::sleep(Duration::from_secs(2)).await;
        }
        if shop.number.is_multiple_of(9) {
            let _ = shop.tell(&event).await;
        }
        if shop.number.is_multiple_of(5) {
            let listed = shop.listing();
            let _ = shop.tell(&listed).await;
        }
        if shop.number.is_multiple_of(23) {
            let _ = shop.tell_as(&event, "whsec_Zm9yZ2VkLCBub3QgdGhlIHNob3A=").await;
        }
        tokio::time::sleep(every).await;
    }
}

/// Releases the shop's orders to the warehouse as they are booked.
pub async fn release(state: PathBuf, bus: Bus, orders: OrderSystem) {
    let book = state.join("released.json");
    let released = fs::read(&book).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or(0);
    // Reported after it is done: after a crash in between one is released twice, which the flow's intake recognises.
    let on_release = |released: usize| drop(serde_json::to_vec(&released).map(|bytes| fs::write(&book, bytes)));
    warehouse::release(bus, orders, released, on_release).await;
}
