//! What happened to an order: milestones, arrivals, acknowledgments and acts of people in one line of time.

use super::rows;
use crate::api::problem::Problem;
use crate::run::App;
use crate::view::words::{Direction, OrderEventKind};
use crate::view::{MilestoneView, Order, OrderEvent};
use std::collections::BTreeSet;
use wirewatch_core::{ArrivalId, Id};
use wirewatch_journal::{ArrivalRow, AuditRow, LedgerRow, MessageRow};

/// Returns the milestones of these orders, and the arrivals, acts and acknowledgments of these messages, oldest first.
pub async fn of(app: &App, orders: &[Order], messages: &[MessageRow]) -> Result<Vec<OrderEvent>, Problem> {
    let ids: Vec<Id> = messages.iter().map(|message| Id(message.id)).collect();
    let arrivals: Vec<ArrivalId> = messages.iter().map(|one| one.arrival).collect::<BTreeSet<_>>().into_iter().map(Id).collect();
    let (_, workspace) = app.engine.releases().current();
    let from = |connection: &str| workspace.connections.get(connection).map_or(connection, |one| one.title.as_str()).to_owned();
    let mut events: Vec<OrderEvent> = orders.iter().flat_map(|order| &order.milestones).filter_map(milestone).collect();
    events.extend(app.store.audit_of(&ids).await?.into_iter().filter_map(act));
    events.extend(app.store.arrivals_of(&arrivals).await?.into_iter().map(|row| arrived(&from(&row.connection), row)));
    events.extend(app.store.ledger_of(&arrivals).await?.into_iter().filter_map(acknowledged));
    events.sort_by(|a, b| (&a.at, a.kind).cmp(&(&b.at, b.kind)));
    Ok(events)
}

fn event(kind: OrderEventKind, at: String, says: String) -> OrderEvent {
    OrderEvent { at, kind, says, mark: None, by: None, message: None, arrival: None }
}

fn milestone(milestone: &MilestoneView) -> Option<OrderEvent> {
    let MilestoneView { name, mark, at, times, message, .. } = milestone.clone();
    let says = if times > 1 { format!("{name} ({times} times)") } else { name };
    Some(OrderEvent { mark: Some(mark), message, ..event(OrderEventKind::Milestone, at?, says) })
}

fn act(row: AuditRow) -> Option<OrderEvent> {
    let message = Id(row.subject).to_string();
    let act = rows::act(row)?;
    let says = if act.why.is_empty() { act.act.to_string() } else { format!("{}: {}", act.act, act.why) };
    Some(OrderEvent { by: Some(act.by), message: Some(message), ..event(OrderEventKind::Act, act.at, says) })
}

fn arrived(from: &str, row: ArrivalRow) -> OrderEvent {
    let row = rows::arrival(row);
    let says = format!("{} from {from}", row.name);
    OrderEvent { by: row.by, arrival: Some(row.id), ..event(OrderEventKind::Arrived, row.received, says) }
}

/// Returns the event of an acknowledgment that we have sent; `None` for other entries of the ledger.
fn acknowledged(row: LedgerRow) -> Option<OrderEvent> {
    let arrival = Id(row.arrival).to_string();
    let entry = rows::ledger(row);
    if entry.direction != Direction::Out {
        return None;
    }
    let answers = entry.answers.map(|answers| format!(", answers {answers}")).unwrap_or_default();
    let says = format!("acknowledgment {} to {}{answers}", entry.control, entry.receiver);
    Some(OrderEvent { message: entry.message, arrival: Some(arrival), ..event(OrderEventKind::Acknowledged, entry.at, says) })
}
