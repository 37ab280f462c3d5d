//! Orders along their plans.

mod events;

use super::problem::Problem;
use super::{Answer, moment, page, rows};
use crate::run::App;
use crate::view::{Order, OrderQuery, OrderStory, Orders, time};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use std::sync::Arc;
use wirewatch_core::{Timestamp, key};
use wirewatch_journal::{MessageFilter, TimelineFilter, TimelineRow};

/// Messages of an order that are listed, and messages whose events are.
const LISTED: u32 = 100;

/// Orders, and messages of an order, that are counted, at most.
const COUNTED: u32 = 10_000;

/// Converts timelines to orders, with the failure of each.
async fn orders(app: &App, rows: Vec<TimelineRow>) -> Result<Vec<Order>, Problem> {
    let (_, workspace) = app.engine.releases().current();
    let keys: Vec<String> = rows.iter().map(|row| row.key.clone()).collect();
    let failures = app.store.failures_of(&keys).await?;
    let order = |row: TimelineRow| {
        let (says, since) = failures.get(&(row.key.clone(), row.partner.clone())).cloned().unwrap_or_default();
        let plan = workspace.plans.get(&row.plan);
        Order { says, failed_since: time(since), ..rows::order(row, plan) }
    };
    Ok(rows.into_iter().map(order).collect())
}

/// Orders, newest first.
#[utoipa::path(get, path = "/api/orders", operation_id = "orders", params(OrderQuery), responses((status = 200, body = Orders)))]
pub async fn list(State(app): State<Arc<App>>, Query(query): Query<OrderQuery>) -> Answer<Orders> {
    if !["", "open", "trouble", "done"].contains(&query.state.as_str()) {
        let says = format!("`{}` is not a state of an order; states are open, trouble and done", query.state);
        return Err(Problem::new(StatusCode::BAD_REQUEST, says));
    }
    let limit = page(query.limit)?;
    let before = match query.before.split_once(' ') {
        Some((begun, key)) => begun.parse().ok().map(|begun| (Timestamp(begun), key.to_owned())),
        None => None,
    };
    let filter = TimelineFilter {
        plan: query.plan,
        partner: query.partner,
        key: key::stored(query.key),
        state: query.state,
        since: moment(&query.since)?,
        until: moment(&query.until)?,
        before,
        limit,
    };
    let found = app.store.timelines(&filter).await?;
    let next = super::next_of(&found, limit, |row| format!("{} {}", row.begun, row.key));
    let total = app.store.timelines_count(&filter, COUNTED).await?;
    Ok(Json(Orders { orders: orders(&app, found).await?, total, next }))
}

/// One order by its key, with its messages.
#[utoipa::path(get, path = "/api/orders/{key}", operation_id = "order", params(("key" = String, Path)), responses((status = 200, body = OrderStory)))]
pub async fn one(State(app): State<Arc<App>>, Path(key): Path<String>) -> Answer<OrderStory> {
    let key = key::stored(key);
    let filter = TimelineFilter { key: key.clone(), limit: 20, ..TimelineFilter::default() };
    let found = app.store.timelines(&filter).await?;
    let newest = MessageFilter { key: key.clone(), limit: LISTED, ..MessageFilter::default() };
    let messages: Vec<_> = app.store.messages(&newest).await?.into_iter().map(rows::message).collect();
    if found.is_empty() && messages.is_empty() {
        return Err(Problem::not_found(format!("there is no order `{key}`"))
            .detail("The key is the order's own number, e.g. the purchase order number."));
    }
    let orders = orders(&app, found).await?;
    let oldest = MessageFilter { oldest_first: true, ..newest };
    let total = app.store.messages_count(&oldest, COUNTED).await?;
    let followed = app.store.messages(&oldest).await?;
    let events = events::of(&app, &orders, &followed).await?;
    Ok(Json(OrderStory { orders, messages, total, events }))
}
