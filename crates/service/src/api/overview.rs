//! Flows as lines of steps: what passes each step, what waits or fails there, and which partners that affects.

use super::{Answer, assignments, connections, flows, rows, status};
use crate::run::App;
use crate::view::some;
use crate::view::words::StepVerb;
use crate::view::{ConnectionView, FlowLine, FlowStep, Intake, Named, Overview, PartnerShare, Workspace, sure_time, time};
use axum::Json;
use axum::extract::State;
use std::collections::BTreeMap;
use std::sync::Arc;
use wirewatch_core::Timestamp;
use wirewatch_core::duration;
use wirewatch_core::flow::{Flow, Parcel, Step, Takes, UNROUTED, Until, Verb};
use wirewatch_core::meter::{self, Figures, Point};
use wirewatch_core::workspace;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{JournalError, Standing};

type Read = BTreeMap<meter::FlowStep, Figures>;

/// Every flow with its steps: figures of the last minute and what waits or fails at each.
#[utoipa::path(get, path = "/api/overview", responses((status = 200, body = Overview)))]
pub async fn overview(State(app): State<Arc<App>>) -> Answer<Overview> {
    let now = SystemClock.now();
    let connections = connections::views(&app).await;
    let days_ahead = app.store.days_ahead(now).await?;
    Ok(Json(Overview {
        at: sure_time(now),
        lines: lines(&app, now, &connections, None).await?,
        arrivals_failed: status::arrivals_failed(&app).await?,
        reasons: app.store.reasons("").await?.into_iter().map(rows::reason).collect(),
        warnings: status::warnings(&app, days_ahead, &status::held(&app).await).await?,
        assignments: assignments::current(&app).await?,
        connections,
    }))
}

/// Returns the line of every flow, or of the one named.
pub(super) async fn lines(
    app: &App,
    now: Timestamp,
    connections: &[ConnectionView],
    only: Option<&str>,
) -> Result<Vec<FlowLine>, JournalError> {
    let (_, workspace) = app.engine.releases().current();
    let standing = app.store.standing().await?;
    let paused = flows::all_paused(app).await;
    let steps_on_hold = flows::steps_on_hold(app).await;
    let read = app.meter.read(now);
    let held = |name: &str| connections.iter().any(|one| one.name == name && one.on_hold.is_some());
    let own = |flow: &Flow| standing.iter().filter(|one| one.flow == flow.name).collect::<Vec<&Standing>>();
    // The flow of unrouted documents is listed only when it has messages.
    let shown = workspace.flows.values().filter(|flow| match only {
        Some(only) => flow.name == only,
        None => flow.name != UNROUTED || !own(flow).is_empty(),
    });
    let lines = shown.map(|flow| {
        let own = own(flow);
        let paused = paused.iter().find(|paused| paused.flow == flow.name).cloned();
        let recorded = flows::recorded(app, &flow.name, now);
        let mut line = FlowLine { paused, recorded, ..line(flow, &own, &read, held) };
        for step in &mut line.steps {
            step.on_hold = steps_on_hold.iter().find(|held| held.flow == flow.name && held.step == step.step).cloned();
        }
        line
    });
    Ok(lines.collect())
}

/// The names of the workspace's parts, for filters.
#[utoipa::path(get, path = "/api/workspace", responses((status = 200, body = Workspace)))]
pub async fn workspace(State(app): State<Arc<App>>) -> Answer<Workspace> {
    let (release, workspace) = app.engine.releases().current();
    let workspace::Workspace { title, flows, partners, connections, plans, .. } = &*workspace;
    let named = |name: &String, title: &String| Named { name: name.clone(), title: title.clone() };
    Ok(Json(Workspace {
        title: title.clone(),
        environment: super::environment(&workspace),
        release,
        deploy_from_console: workspace.deploys_from_console(),
        flows: flows.values().map(|one| named(&one.name, &one.title)).collect(),
        partners: partners.values().map(|one| named(&one.name, &one.title)).collect(),
        connections: connections.values().map(|one| named(&one.name, &one.title)).collect(),
        plans: plans.values().map(|one| named(&one.name, &one.title)).collect(),
    }))
}

fn line(flow: &Flow, standing: &[&Standing], read: &Read, held: impl Fn(&str) -> bool) -> FlowLine {
    let figures = |point| read.get(&meter::FlowStep { flow: flow.name.clone(), point }).copied().unwrap_or_default();
    let begun = figures(Point::Begun);
    let mut steps = vec![FlowStep {
        verb: Some(StepVerb::Intake),
        passed_minute: begun.passed,
        passed_slots: begun.slots.to_vec(),
        ..FlowStep::default()
    }];
    for (at, step) in flow.steps.iter().enumerate() {
        let Figures { passed, slots, median_us, slow_us } = figures(Point::Step(step.name.clone()));
        // Steps on failure are shown when something fails.
        if flow.is_on_failure(at) && passed == 0 && standing.iter().all(|one| one.step != step.name) {
            continue;
        }
        steps.push(FlowStep {
            step: step.name.clone(),
            way: step.way.clone(),
            verb: StepVerb::parse(step.verb.name()),
            what: what(step),
            connection: step.verb.connection().map(str::to_owned),
            passed_minute: passed,
            passed_slots: slots.to_vec(),
            median_us,
            slow_us,
            ..FlowStep::default()
        });
    }
    for one in standing {
        let place = steps.iter().position(|step| step.step == one.step).unwrap_or_else(|| {
            let passed_slots = vec![0; meter::SLOTS];
            steps.push(FlowStep { step: one.step.clone(), passed_slots, ..FlowStep::default() });
            steps.len() - 1
        });
        stand(&mut steps[place], one, &held);
    }
    for step in &mut steps {
        step.affects.sort_by(|a, b| b.messages.cmp(&a.messages).then_with(|| a.partner.cmp(&b.partner)));
    }
    let intakes = flow.intakes.iter().map(|intake| {
        let takes = match &intake.takes {
            Takes::X12(set) => format!("x12/{set}"),
            Takes::Json(schema) => format!("json/{schema}"),
            Takes::Text => "text".to_owned(),
        };
        Intake { connection: intake.from.clone(), queue: intake.queue.clone(), takes }
    });
    FlowLine {
        flow: flow.name.clone(),
        title: flow.title.clone(),
        paused: None,
        recorded: None,
        intakes: intakes.collect(),
        steps,
        done_minute: figures(Point::Done).passed,
        done_slots: figures(Point::Done).slots.to_vec(),
    }
}

fn stand(step: &mut FlowStep, one: &Standing, held: &impl Fn(&str) -> bool) {
    // Messages queued at a connection on hold are stored as running.
    let queued = one.state == "running" && step.connection.as_deref().is_some_and(held);
    let count = match one.state.as_str() {
        "waiting" => &mut step.waiting,
        _ if queued => &mut step.waiting,
        "retrying" => &mut step.retrying,
        "failed" => &mut step.failed,
        _ => {
            step.running += one.messages;
            return;
        }
    };
    *count += one.messages;
    let since = time(one.oldest);
    if step.stuck_since.is_none() || (since.is_some() && since < step.stuck_since) {
        step.stuck_since = since;
    }
    let due = time(one.due);
    if due.is_some() && (step.next_due.is_none() || due < step.next_due) {
        step.next_due = due;
    }
    let partner = some(&one.partner);
    match step.affects.iter_mut().find(|share| share.partner == partner) {
        Some(share) => share.messages += one.messages,
        None => step.affects.push(PartnerShare { partner, messages: one.messages }),
    }
}

fn what(step: &Step) -> String {
    match &step.verb {
        Verb::Map { map } => map.clone(),
        Verb::Only { because, .. } => because.clone(),
        Verb::Set { .. } | Verb::Note { .. } => String::new(),
        Verb::Choose { ways } => format!("{} ways", ways.len()),
        Verb::Also { ways } => ways.iter().map(|way| way.name.as_str()).collect::<Vec<_>>().join(", "),
        Verb::Pause { until: Until::Span(span) } => duration::short(*span),
        Verb::Pause { until: Until::At(until) } => format!("until {}", until.text),
        Verb::Notify { path, .. } => path.text().to_owned(),
        Verb::Check { rules } => format!("{} rules", rules.len()),
        Verb::Call { method, path, .. } => format!("{} {}", method.as_str(), path.text()),
        Verb::Send { parcel: Parcel::Publish(publish), .. } if publish.exchange.is_empty() => publish.key.text().to_owned(),
        Verb::Send { parcel: Parcel::Publish(publish), .. } => format!("{} {}", publish.exchange, publish.key.text()),
        // The connection is shown beside the step, and the file name says nothing here.
        Verb::Send { to: Some(_), .. } => String::new(),
        Verb::Send { to: None, .. } => "to the partner".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wirewatch_core::flow::{END, Method, Retry};

    fn flow() -> Flow {
        let template = |text| wirewatch_core::expr::Template::parse(text).unwrap();
        let book = Verb::Call { at: "erp".into(), method: Method::Post, path: template("/orders"), body: None, keep: None };
        let step = |name: &str, verb| Step { name: name.into(), verb, retry: Retry::default(), next: END, way: String::new() };
        Flow {
            name: "orders".into(),
            steps: vec![step("to-order", Verb::Map { map: "po".into() }), step("book", book)],
            ..Flow::acknowledgments()
        }
    }

    fn standing(step: &str, state: &str, partner: &str, messages: i64, oldest: i64) -> Standing {
        let due = if state == "retrying" { oldest + 1 } else { 0 };
        Standing { flow: "orders".into(), step: step.into(), state: state.into(), partner: partner.into(), messages, oldest, due }
    }

    #[test]
    fn each_step_reports_its_messages_and_their_partners() {
        let all = [
            standing("book", "running", "marrowfield", 3, 5_000_000),
            standing("book", "retrying", "marrowfield", 2, 4_000_000),
            standing("book", "retrying", "tansy", 7, 3_000_000),
            standing("gone", "failed", "tansy", 1, 2_000_000),
        ];
        let all: Vec<&Standing> = all.iter().collect();
        let drawn = line(&flow(), &all, &Read::new(), |_| false);
        let names: Vec<&str> = drawn.steps.iter().map(|step| step.step.as_str()).collect();
        assert_eq!(names, ["", "to-order", "book", "gone"]);
        let book = &drawn.steps[2];
        assert_eq!((book.what.as_str(), book.running, book.retrying, book.waiting), ("POST /orders", 3, 9, 0));
        assert_eq!(book.stuck_since.as_deref(), Some("1970-01-01T00:00:03.000Z"));
        assert_eq!(book.next_due.as_deref(), Some("1970-01-01T00:00:03.000Z"));
        let affects: Vec<_> =
            book.affects.iter().map(|share| (share.partner.as_deref().unwrap_or_default(), share.messages)).collect();
        assert_eq!(affects, [("tansy", 7), ("marrowfield", 2)]);
        assert_eq!(drawn.steps[3].failed, 1, "messages at a step of an earlier release are still shown");
    }

    #[test]
    fn those_queued_before_a_held_connection_wait() {
        let all = [standing("book", "running", "", 3, 5), standing("to-order", "running", "", 1, 5)];
        let all: Vec<&Standing> = all.iter().collect();
        let drawn = line(&flow(), &all, &Read::new(), |name| name == "erp");
        assert_eq!((drawn.steps[2].running, drawn.steps[2].waiting, drawn.steps[1].running), (0, 3, 1));
    }
}
