//! Orders along their plans.

use super::problem::Problem;
use super::{Answer, id, moment, page, rows};
use crate::run::App;
use crate::view::words::{Direction, OrderEventKind};
use crate::view::{Message, MilestoneView, Order, OrderEvent, OrderQuery, OrderStory, Orders, time};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use std::collections::BTreeSet;
use std::sync::Arc;
use wirewatch_core::{Timestamp, key};
use wirewatch_journal::{MessageFilter, TimelineFilter, TimelineRow};

/// Messages of an order whose arrivals, acts and acknowledgments are listed.
const FOLLOWED: usize = 20;

/// Orders that are counted, at most.
const COUNTED: u32 = 10_000;

/// Converts timelines to orders, with the failure of each.
async fn orders(app: &App, rows: Vec<TimelineRow>) -> Result<Vec<Order>, Problem> {
    let (_, workspace) = app.engine.releases().current();
    let keys: Vec<String> = rows.iter().map(|row| row.key.clone()).collect();
    let failures = app.store.failures_of(&keys).await?;
    let order = |row: TimelineRow| {
        let (says, since) = failures.get(&row.key).cloned().unwrap_or_default();
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
    let filter = MessageFilter { key: key.clone(), limit: 100, ..MessageFilter::default() };
    let messages: Vec<_> = app.store.messages(&filter).await?.into_iter().map(rows::message).collect();
    if found.is_empty() && messages.is_empty() {
        return Err(Problem::not_found(format!("there is no order `{key}`"))
            .detail("The key is the order's own number, e.g. the purchase order number."));
    }
    let orders = orders(&app, found).await?;
    let events = events(&app, &orders, &messages).await?;
    Ok(Json(OrderStory { orders, messages, events }))
}

/// Returns what happened to an order, oldest first: its milestones; arrivals, acts and acknowledgments of its first messages.
async fn events(app: &App, orders: &[Order], messages: &[Message]) -> Result<Vec<OrderEvent>, Problem> {
    let mut events: Vec<OrderEvent> = orders.iter().flat_map(|order| &order.milestones).filter_map(milestone).collect();
    let (_, workspace) = app.engine.releases().current();
    let mut arrivals: BTreeSet<String> = BTreeSet::new();
    // The list is newest first.
    for message in messages.iter().rev().take(FOLLOWED) {
        for act in app.store.audit_of(id(&message.id)?).await?.into_iter().filter_map(rows::act) {
            let says = if act.why.is_empty() { act.act.to_string() } else { format!("{}: {}", act.act, act.why) };
            let (message, by) = (Some(message.id.clone()), Some(act.by));
            events.push(OrderEvent { at: act.at, kind: OrderEventKind::Act, says, mark: None, by, message, arrival: None });
        }
        if !arrivals.insert(message.arrival.clone()) {
            continue;
        }
        let arrival = id(&message.arrival)?;
        let Some(row) = app.store.arrival(arrival).await?.map(rows::arrival) else { continue };
        let from = workspace.connections.get(&row.connection).map_or(row.connection.as_str(), |one| one.title.as_str());
        let says = format!("{} from {from}", row.name);
        let (by, own) = (row.by, Some(message.arrival.clone()));
        events.push(OrderEvent {
            at: row.received,
            kind: OrderEventKind::Arrived,
            says,
            mark: None,
            by,
            message: None,
            arrival: own.clone(),
        });
        for entry in app.store.ledger_of(arrival).await?.into_iter().map(rows::ledger) {
            if entry.direction == Direction::Out {
                let answers = entry.answers.map(|answers| format!(", answers {answers}")).unwrap_or_default();
                let says = format!("acknowledgment {} to {}{answers}", entry.control, entry.receiver);
                let (message, arrival) = (entry.message, own.clone());
                events.push(OrderEvent {
                    at: entry.at,
                    kind: OrderEventKind::Acknowledged,
                    says,
                    mark: None,
                    by: None,
                    message,
                    arrival,
                });
            }
        }
    }
    events.sort_by(|a, b| (&a.at, a.kind).cmp(&(&b.at, b.kind)));
    Ok(events)
}

fn milestone(milestone: &MilestoneView) -> Option<OrderEvent> {
    let MilestoneView { name, mark, at, times, message, .. } = milestone.clone();
    let says = if times > 1 { format!("{name} ({times} times)") } else { name };
    Some(OrderEvent { at: at?, kind: OrderEventKind::Milestone, says, mark: Some(mark), by: None, message, arrival: None })
}
