//! The live streams: server-sent events that resume where a follower was.
//!
//! Both follow the rows of the feed (`follow`). `/api/stream` tells every event; an event's id is
//! `time.writer.group.place`. `/api/pulse` is for drawing: what happened in a fifth of a second at once, each message as
//! it stands now; its id is that of the last event in it.

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
use follow::{Position, Told, follow};
use futures_util::stream::{self, Stream, StreamExt};
use serde::Deserialize;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;
use utoipa::IntoParams;

/// Everything that happens, as it happens. `Last-Event-ID` resumes; `event: reset` says that too much was missed.
#[utoipa::path(get, path = "/api/stream", responses((status = 200, content_type = "text/event-stream", body = LiveEvent)))]
pub async fn stream(
    State(app): State<Arc<App>>,
    Extension(session): Extension<Session>,
    headers: HeaderMap,
) -> Result<axum::response::Sse<impl Stream<Item = Result<Sse, Infallible>>>, Problem> {
    let told = follow(&app, position(&headers)).await?.take_until(signed_out(&app, session));
    let events = told.flat_map(|told| {
        let events = match told {
            Told::Ready => vec![named("ready")],
            Told::Reset => vec![named("reset")],
            Told::Row { row, skip } => {
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

/// Where a follower that draws was.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PulseQuery {
    /// The id of the last event it saw: browsers send no `Last-Event-ID` with a stream they open anew.
    #[serde(default)]
    pub after: String,
}

/// What happens, five times a second at most and every few seconds at least, for drawing. Resumes as `/api/stream` does.
#[utoipa::path(get, path = "/api/pulse", params(PulseQuery), responses((status = 200, content_type = "text/event-stream", body = Pulse)))]
pub async fn pulse(
    State(app): State<Arc<App>>,
    Extension(session): Extension<Session>,
    Query(PulseQuery { after }): Query<PulseQuery>,
    headers: HeaderMap,
) -> Result<axum::response::Sse<impl Stream<Item = Result<Sse, Infallible>>>, Problem> {
    let told = follow(&app, Position::parse(&after).or_else(|| position(&headers))).await?;
    let told = told.take_until(signed_out(&app, session));
    let pulses = pulse::pulses(told).map(|beat| {
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

/// Returns when the follower's session is over: nothing is told to it then.
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
