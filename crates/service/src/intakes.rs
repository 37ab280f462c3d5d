//! Intakes: a task for each folder, queue and broker that the current release names.

use crate::run::Running;
use crate::supervised::restarted;
use std::collections::{BTreeMap, HashMap};
use tokio::task::JoinHandle;
use wirewatch_core::broker::Broker;
use wirewatch_core::connection::ConnectionKind;
use wirewatch_core::workspace::Workspace;
use wirewatch_engine::SystemClock;
use wirewatch_links::Outside;
use wirewatch_links::amqp::{self, QueueIntake, Queues};
use wirewatch_links::folder::{self, Faults, Folder};

/// The tasks at the outside. Dropping ends them.
#[derive(Debug, Default)]
pub struct Intakes {
    tasks: HashMap<String, (Task, JoinHandle<()>)>,
    /// States of the queues.
    queues: Queues,
    /// Files that cannot be read or archived.
    faults: Faults,
}

/// Subject of a task; a task with the same subject continues when the release changes.
#[derive(Debug, Clone, PartialEq)]
enum Task {
    Folder(Folder),
    Queue(Box<QueueIntake>),
    /// Looking at the queues of a broker.
    Watch(String, Box<Broker>),
}

impl Intakes {
    /// Creates intakes that report their queues in `queues` and unreadable files in `faults`.
    #[must_use]
    pub fn new(queues: Queues, faults: Faults) -> Self {
        Self { tasks: HashMap::new(), queues, faults }
    }

    /// Starts, changes and ends tasks so that they are those of `workspace`.
    pub fn follow(&mut self, engine: &Running, outside: &Outside, workspace: &Workspace) {
        let wanted = wanted(outside, workspace);
        let (queues, faults) = (&self.queues, &self.faults);
        self.tasks.retain(|key, (task, running)| {
            let stays = wanted.get(key) == Some(task) && !running.is_finished();
            if !stays {
                running.abort();
                match task {
                    Task::Queue(intake) => queues.forget(&intake.connection, &intake.queue.name),
                    Task::Folder(folder) => faults.forget(&folder.connection),
                    Task::Watch(..) => {}
                }
            }
            stays
        });
        for (key, task) in wanted {
            self.tasks.entry(key.clone()).or_insert_with(|| {
                let (engine, outside, queues, faults) = (engine.clone(), outside.clone(), queues.clone(), faults.clone());
                let (name, again) = (key.clone(), task.clone());
                let running = tokio::spawn(async move {
                    restarted(&name, || run(again.clone(), engine.clone(), outside.clone(), queues.clone(), faults.clone()))
                        .await;
                });
                (task, running)
            });
        }
    }
}

async fn run(task: Task, engine: Running, outside: Outside, queues: Queues, faults: Faults) {
    match task {
        Task::Folder(folder) => {
            engine.lease(&format!("folder {}", folder.connection)).await;
            folder::run(engine, folder, faults, SystemClock).await;
        }
        Task::Queue(intake) => {
            if intake.in_order {
                engine.lease(&format!("queue {} {}", intake.connection, intake.queue.name)).await;
            }
            amqp::run(engine, outside, queues, *intake).await;
        }
        Task::Watch(name, broker) => amqp::watch(outside, queues, SystemClock, name, *broker).await,
    }
}

fn wanted(outside: &Outside, workspace: &Workspace) -> HashMap<String, Task> {
    let mut wanted = HashMap::new();
    for connection in workspace.connections.values() {
        let name = &connection.name;
        let takes = || workspace.intakes().filter(|(_, intake)| intake.from == *name);
        match &connection.kind {
            ConnectionKind::Folder { path, settle } if takes().next().is_some() => {
                // The fault was reported when the release was deployed or the service started.
                let Ok(path) = outside.folder(path) else { continue };
                wanted.insert(name.clone(), Task::Folder(Folder { connection: name.clone(), path, settle: *settle }));
            }
            ConnectionKind::Amqp(broker) => {
                wanted.insert(name.clone(), Task::Watch(name.clone(), broker.clone()));
                for queue in &broker.queues {
                    let here = takes().filter(|(_, intake)| intake.queue.as_ref() == Some(&queue.name));
                    let flows: BTreeMap<&str, bool> =
                        here.map(|(flow, _)| (flow.name.as_str(), flow.in_order_by.is_some())).collect();
                    if flows.is_empty() {
                        continue;
                    }
                    let in_order = flows.values().any(|in_order| *in_order);
                    let (broker, flows) = ((**broker).clone(), flows.into_keys().map(str::to_owned).collect());
                    let intake = QueueIntake { connection: name.clone(), broker, queue: queue.clone(), flows, in_order };
                    wanted.insert(format!("{name} {}", queue.name), Task::Queue(Box::new(intake)));
                }
            }
            // These kinds receive without a task of their own.
            ConnectionKind::Folder { .. } | ConnectionKind::Http(_) | ConnectionKind::Webhook(_) | ConnectionKind::Incidents => {}
        }
    }
    wanted
}

impl Drop for Intakes {
    fn drop(&mut self) {
        self.tasks.values().for_each(|(_, task)| task.abort());
    }
}
