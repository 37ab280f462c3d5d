//! Figures for a range of time: of orders, beside those of the range before it, and of one flow.

use super::problem::Problem;
use super::{Answer, flows, status};
use crate::run::App;
use crate::view::words::FigureRange;
use crate::view::{FigureSlot, Figures, FlowFigures, FlowSlot, OrderCounts, ReleaseView, sure_time};
use axum::Json;
use axum::extract::{Path, Query, State};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Mutex;
use utoipa::IntoParams;
use wirewatch_core::Timestamp;
use wirewatch_core::flow::ACKNOWLEDGMENTS;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{FlowSpan, JournalError, OrderFigures};

/// Spans in a range.
const SLOTS: i64 = 30;

/// Figures of one key, with the time of their count; `None` while they were never counted.
type Cell<V> = Arc<Mutex<Option<(Instant, V)>>>;

/// Figures that were counted a moment ago: many consoles together count once.
#[derive(Debug)]
struct Recent<K, V>(std::sync::Mutex<BTreeMap<K, Cell<V>>>);

impl<K, V> Default for Recent<K, V> {
    fn default() -> Self {
        Self(std::sync::Mutex::new(BTreeMap::new()))
    }
}

impl<K: Ord, V: Clone> Recent<K, V> {
    /// Returns what was counted within `age`, or counts it now.
    async fn get(&self, key: K, age: Duration, count: impl Future<Output = Result<V, JournalError>>) -> Result<V, JournalError> {
        let cell = self.cell(key);
        // The lock stays until it is counted, so that requests for one key at the same time count once; other keys do not wait.
        let mut counted = cell.lock().await;
        if let Some((at, figures)) = &*counted
            && at.elapsed() < age
        {
            return Ok(figures.clone());
        }
        let figures = count.await?;
        *counted = Some((Instant::now(), figures.clone()));
        Ok(figures)
    }

    /// Returns the cell of a key. Figures that were not counted for a day are forgotten; those that are in use stay.
    fn cell(&self, key: K) -> Cell<V> {
        let old = |cell: &Cell<V>| match cell.try_lock() {
            Ok(counted) => counted.as_ref().is_none_or(|(at, _)| at.elapsed() > length(FigureRange::Day)),
            Err(_) => false,
        };
        let mut cells = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        cells.retain(|_, cell| Arc::strong_count(cell) > 1 || !old(cell));
        Arc::clone(cells.entry(key).or_default())
    }
}

/// Figures that were counted a moment ago, and releases that were compared.
#[derive(Debug, Default)]
pub struct Counted {
    orders: Recent<FigureRange, Figures>,
    flows: Recent<(String, FigureRange), FlowFigures>,
    releases: Recent<(i64, i64), Vec<ReleaseView>>,
}

impl Counted {
    /// Returns the newest releases with their changes, compared once for each pair of newest and current release.
    pub(super) async fn releases(
        &self,
        newest_and_current: (i64, i64),
        compare: impl Future<Output = Result<Vec<ReleaseView>, JournalError>>,
    ) -> Result<Vec<ReleaseView>, JournalError> {
        self.releases.get(newest_and_current, length(FigureRange::Hour), compare).await
    }
}

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
    let mut unsent = app.store.standing().await?;
    unsent.retain(|one| one.flow == ACKNOWLEDGMENTS);
    Ok(Json(Figures {
        failed: reasons.iter().map(|reason| reason.messages).sum(),
        failed_since: reasons.iter().map(|reason| reason.first).filter(|at| *at > 0).min().map(|at| sure_time(Timestamp(at))),
        arrivals_failed: status::arrivals_failed(&app).await?.len(),
        acknowledgments: unsent.iter().map(|one| one.messages).sum(),
        acknowledgments_since: unsent.iter().map(|one| one.oldest).min().map(|at| sure_time(Timestamp(at))),
        ..app.counted.orders.get(range, length(range) / 3600, count(&app, range)).await?
    }))
}

/// Messages of a flow that were done or failed in a range of time. They are counted at most once a second for the hour, and at most
/// once in 24 seconds for the day.
#[utoipa::path(get, path = "/api/flows/{flow}/figures", params(("flow" = String, Path), FiguresQuery),
    responses((status = 200, body = FlowFigures), (status = 404, body = Problem)))]
pub async fn flow_figures(
    State(app): State<Arc<App>>,
    Path(flow): Path<String>,
    Query(FiguresQuery { range }): Query<FiguresQuery>,
) -> Answer<FlowFigures> {
    flows::flow_of(&app.engine.releases().current().1, &flow)?;
    let key = (flow.clone(), range);
    Ok(Json(app.counted.flows.get(key, length(range) / 3600, count_flow(&app, &flow, range)).await?))
}

async fn count_flow(app: &App, flow: &str, range: FigureRange) -> Result<FlowFigures, JournalError> {
    let length = length(range);
    let slot = length / SLOTS as u32;
    let from = Timestamp(SystemClock.now().0 - length.as_micros() as i64);
    let spans = app.store.flow_figures(flow, from, slot).await?;
    let whole = app.store.flow_figures(flow, from, length * 2).await?.into_iter().next().unwrap_or_default();
    let slots = (0..SLOTS).map(|n| {
        let own = spans.iter().find(|one| one.slot == n).copied().unwrap_or_default();
        let at = sure_time(Timestamp(from.0 + n * slot.as_micros() as i64));
        FlowSlot { at, done: own.done, failed: own.failed, median_us: own.median_us, p95_us: own.p95_us }
    });
    let FlowSpan { done, failed, median_us, p95_us, .. } = whole;
    Ok(FlowFigures { range, from: sure_time(from), slots: slots.collect(), done, failed, median_us, p95_us })
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
        acknowledgments: 0,
        acknowledgments_since: None,
    })
}

fn counts(figures: OrderFigures) -> OrderCounts {
    let OrderFigures { orders, open, trouble, median_us, p95_us, .. } = figures;
    OrderCounts { orders, open, trouble, median_us, p95_us }
}
