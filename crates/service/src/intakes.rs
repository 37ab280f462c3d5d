//! The folders that are watched: one task for each, as the current release names them.

use crate::run::Running;
use std::collections::HashMap;
use tokio::task::JoinHandle;
use wirewatch_core::connection::ConnectionKind;
use wirewatch_core::workspace::Workspace;
use wirewatch_links::Outside;
use wirewatch_links::folder::{Folder, run};

/// The tasks that take files in. Dropping ends them.
#[derive(Debug, Default)]
pub struct Intakes {
    tasks: HashMap<String, (Folder, JoinHandle<()>)>,
}

impl Intakes {
    /// Starts, changes and ends tasks so that they are those of `workspace`.
    pub fn follow(&mut self, engine: &Running, outside: &Outside, workspace: &Workspace) {
        let mut wanted = HashMap::new();
        for intake in workspace.flows.values().flat_map(|flow| &flow.intakes) {
            let Some(connection) = workspace.connections.get(&intake.from) else { continue };
            if let ConnectionKind::Folder { path, settle } = &connection.kind {
                let folder = Folder { connection: connection.name.clone(), path: outside.folder(path), settle: *settle };
                wanted.insert(connection.name.clone(), folder);
            }
        }
        self.tasks.retain(|name, (folder, task)| {
            let stays = wanted.get(name) == Some(folder) && !task.is_finished();
            if !stays {
                task.abort();
            }
            stays
        });
        for (name, folder) in wanted {
            self.tasks.entry(name).or_insert_with(|| (folder.clone(), tokio::spawn(run(engine.clone(), folder))));
        }
    }
}

impl Drop for Intakes {
    fn drop(&mut self) {
        self.tasks.values().for_each(|(_, task)| task.abort());
    }
}
