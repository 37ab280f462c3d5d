//! The live stream: server-sent events that resume where a follower was.
//!
//! A follower is first attached to what is committed from now on, then told what it missed, then goes on live; what
//! comes both ways is told once. An event's id is `time.writer.group.place`. Older than the feed is kept (an hour), or
//! faster than the follower reads: `event: reset`, and it loads afresh.

use super::problem::Problem;
use crate::run::App;
use crate::view::LiveEvent;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event as Sse, KeepAlive};
use futures_util::stream::{self, Stream, StreamExt};
use std::collections::HashSet;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::broadcast::error::RecvError;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::FeedRow;

/// How far before its position a resuming follower is told again: a row's time is taken before its commit.
const OVERLAP_US: i64 = 5_000_000;
/// Feed rows are kept this long.
const KEPT_US: i64 = 3_600_000_000;
/// Rows told to a resuming follower at most; more are told as a reset.
const MISSED: u32 = 5000;

/// Everything that happens, as it happens. `Last-Event-ID` resumes.
#[utoipa::path(get, path = "/api/stream", responses((status = 200, content_type = "text/event-stream", body = LiveEvent)))]
pub async fn stream(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
) -> Result<axum::response::Sse<impl Stream<Item = Result<Sse, Infallible>>>, Problem> {
    let live = app.journal.live();
    let position = headers.get("last-event-id").and_then(|value| value.to_str().ok()).and_then(Position::parse);
    let (missed, mut seen) = match position {
        None => (vec![Sse::default().event("ready").data("{}")], HashSet::new()),
        Some(position) => missed(&app, &position).await?,
    };
    let live = stream::unfold(live, |mut live| async move {
        match live.recv().await {
            Ok(row) => Some((Ok(row), live)),
            Err(RecvError::Lagged(_)) => Some((Err(()), live)),
            Err(RecvError::Closed) => None,
        }
    });
    let live = live.flat_map(move |next| {
        let told: Vec<Sse> = match next {
            Ok(row) if seen.remove(&(row.writer, row.group_no)) => Vec::new(),
            Ok(row) => events(&row),
            Err(()) => vec![reset()],
        };
        stream::iter(told)
    });
    let all = stream::iter(missed).chain(live).map(Ok);
    Ok(axum::response::Sse::new(all).keep_alive(KeepAlive::new().interval(Duration::from_secs(15))))
}

/// Where a follower was.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Position {
    at: i64,
    writer: i16,
    group_no: i64,
    place: usize,
}

impl Position {
    fn parse(text: &str) -> Option<Self> {
        let mut parts = text.split('.');
        let position = Self {
            at: parts.next()?.parse().ok()?,
            writer: parts.next()?.parse().ok()?,
            group_no: parts.next()?.parse().ok()?,
            place: parts.next()?.parse().ok()?,
        };
        parts.next().is_none().then_some(position)
    }
}

/// What happened since `position`, and the rows told by it.
async fn missed(app: &App, position: &Position) -> Result<(Vec<Sse>, HashSet<(i16, i64)>), Problem> {
    if SystemClock.now().0 - position.at > KEPT_US - OVERLAP_US {
        return Ok((vec![reset()], HashSet::new()));
    }
    let rows = app.store.feed(position.at - OVERLAP_US, MISSED).await?;
    let seen: HashSet<(i16, i64)> = rows.iter().map(|row| (row.writer, row.group_no)).collect();
    if rows.len() as u32 == MISSED {
        return Ok((vec![reset()], seen));
    }
    // Rows of the same writer before the position were told; of the row itself, the places up to it.
    let fresh = rows.iter().filter(|row| row.at >= position.at || row.writer != position.writer);
    let told = fresh.flat_map(|row| {
        let skip = if (row.writer, row.group_no) == (position.writer, position.group_no) { position.place + 1 } else { 0 };
        events(row).into_iter().skip(skip)
    });
    Ok((told.collect(), seen))
}

fn reset() -> Sse {
    Sse::default().event("reset").data("{}")
}

fn events(row: &FeedRow) -> Vec<Sse> {
    let event = |(place, event)| {
        let data = serde_json::to_string(&LiveEvent::from(event)).unwrap_or_default();
        Sse::default().id(format!("{}.{}.{}.{place}", row.at, row.writer, row.group_no)).data(data)
    };
    row.events.iter().enumerate().map(event).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_position_reads_back_and_nonsense_does_not() {
        let position = Position { at: 5, writer: 2, group_no: -7, place: 3 };
        assert_eq!(Position::parse("5.2.-7.3"), Some(position));
        assert_eq!(
            [Position::parse("5.2"), Position::parse(""), Position::parse("5.2.7.3.1"), Position::parse("x.2.7.3")],
            [None, None, None, None]
        );
    }
}
