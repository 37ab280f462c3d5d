//! Follows the live stream: server-sent events (WHATWG HTML, 9.2), resumed after every break.

use crate::api::Client;
use crate::error::CommandError;
use futures_util::StreamExt;
use std::time::Duration;
use wirewatch_service::view::LiveEvent;

/// An item of the stream.
#[derive(Debug)]
pub enum StreamItem {
    /// The stream is open: every event from here on follows.
    Ready,
    /// An event, with its data as received.
    Event(Box<LiveEvent>, String),
    /// More was missed than the service keeps.
    Reset,
    /// The connection broke and is being reopened.
    Broken,
}

/// Passes the items of the live stream to `tell` until it returns `false`. A broken connection is resumed where it was.
///
/// # Errors
/// When the service cannot be reached at first.
pub async fn follow(client: &Client, mut tell: impl FnMut(StreamItem) -> bool) -> Result<(), CommandError> {
    let mut last: Option<String> = None;
    let mut response = client.stream(None).await?;
    loop {
        let mut bytes = response.bytes_stream();
        let mut parser = Parser::default();
        while let Some(Ok(piece)) = bytes.next().await {
            for item in parser.feed(&piece) {
                if let Some(id) = item.id {
                    last = Some(id);
                }
                let item = match item.event.as_str() {
                    "ready" => StreamItem::Ready,
                    "reset" => StreamItem::Reset,
                    _ => match serde_json::from_str(&item.data) {
                        Ok(event) => StreamItem::Event(Box::new(event), item.data),
                        Err(_) => continue,
                    },
                };
                if !tell(item) {
                    return Ok(());
                }
            }
        }
        if !tell(StreamItem::Broken) {
            return Ok(());
        }
        response = loop {
            tokio::time::sleep(Duration::from_millis(300)).await;
            match client.stream(last.as_deref()).await {
                Ok(response) => break response,
                Err(CommandError::Unreachable(_)) => {}
                Err(other) => return Err(other),
            }
        };
    }
}

/// A parsed event.
#[derive(Debug, Default, PartialEq, Eq)]
struct Message {
    event: String,
    data: String,
    id: Option<String>,
}

/// Turns bytes into events.
#[derive(Debug, Default)]
struct Parser {
    held: Vec<u8>,
    open: Message,
}

impl Parser {
    fn feed(&mut self, bytes: &[u8]) -> Vec<Message> {
        self.held.extend_from_slice(bytes);
        let mut done = Vec::new();
        while let Some(end) = self.held.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = self.held.drain(..=end).collect();
            let line = String::from_utf8_lossy(&line);
            let line = line.trim_end_matches(['\n', '\r']);
            let (field, value) = line.split_once(':').unwrap_or((line, ""));
            let value = value.strip_prefix(' ').unwrap_or(value);
            match field {
                "" if line.is_empty() => {
                    if !self.open.data.is_empty() {
                        done.push(std::mem::take(&mut self.open));
                    }
                    self.open = Message::default();
                }
                "data" => self.open.data.push_str(value),
                "event" => value.clone_into(&mut self.open.event),
                "id" => self.open.id = Some(value.to_owned()),
                _ => {}
            }
        }
        done
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_come_out_however_the_bytes_are_cut() {
        let text = b": ping\n\nevent: ready\ndata: {}\n\nid: 5.1.2.0\ndata: {\"a\":1}\n\n";
        for size in 1..text.len() {
            let mut parser = Parser::default();
            let seen: Vec<Message> = text.chunks(size).flat_map(|piece| parser.feed(piece)).collect();
            let expected = [
                Message { event: "ready".into(), data: "{}".into(), id: None },
                Message { event: String::new(), data: "{\"a\":1}".into(), id: Some("5.1.2.0".into()) },
            ];
            assert_eq!(seen, expected, "pieces of {size}");
        }
    }
}
