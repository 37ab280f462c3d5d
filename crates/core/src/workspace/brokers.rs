//! The part of a connection file that is about a broker: its address, queues and exchanges.

use super::connections::{auth, place};
use super::fields::{Fields, File, Text};
use crate::broker::{Binding, Broker, Exchange, ExchangeKind, PREFETCH, Queue, SHORT};
use crate::connection::AuthMethod;
use std::time::Duration;

/// Values of `auth` at a broker.
const PLAIN: &str = "plain";

pub(super) fn broker(file: &File<'_>, fields: &Fields<'_>) -> Option<Broker> {
    let address = fields.needed_text("address");
    if let Some(address) = &address
        && let Some((says, help)) = address_fault(&address.value)
    {
        file.error(address.span.clone(), "connection::address", says, Some(help.to_owned()));
    }
    let timeout = fields.duration("timeout").unwrap_or(Duration::from_secs(10));
    let auth = fields.table("auth").and_then(|table| {
        let span = table.span.clone();
        let found = auth(table)?;
        if !matches!(found.with, AuthMethod::Plain { .. }) {
            let says = format!("a broker needs auth = {{ as = \"{PLAIN}\", … }}");
            file.error(span, "connection::auth", says, None);
        }
        Some(found)
    });
    let exchanges: Vec<Exchange> = fields.tables("exchange").into_iter().filter_map(exchange).collect();
    let queues: Vec<Queue> = fields.tables("queue").into_iter().filter_map(queue).collect();
    for (at, queue) in queues.iter().enumerate() {
        if queues[..at].iter().any(|other| other.name == queue.name) {
            let says = format!("two queues are named \"{}\"", queue.name);
            file.error(fields.span.clone(), "connection::same-queue", says, None);
        }
    }
    let address = address?.value.trim_end_matches('/').to_owned();
    Some(Broker { address, timeout, auth, queues, exchanges })
}

fn exchange(table: Fields<'_>) -> Option<Exchange> {
    let name = short(&table, table.needed_text("name"));
    let declare = table.flag("declare").unwrap_or(false);
    let kind = table.word("kind", &ExchangeKind::ALL).unwrap_or(ExchangeKind::Topic);
    table.done();
    Some(Exchange { name: name?, declare, kind })
}

fn queue(table: Fields<'_>) -> Option<Queue> {
    let name = short(&table, table.needed_text("name"));
    let declare = table.flag("declare").unwrap_or(false);
    let replicated = table.flag("replicated").unwrap_or(true);
    let bind = table.tables("bind").into_iter().filter_map(binding).collect();
    let dead_letters = short(&table, table.text("dead_letters"));
    let prefetch = table.whole("prefetch", 1..65_536).and_then(|most| u16::try_from(most).ok()).unwrap_or(PREFETCH);
    let event = table.table("event").and_then(place);
    let delivery = table.table("delivery").and_then(place);
    table.done();
    Some(Queue { name: name?, declare, replicated, bind, dead_letters, prefetch, event, delivery })
}

fn binding(table: Fields<'_>) -> Option<Binding> {
    let exchange = short(&table, table.needed_text("exchange"));
    let key = short(&table, table.text("routing_key")).unwrap_or_default();
    table.done();
    Some(Binding { exchange: exchange?, key })
}

/// Reads a name or key within the broker's limits.
fn short(table: &Fields<'_>, text: Option<Text>) -> Option<String> {
    let text = text?;
    if text.value.is_empty() || text.value.len() > SHORT {
        let says = format!("a name at a broker has 1 to {SHORT} bytes");
        table.file().error(text.span, "connection::name", says, None);
        return None;
    }
    Some(text.value)
}

/// Returns what is wrong with a broker's address, and what to write instead.
fn address_fault(address: &str) -> Option<(String, &'static str)> {
    const FORM: &str = "write amqp://host:port/vhost";
    let rest = match address.split_once("://") {
        Some(("amqp" | "amqps", rest)) => rest,
        Some((scheme, _)) => return Some((format!("the scheme {scheme} is not one of a broker"), FORM)),
        None => return Some(("the address has no scheme".to_owned(), FORM)),
    };
    if rest.contains("://") {
        return Some(("the address has two schemes".to_owned(), FORM));
    }
    let (host, vhost) = rest.split_once('/').unwrap_or((rest, ""));
    if host.contains('@') {
        return Some((
            "the address contains credentials".to_owned(),
            "remove them, because addresses are shown and logged; write auth = { as = \"plain\", user = \"…\", secret = \"…\" }",
        ));
    }
    if host.is_empty() || host.starts_with(':') {
        return Some(("the address has no host".to_owned(), FORM));
    }
    let help = "a virtual host is one word after the slash; a slash inside it is written %2f";
    vhost.trim_end_matches('/').contains('/').then(|| ("there is more than one slash after the host".to_owned(), help))
}
