//! Connection files: outside systems, and our own addresses that they call.

use super::Build;
use super::brokers::broker;
use super::fields::{Fields, File, Text};
use crate::connection::{Auth, AuthMethod, Connection, ConnectionKind, Http, RepeatRule, TokenRequest};
use crate::document::JSON_LIMIT;
use crate::nearest::nearest;
use crate::place::{Place, Property};
use crate::webhook::{self, Encoding, Hash, Signature, SignatureForm, Webhook};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Folder,
    Http,
    Webhook,
    Amqp,
    Incidents,
}

#[derive(Clone, Copy)]
enum As {
    Bearer,
    Basic,
    Header,
    Query,
    Plain,
    ClientCredentials,
}

impl<'a> Build<'a> {
    pub(super) fn connection(&mut self, name: &str, file: &File<'a>) {
        let mut found = None;
        self.toml(file, |fields| {
            found = connection(name, file, fields, &self.authorities);
            if let Some(webhook) = found.as_ref().and_then(Connection::webhook) {
                self.same_path(name, file, fields, webhook);
            }
        });
        if let Some(connection) = found {
            self.workspace.connections.insert(name.to_owned(), Arc::new(connection));
        }
    }

    /// A call must not be able to mean two connections.
    fn same_path(&self, name: &str, file: &File<'a>, fields: &Fields<'_>, webhook: &Webhook) {
        for other in self.workspace.connections.values().filter(|other| other.name != name) {
            let Some(theirs) = other.webhook() else { continue };
            if let Some(path) = webhook.paths().find(|path| theirs.paths().any(|known| known == *path)) {
                let says = format!("the connection {} has the path \"{path}\" already", other.name);
                file.error(fields.span.clone(), "connection::same-path", says, None);
            }
        }
    }
}

fn connection(name: &str, file: &File<'_>, fields: &Fields<'_>, authorities: &BTreeMap<String, String>) -> Option<Connection> {
    let title = fields.text("title").map_or_else(|| name.to_owned(), |text| text.value);
    if !fields.has("kind") {
        fields.missing("kind");
    }
    let kinds = [
        ("folder", Kind::Folder),
        ("http", Kind::Http),
        ("webhook", Kind::Webhook),
        ("amqp", Kind::Amqp),
        ("incidents", Kind::Incidents),
    ];
    let is = fields.word("kind", &kinds)?;
    let page = fields.text("page").map(|page| {
        if !page.value.starts_with("http://") && !page.value.starts_with("https://") {
            let help = "write http://… or https://…".to_owned();
            file.error(page.span, "connection::page", "the page is not a web address", Some(help));
        }
        page.value
    });
    let notes = fields.text("notes").map_or_else(String::new, |text| text.value.trim().to_owned());
    let kind = match is {
        Kind::Folder => {
            let path = fields.needed_text("path");
            let settle = fields.duration("settle").unwrap_or(Duration::from_secs(5));
            ConnectionKind::Folder { path: path?.value, settle }
        }
        Kind::Http => ConnectionKind::Http(Box::new(http(file, fields, authorities)?)),
        Kind::Webhook => ConnectionKind::Webhook(Box::new(webhook(file, fields)?)),
        Kind::Amqp => ConnectionKind::Amqp(Box::new(broker(file, fields)?)),
        Kind::Incidents => ConnectionKind::Incidents,
    };
    // Writing a file again changes nothing; a message at a broker carries our key as its id; for an HTTP server the file must
    // say.
    let by_nature = match is {
        Kind::Folder => RepeatRule::Safe,
        Kind::Amqp => RepeatRule::Key,
        Kind::Http | Kind::Webhook | Kind::Incidents => RepeatRule::Never,
    };
    // Messages are cheap for a broker; at 16 at a time it would idle between confirmations.
    let at_a_time = if is == Kind::Amqp { 1000 } else { 16 };
    // Nothing is sent to a webhook, nor to ourselves.
    let sends = !matches!(is, Kind::Webhook | Kind::Incidents);
    let rules = [("key", RepeatRule::Key), ("safe", RepeatRule::Safe), ("never", RepeatRule::Never)];
    let repeat = sends.then(|| fields.word("repeat", &rules)).flatten();
    let in_flight = sends.then(|| fields.whole("in_flight", 1..1001)).flatten().and_then(|most| u32::try_from(most).ok());
    let per_minute = sends.then(|| fields.whole("per_minute", 1..60_001)).flatten().and_then(|most| u32::try_from(most).ok());
    Some(Connection {
        name: name.to_owned(),
        title,
        kind,
        repeat: repeat.unwrap_or(by_nature),
        in_flight: in_flight.unwrap_or(at_a_time),
        per_minute,
        page,
        notes,
    })
}

/// A server that is called.
fn http(file: &File<'_>, fields: &Fields<'_>, authorities: &BTreeMap<String, String>) -> Option<Http> {
    let address = fields.needed_text("address");
    let timeout = fields.duration("timeout").unwrap_or(Duration::from_secs(10));
    if let Some(address) = &address {
        sound_address(file, address);
    }
    let auth = fields.table("auth").and_then(|table| {
        let span = table.span.clone();
        let found = auth(table)?;
        if matches!(found.with, AuthMethod::Plain { .. }) {
            file.error(span, "connection::auth", "\"plain\" is for brokers; over HTTP the same is \"basic\"", None);
        }
        Some(found)
    });
    let probe = fields.text("probe").map(|path| {
        if !path.value.starts_with('/') {
            let help = Some(format!("write \"/{}\"", path.value));
            file.error(path.span, "connection::path", "a path must begin with a slash", help);
        }
        path.value
    });
    let proxy = fields.text("proxy").map(|proxy| {
        sound_address(file, &proxy);
        proxy.value
    });
    let authority = fields.text("authority").and_then(|authority| {
        let known = authorities.get(&authority.value);
        if known.is_none() {
            let says = format!("there is no authorities/{}.pem", authority.value);
            let near = nearest(&authority.value, authorities.keys().map(String::as_str));
            file.error(authority.span, "name::unknown", says, near.map(|near| format!("did you mean \"{near}\"?")));
        }
        known.cloned()
    });
    let certificate = fields.text("certificate").map(|secret| secret.value);
    let address = address?;
    if (authority.is_some() || certificate.is_some()) && !address.value.starts_with("https://") {
        file.error(address.span, "connection::address", "certificates need https://", None);
    }
    let address = address.value.trim_end_matches('/').to_owned();
    Some(Http { address, timeout, auth, probe, authority, certificate, proxy })
}

fn sound_address(file: &File<'_>, address: &Text) {
    if let Some((says, help)) = address_fault(&address.value) {
        file.error(address.span.clone(), "connection::address", says, Some(help.to_owned()));
    }
}

pub(super) fn auth(table: Fields<'_>) -> Option<Auth> {
    let secret = table.needed_text("secret");
    let needed = |key| table.needed_text(key).map(|text| text.value);
    let forms = [
        ("bearer", As::Bearer),
        ("basic", As::Basic),
        ("header", As::Header),
        ("query", As::Query),
        ("client-credentials", As::ClientCredentials),
        ("plain", As::Plain),
    ];
    if !table.has("as") {
        table.missing("as");
    }
    let with = table.word("as", &forms).and_then(|form| match form {
        As::Bearer => Some(AuthMethod::Bearer),
        As::Basic => needed("user").map(|user| AuthMethod::Basic { user }),
        As::Header => needed("name").map(|name| AuthMethod::Header { name }),
        As::Query => needed("name").map(|name| AuthMethod::Query { name }),
        As::Plain => needed("user").map(|user| AuthMethod::Plain { user }),
        As::ClientCredentials => {
            let token_at = table.needed_text("token_at");
            if let Some(address) = &token_at {
                sound_address(table.file(), address);
            }
            let scope = table.text("scope").map_or_else(String::new, |text| text.value);
            let request = needed("client").zip(token_at.map(|text| text.value));
            let request = request.map(|(client, token_at)| TokenRequest { token_at, client, scope });
            request.map(|request| AuthMethod::ClientCredentials(Box::new(request)))
        }
    });
    table.done();
    Some(Auth { secret: secret?.value, with: with? })
}

fn webhook(file: &File<'_>, fields: &Fields<'_>) -> Option<Webhook> {
    let path = fields.needed_text("path");
    let old_paths = fields.texts("old_paths");
    path.iter().chain(&old_paths).for_each(|path| check_path(file, path));
    let signature = match fields.table("signature") {
        Some(table) => Some(signature(table)?),
        None => {
            if !fields.has("signature") {
                let says = "calls are not signed: anybody who knows the address can send them";
                let help = "have the sender sign them, and write signature = { secret = \"NAME\" }".to_owned();
                file.warning(fields.span.clone(), "connection::unsigned", says, Some(help));
            }
            None
        }
    };
    let standard = signature.as_ref().is_some_and(|signature| signature.form == SignatureForm::Standard);
    let by_standard = |place: Place| standard.then_some(place);
    let event = fields.table("event").map_or_else(|| by_standard(Place::Field("type".to_owned())), in_call);
    let delivery = fields.table("delivery").map_or_else(|| by_standard(Place::Header("webhook-id".to_owned())), in_call);
    let max_body = fields.whole("max_body", 1..JSON_LIMIT as i64 + 1).map_or(webhook::MAX_BODY, |bytes| bytes as u64);
    let per_second = fields.whole("per_second", 1..1_000_001).and_then(|most| u32::try_from(most).ok());
    let old_paths = old_paths.into_iter().map(|path| path.value).collect();
    Some(Webhook { path: path?.value, old_paths, signature, event, delivery, max_body, per_second })
}

fn check_path(file: &File<'_>, path: &Text) {
    let good = |c: char| c.is_ascii_alphanumeric() || "-_.~".contains(c);
    if path.value.is_empty() || !path.value.chars().all(good) {
        let help = "only letters, digits and - _ . ~".to_owned();
        file.error(path.span.clone(), "connection::path", "this cannot be the last part of an address", Some(help));
    }
}

/// Reads a place in a call, which has no properties.
fn in_call(table: Fields<'_>) -> Option<Place> {
    let (file, span) = (table.file(), table.span.clone());
    let found = place(table)?;
    if matches!(found, Place::Property(_)) {
        file.error(span, "connection::place", "a webhook call has headers and fields, but no properties", None);
    }
    Some(found)
}

pub(super) fn place(table: Fields<'_>) -> Option<Place> {
    let (header, field, property) = (table.text("header"), table.text("field"), table.word("property", &Property::ALL));
    let found = match (header, field, property) {
        (Some(header), None, None) => Some(Place::Header(header.value)),
        (None, Some(field), None) => Some(Place::Field(field.value)),
        (None, None, Some(property)) => Some(Place::Property(property)),
        _ => {
            let says = "write exactly one of header = \"…\", field = \"…\" or property = \"…\"";
            table.file().error(table.span.clone(), "connection::place", says, None);
            None
        }
    };
    table.done();
    found
}

fn signature(table: Fields<'_>) -> Option<Signature> {
    let secret = table.needed_text("secret");
    let tolerance = table.duration("tolerance").unwrap_or(webhook::TOLERANCE);
    let form = match table.text("header") {
        None => SignatureForm::Standard,
        Some(header) => SignatureForm::Header {
            header: header.value,
            hash: table.word("hash", &[("sha256", Hash::Sha256), ("sha512", Hash::Sha512)]).unwrap_or(Hash::Sha256),
            encoding: table.word("encoding", &[("hex", Encoding::Hex), ("base64", Encoding::Base64)]).unwrap_or(Encoding::Hex),
            prefix: table.text("prefix").map_or_else(String::new, |prefix| prefix.value),
            time: table.text("time").map(|time| time.value),
        },
    };
    table.done();
    Some(Signature { secret: secret?.value, form, tolerance })
}

/// Returns what is wrong with an HTTP address, and what to write instead.
fn address_fault(address: &str) -> Option<(String, &'static str)> {
    const FORM: &str = "write https://host:port, or http://host:port";
    let rest = match address.split_once("://") {
        Some(("http" | "https", rest)) => rest,
        Some((scheme, _)) => return Some((format!("the scheme {scheme} is not known"), FORM)),
        None => return Some(("the address has no scheme".to_owned(), FORM)),
    };
    if rest.contains("://") {
        return Some(("the address has two schemes".to_owned(), FORM));
    }
    let host = rest.split('/').next().unwrap_or_default();
    if host.is_empty() {
        return Some(("the address has no host".to_owned(), FORM));
    }
    host.contains('@').then(|| ("the address contains credentials".to_owned(), "remove them: addresses are shown and logged"))
}
