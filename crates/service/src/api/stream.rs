//! Live streams of server-sent events that resume where a client was.
//!
//! Both follow the rows of the feed (`follow`). `/api/stream` sends every event; an event's id is `time.writer.group.place`.
//! `/api/pulse` is for drawing: what happened within 200 ms in one event, each message once with its newest state; its id is that
//! of the last event in it.

mod follow;
mod pulse;

use super::problem::Problem;
use crate::access::Session;
use crate::run::App;
use crate::view::{LiveEvent, Pulse};
use axum::Extension;
use axum::extract::{Query, State};
use axum::http::HeaderMap;
use axum::response::sse::{Event as Sse, KeepAlive};
use follow::{FeedItem, Position, follow};
use futures_util::stream::{self, Stream, StreamExt};
use serde::Deserialize;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;
use utoipa::IntoParams;

/// Every event as it happens. `Last-Event-ID` resumes; `event: reset` says that too much was missed.
#[utoipa::path(get, path = "/api/stream", responses((status = 200, content_type = "text/event-stream", body = LiveEvent)))]
pub async fn stream(
    State(app): State<Arc<App>>,
    Extension(session): Extension<Session>,
    headers: HeaderMap,
) -> Result<axum::response::Sse<impl Stream<Item = Result<Sse, Infallible>>>, Problem> {
    let items = follow(&app, position(&headers)).await?.take_until(signed_out(&app, session));
    let events = items.flat_map(|item| {
        let events = match item {
            FeedItem::Ready => vec![named("ready")],
            FeedItem::Reset => vec![named("reset")],
            FeedItem::Row { row, skip } => {
                let event = |place: usize| {
                    let data = serde_json::to_string(&LiveEvent::from(&row.events[place])).unwrap_or_default();
                    Sse::default().id(Position::of(&row, place).to_string()).data(data)
                };
                (skip..row.events.len()).map(event).collect()
            }
        };
        stream::iter(events).map(Ok)
    });
    Ok(axum::response::Sse::new(events).keep_alive(KeepAlive::new().interval(Duration::from_secs(15))))
}

/// Position of a client that draws.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PulseQuery {
    /// Id of the last event it received: browsers send no `Last-Event-ID` with a stream that they open themselves.
    #[serde(default)]
    pub after: String,
}

/// Summaries of events for drawing, at most five a second and at least one every few seconds. Resumes as `/api/stream` does.
#[utoipa::path(get, path = "/api/pulse", params(PulseQuery), responses((status = 200, content_type = "text/event-stream", body = Pulse)))]
pub async fn pulse(
    State(app): State<Arc<App>>,
    Extension(session): Extension<Session>,
    Query(PulseQuery { after }): Query<PulseQuery>,
    headers: HeaderMap,
) -> Result<axum::response::Sse<impl Stream<Item = Result<Sse, Infallible>>>, Problem> {
    let items = follow(&app, Position::parse(&after).or_else(|| position(&headers))).await?;
    let items = items.take_until(signed_out(&app, session));
    let pulses = pulse::pulses(items).map(|beat| {
        Ok(match beat {
            pulse::Beat::Ready => named("ready"),
            pulse::Beat::Reset => named("reset"),
            pulse::Beat::Pulse(pulse, position) => {
                let event = Sse::default().data(serde_json::to_string(&pulse).unwrap_or_default());
                position.map_or(event.clone(), |position| event.id(position.to_string()))
            }
        })
    });
    Ok(axum::response::Sse::new(pulses))
}

/// Resolves when the client's session ends: the stream ends then.
fn signed_out(app: &Arc<App>, session: Session) -> impl Future<Output = ()> + use<> {
    let app = app.clone();
    async move { app.sessions.ended(session).await }
}

fn position(headers: &HeaderMap) -> Option<Position> {
    headers.get("last-event-id").and_then(|value| value.to_str().ok()).and_then(Position::parse)
}

fn named(name: &str) -> Sse {
    Sse::default().event(name).data("{}")
}
