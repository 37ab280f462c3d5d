//! Webhooks as their senders need them, and the events received.

use crate::hooks::PREFIX;
use crate::run::App;
use crate::view::some;
use crate::view::{HeardView, TurnedView, WebhookView, sure_time, time};
use std::collections::BTreeMap;
use std::net::IpAddr;
use wirewatch_core::Id;
use wirewatch_core::connection::Connection;
use wirewatch_core::flow::{Intake, Takes};
use wirewatch_core::place::Place;
use wirewatch_core::webhook::{Hash, Signature, SignatureForm, Webhook};
use wirewatch_core::workspace::Workspace;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::HeardRow;

pub fn view(app: &App, workspace: &Workspace, connection: &Connection, webhook: &Webhook, heard: &[HeardRow]) -> WebhookView {
    let door = app.doors.at(&connection.name);
    let address = |path: &String| format!("{}{PREFIX}{path}", app.public);
    let words = |place: &Option<Place>| place.as_ref().map(Place::words).unwrap_or_default();
    let secret = webhook.signature.as_ref().map(|signature| signature.secret.clone()).unwrap_or_default();
    WebhookView {
        address: address(&webhook.path),
        old_paths: webhook.old_paths.iter().map(address).collect(),
        local_only: is_local(&app.public),
        signed: webhook.signature.as_ref().map(signed).unwrap_or_default(),
        secret_is_set: !app.secrets.good(&secret, SystemClock.now()).is_empty(),
        secret: some(&secret),
        event_from: words(&webhook.event),
        delivery_from: words(&webhook.delivery),
        events: events(workspace, connection, heard),
        checked: door.checked.map(sure_time),
        turned_away: door.turned.map(|turned| TurnedView {
            calls: turned.calls,
            last: sure_time(turned.last),
            says: turned.says,
        }),
    }
}

fn signed(signature: &Signature) -> String {
    match &signature.form {
        SignatureForm::Standard => "as in Standard Webhooks".to_owned(),
        SignatureForm::Header { header, hash, time, .. } => {
            let hash = match hash {
                Hash::Sha256 => "SHA-256",
                Hash::Sha512 => "SHA-512",
            };
            let over = time.as_ref().map_or_else(|| "the body".to_owned(), |time| format!("{time} and the body"));
            format!("HMAC-{hash} over {over}, in the header {header}")
        }
    }
}

/// Returns the events that were received or that flows ask for, by name.
fn events(workspace: &Workspace, connection: &Connection, heard: &[HeardRow]) -> Vec<HeardView> {
    let here = |intake: &Intake| intake.from == connection.name && !matches!(intake.takes, Takes::X12(_));
    let flows = || workspace.intakes().filter(|(_, intake)| here(intake));
    let mut events: BTreeMap<&str, HeardView> = BTreeMap::new();
    let blank = |event: &str| HeardView {
        event: event.to_owned(),
        calls: 0,
        last: None,
        arrival: None,
        flows: flows().filter(|(_, intake)| intake.hears(event)).map(|(flow, _)| flow.name.clone()).collect(),
    };
    for event in flows().flat_map(|(_, intake)| &intake.events) {
        events.entry(event).or_insert_with(|| blank(event));
    }
    for row in heard.iter().filter(|row| row.connection == connection.name) {
        let event = events.entry(&row.event).or_insert_with(|| blank(&row.event));
        (event.calls, event.last, event.arrival) = (row.n, time(row.last), Some(Id(row.arrival).to_string()));
    }
    events.into_values().collect()
}

/// Returns whether an address can be reached from this machine only.
pub fn is_local(address: &str) -> bool {
    let host = address.split_once("://").map_or(address, |(_, rest)| rest);
    let host = host.split('/').next().unwrap_or_default();
    let host = host.rsplit_once(':').filter(|(_, port)| port.parse::<u16>().is_ok()).map_or(host, |(host, _)| host);
    host == "localhost" || host.trim_matches(['[', ']']).parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
}

#[cfg(test)]
mod tests {
    use super::is_local;

    #[test]
    fn an_address_of_this_machine_alone_is_known() {
        let local = ["http://127.0.0.1:7811", "http://localhost", "http://[::1]:80/x"];
        assert!(local.iter().all(|address| is_local(address)));
        assert!(!["https://edge.example", "http://10.0.0.1:7811"].iter().any(|address| is_local(address)));
    }
}
