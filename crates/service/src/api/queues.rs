//! The queues of a broker: waiting messages, and whether the service takes from them.

use crate::run::App;
use crate::view::words::QueueListening;
use crate::view::{QueueView, sure_time};
use wirewatch_core::broker::Broker;
use wirewatch_core::connection::Connection;
use wirewatch_core::workspace::Workspace;
use wirewatch_links::amqp::Listening;

pub fn views(app: &App, workspace: &Workspace, connection: &Connection, broker: &Broker) -> Vec<QueueView> {
    let view = |name: &String| {
        let state = app.queues.at(&connection.name, name);
        let takes =
            workspace.intakes().filter(|(_, intake)| intake.from == connection.name && intake.queue.as_ref() == Some(name));
        let (listening, says) = match state.listening {
            Listening::No => (QueueListening::No, state.says),
            Listening::Yes => (QueueListening::Yes, state.says),
            Listening::Stopped(says) => (QueueListening::Stopped, says),
        };
        let queue = broker.queue(name);
        QueueView {
            name: name.clone(),
            listening,
            says,
            messages: state.depth.map(|depth| depth.messages),
            consumers: state.depth.map(|depth| depth.consumers),
            at: state.depth.map(|depth| sure_time(depth.at)),
            flows: takes.map(|(flow, _)| flow.name.clone()).collect(),
            dead_letters: queue.and_then(|queue| queue.dead_letters.clone()),
            event_from: queue.and_then(|queue| queue.event.as_ref()).map(|place| place.words()).unwrap_or_default(),
            delivery_from: queue.and_then(|queue| queue.delivery.as_ref()).map(|place| place.words()).unwrap_or_default(),
        }
    };
    broker.queues.iter().map(|queue| view(&queue.name)).collect()
}

/// Returns a sentence for each queue that a flow would take from and cannot; queues on hold by a person are left out.
pub fn queue_warnings(app: &App, workspace: &Workspace) -> Vec<String> {
    let mut warnings = Vec::new();
    for connection in workspace.connections.values() {
        let Some(broker) = connection.broker().filter(|_| app.engine.closed(&[&connection.name]).is_none()) else { continue };
        for queue in
            views(app, workspace, connection, broker).into_iter().filter(|queue| queue.listening == QueueListening::Stopped)
        {
            let (flows, title, says) = (queue.flows.join(", "), &connection.title, queue.says);
            warnings.push(format!("{flows} receives nothing from the queue {} of {title}: {says}", queue.name));
        }
    }
    warnings
}
