//! Orders along their plans.

use super::problem::Problem;
use super::{Answer, page, rows};
use crate::run::App;
use crate::view::{Order, OrderQuery, OrderStory, Orders};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use std::sync::Arc;
use wirewatch_core::{Timestamp, key};
use wirewatch_journal::{MessageFilter, TimelineFilter, TimelineRow};

fn orders(app: &App, rows: Vec<TimelineRow>) -> Vec<Order> {
    let (_, workspace) = app.engine.releases().current();
    rows.into_iter()
        .map(|row| {
            let plan = workspace.plans.get(&row.plan);
            rows::order(row, plan)
        })
        .collect()
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
        before,
        limit,
    };
    let found = app.store.timelines(&filter).await?;
    let next = super::next_of(&found, limit, |row| format!("{} {}", row.begun, row.key));
    Ok(Json(Orders { orders: orders(&app, found), next }))
}

/// One order by its key, with its messages.
#[utoipa::path(get, path = "/api/orders/{key}", operation_id = "order", params(("key" = String, Path)), responses((status = 200, body = OrderStory)))]
pub async fn one(State(app): State<Arc<App>>, Path(key): Path<String>) -> Answer<OrderStory> {
    let key = key::stored(key);
    let filter = TimelineFilter { key: key.clone(), limit: 20, ..TimelineFilter::default() };
    let found = app.store.timelines(&filter).await?;
    let filter = MessageFilter { key: key.clone(), limit: 100, ..MessageFilter::default() };
    let messages: Vec<_> = app.store.messages(&filter).await?.into_iter().map(rows::message).collect();
    if found.is_empty() && messages.is_empty() {
        return Err(Problem::not_found(format!("there is no order `{key}`"))
            .detail("The key is the order's own number, e.g. the purchase order number."));
    }
    Ok(Json(OrderStory { orders: orders(&app, found), messages }))
}
