//! The rows of the feed after a position.
//!
//! A client is first attached to what is committed from now on, then sent what it missed, then live events; a row seen both ways
//! is sent once. A position older than the feed (an hour), or a client that reads too slowly, gets a reset and loads afresh.

use crate::api::problem::Problem;
use crate::run::App;
use futures_util::stream::{self, Stream, StreamExt};
use std::collections::HashSet;
use std::fmt;
use std::sync::Arc;
use tokio::sync::broadcast::error::RecvError;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::FeedRow;

/// How far before its position a resuming client is sent events again: a row's time is taken before its commit.
const OVERLAP_US: i64 = 5_000_000;
/// Lifetime of a feed row.
const KEPT_US: i64 = 3_600_000_000;
/// Most rows sent to a resuming client; beyond, it gets a reset.
const MISSED: u32 = 5000;

/// An item for a client.
#[derive(Debug, Clone)]
pub enum FeedItem {
    /// The client is attached; it has missed nothing, since it never followed before.
    Ready,
    /// Too much was missed: load afresh.
    Reset,
    /// A row of the feed, from the event at `skip` on.
    Row { row: Arc<FeedRow>, skip: usize },
}

/// Position of a client in the feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Position {
    at: i64,
    writer: i16,
    group_no: i64,
    place: usize,
}

impl Position {
    /// Returns the position after one event of a row.
    pub fn of(row: &FeedRow, place: usize) -> Self {
        Self { at: row.at, writer: row.writer, group_no: row.group_no, place }
    }

    pub fn parse(text: &str) -> Option<Self> {
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

impl fmt::Display for Position {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}.{}.{}", self.at, self.writer, self.group_no, self.place)
    }
}

/// Follows from `position`, or from now on.
pub async fn follow(app: &App, position: Option<Position>) -> Result<impl Stream<Item = FeedItem> + use<>, Problem> {
    let live = app.journal.live();
    let (missed, mut seen) = match position {
        None => (vec![FeedItem::Ready], HashSet::new()),
        Some(position) => missed(app, &position).await?,
    };
    let live = stream::unfold(live, |mut live| async move {
        match live.recv().await {
            Ok(row) => Some((FeedItem::Row { row, skip: 0 }, live)),
            Err(RecvError::Lagged(_)) => Some((FeedItem::Reset, live)),
            Err(RecvError::Closed) => None,
        }
    });
    let fresh = live.filter(move |item| {
        let known = matches!(item, FeedItem::Row { row, .. } if seen.remove(&(row.writer, row.group_no)));
        std::future::ready(!known)
    });
    Ok(stream::iter(missed).chain(fresh))
}

/// Returns the events since `position`, and their rows.
async fn missed(app: &App, position: &Position) -> Result<(Vec<FeedItem>, HashSet<(i16, i64)>), Problem> {
    if SystemClock.now().0 - position.at > KEPT_US - OVERLAP_US {
        return Ok((vec![FeedItem::Reset], HashSet::new()));
    }
    let rows = app.store.feed(position.at - OVERLAP_US, MISSED).await?;
    let seen: HashSet<(i16, i64)> = rows.iter().map(|row| (row.writer, row.group_no)).collect();
    if rows.len() as u32 == MISSED {
        return Ok((vec![FeedItem::Reset], seen));
    }
    // Rows of the same writer before the position were sent; of the row itself, the places up to it.
    let fresh = rows.into_iter().filter(|row| row.at >= position.at || row.writer != position.writer);
    let items = fresh.map(|row| {
        let same = (row.writer, row.group_no) == (position.writer, position.group_no);
        FeedItem::Row { row: Arc::new(row), skip: if same { position.place + 1 } else { 0 } }
    });
    Ok((items.collect(), seen))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_position_reads_back_and_nonsense_does_not() {
        let position = Position { at: 5, writer: 2, group_no: -7, place: 3 };
        assert_eq!(Position::parse(&position.to_string()), Some(position));
        assert_eq!(
            [Position::parse("5.2"), Position::parse(""), Position::parse("5.2.7.3.1"), Position::parse("x.2.7.3")],
            [None, None, None, None]
        );
    }
}
