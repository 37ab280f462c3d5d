//! Figures of orders for a range of time, beside those of the range before it.

use super::{Answer, status};
use crate::run::App;
use crate::view::words::FigureRange;
use crate::view::{FigureSlot, Figures, OrderCounts, sure_time};
use axum::Json;
use axum::extract::{Query, State};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Mutex;
use utoipa::IntoParams;
use wirewatch_core::Timestamp;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{JournalError, OrderFigures};

/// Spans in a range.
const SLOTS: i64 = 30;

/// Figures of orders that were counted a moment ago: many consoles together count once.
#[derive(Debug, Default)]
pub struct Counted(Mutex<BTreeMap<FigureRange, (Instant, Figures)>>);

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct FiguresQuery {
    /// The last 15 minutes, hour, or day; the hour when left out.
    #[serde(default = "hour")]
    pub range: FigureRange,
}

fn hour() -> FigureRange {
    FigureRange::Hour
}

fn length(range: FigureRange) -> Duration {
    Duration::from_secs(match range {
        FigureRange::Quarter => 15 * 60,
        FigureRange::Hour => 3600,
        FigureRange::Day => 24 * 3600,
    })
}

/// Orders that began in a range of time, how long they took, and the range before it. They are counted at most once a second for the
/// hour, and at most once in 24 seconds for the day; what needs attention is counted for each request.
#[utoipa::path(get, path = "/api/figures", params(FiguresQuery), responses((status = 200, body = Figures)))]
pub async fn figures(State(app): State<Arc<App>>, Query(FiguresQuery { range }): Query<FiguresQuery>) -> Answer<Figures> {
    let reasons = app.store.reasons("").await?;
    Ok(Json(Figures {
        failed: reasons.iter().map(|reason| reason.messages).sum(),
        failed_since: reasons.iter().map(|reason| reason.oldest).filter(|at| *at > 0).min().map(|at| sure_time(Timestamp(at))),
        arrivals_failed: status::arrivals_failed(&app).await?.len(),
        ..orders(&app, range).await?
    }))
}

/// Returns the figures of orders, counted now or a moment ago.
async fn orders(app: &App, range: FigureRange) -> Result<Figures, JournalError> {
    // The lock stays until the orders are counted, so that requests at the same time count once.
    let mut counted = app.counted.0.lock().await;
    if let Some((at, figures)) = counted.get(&range)
        && at.elapsed() < length(range) / 3600
    {
        return Ok(figures.clone());
    }
    let figures = count(app, range).await?;
    counted.insert(range, (Instant::now(), figures.clone()));
    Ok(figures)
}

async fn count(app: &App, range: FigureRange) -> Result<Figures, JournalError> {
    let (now, length) = (SystemClock.now(), length(range));
    let slot = length / SLOTS as u32;
    let from = Timestamp(now.0 - length.as_micros() as i64);
    let before = Timestamp(from.0 - length.as_micros() as i64);
    // The present range is span 1, the one before it span 0.
    let whole = app.store.order_figures(before, length).await?;
    let of = |slot: i64| whole.iter().find(|one| one.slot == slot).copied().unwrap_or_default();
    let spans = app.store.order_figures(from, slot).await?;
    let slots = (0..SLOTS).map(|n| {
        let own = spans.iter().find(|one| one.slot == n).copied().unwrap_or_default();
        FigureSlot {
            at: sure_time(Timestamp(from.0 + n * slot.as_micros() as i64)),
            orders: own.orders,
            median_us: own.median_us,
        }
    });
    Ok(Figures {
        range,
        from: sure_time(from),
        orders: counts(of(1)),
        before: counts(of(0)),
        slots: slots.collect(),
        failed: 0,
        failed_since: None,
        arrivals_failed: 0,
    })
}

fn counts(figures: OrderFigures) -> OrderCounts {
    let OrderFigures { orders, open, trouble, median_us, p95_us, .. } = figures;
    OrderCounts { orders, open, trouble, median_us, p95_us }
}
