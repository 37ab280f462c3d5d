//! What is taken from, and looked at: a task for each folder, queue and broker that the current release names.

use crate::run::Running;
use std::collections::{BTreeMap, HashMap};
use tokio::task::JoinHandle;
use wirewatch_core::broker::Broker;
use wirewatch_core::connection::ConnectionKind;
use wirewatch_core::workspace::Workspace;
use wirewatch_engine::SystemClock;
use wirewatch_links::Outside;
use wirewatch_links::amqp::{self, QueueIntake, Queues};
use wirewatch_links::folder::{self, Folder};

/// The tasks at the outside. Dropping ends them.
#[derive(Debug, Default)]
pub struct Intakes {
    tasks: HashMap<String, (Task, JoinHandle<()>)>,
    /// How the queues stand.
    queues: Queues,
}

/// What a task is about; one that is about the same goes on when the release changes.
#[derive(Debug, Clone, PartialEq)]
enum Task {
    Folder(Folder),
    Queue(Box<QueueIntake>),
    /// Looking at the queues of a broker.
    Watch(String, Box<Broker>),
}

impl Intakes {
    /// Intakes that tell in `queues` how theirs stand.
    #[must_use]
    pub fn new(queues: Queues) -> Self {
        Self { tasks: HashMap::new(), queues }
    }

    /// Starts, changes and ends tasks so that they are those of `workspace`.
    pub fn follow(&mut self, engine: &Running, outside: &Outside, workspace: &Workspace) {
        let wanted = wanted(outside, workspace);
        let queues = &self.queues;
        self.tasks.retain(|key, (task, running)| {
            let stays = wanted.get(key) == Some(task) && !running.is_finished();
            if !stays {
                running.abort();
                if let Task::Queue(intake) = task {
                    queues.forget(&intake.connection, &intake.queue.name);
                }
            }
            stays
        });
        for (key, task) in wanted {
            self.tasks.entry(key).or_insert_with(|| {
                let (engine, outside, queues) = (engine.clone(), outside.clone(), queues.clone());
                let running = match task.clone() {
                    Task::Folder(folder) => tokio::spawn(async move {
                        engine.lease(&format!("folder {}", folder.connection)).await;
                        folder::run(engine, folder).await;
                    }),
                    Task::Queue(intake) => tokio::spawn(async move {
                        if intake.in_order {
                            engine.lease(&format!("queue {} {}", intake.connection, intake.queue.name)).await;
                        }
                        amqp::run(engine, outside, queues, *intake).await;
                    }),
                    Task::Watch(name, broker) => tokio::spawn(amqp::watch(outside, queues, SystemClock, name, *broker)),
                };
                (task, running)
            });
        }
    }
}

fn wanted(outside: &Outside, workspace: &Workspace) -> HashMap<String, Task> {
    let mut wanted = HashMap::new();
    for connection in workspace.connections.values() {
        let name = &connection.name;
        let takes = || workspace.intakes().filter(|(_, intake)| intake.from == *name);
        match &connection.kind {
            ConnectionKind::Folder { path, settle } if takes().next().is_some() => {
                let folder = Folder { connection: name.clone(), path: outside.folder(path), settle: *settle };
                wanted.insert(name.clone(), Task::Folder(folder));
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
            // Nobody asks there.
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
