//! The processes of the simulated world: each has a dispatcher and a writer; rows and shards are shared.

use crate::world::{Event, Row, World, minting, workspace};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use wirewatch_core::MessageId;
use wirewatch_engine::{Dispatcher, Hold, Op, Recovered, SHARDS, Settings, Shards, shard_of};

/// One process.
pub struct Process {
    /// Increased by each crash: unfinished work of an earlier life is dropped.
    pub life: u32,
    pub dispatcher: Dispatcher,
    /// Items that wait for the writer.
    pub waiting: VecDeque<Submitted>,
    pub writing: bool,
    /// Messages made for these shards stay here; those for other shards are handed over.
    pub known: Shards,
    /// Taken up, or about to be.
    mine: Shards,
    leaving: Shards,
    looking: bool,
    /// True if the process has polled since it took over from another.
    pub caught_up: bool,
    /// Connections put on hold by people, as recorded at the last poll.
    held: BTreeMap<String, Hold>,
}

/// Something for the writer.
#[derive(Debug)]
pub enum Submitted {
    Op(Option<MessageId>, Op),
    /// For a process in that life.
    GiveAway(Shards, usize, u32),
    /// Everything before is written, and the process ends.
    Ended,
}

/// Result of polling the other processes.
#[derive(Debug, Clone)]
pub struct Look {
    gained: Shards,
    found: Vec<Recovered>,
    handed: Vec<Recovered>,
    held: Vec<Hold>,
    freed: Vec<String>,
}

impl Process {
    pub fn new(number: usize, life: u32, settings: Settings, shards: Shards) -> Self {
        // Each life has ids of its own.
        let writer = u16::try_from(life * 2).expect("few crashes") + u16::try_from(number).expect("two") + 1;
        Self {
            life,
            dispatcher: Dispatcher::new(settings, workspace(), shards, minting(writer)),
            waiting: VecDeque::new(),
            writing: false,
            known: shards,
            mine: shards,
            leaving: Shards::NONE,
            looking: false,
            caught_up: true,
            held: BTreeMap::new(),
        }
    }

    /// The next group, as the writer makes it: no message twice in it.
    pub fn next_group(&mut self) -> Vec<(Option<MessageId>, Op)> {
        let (mut seen, mut group) = (BTreeSet::new(), Vec::new());
        while let Some(Submitted::Op(_, op)) = self.waiting.front() {
            let row = if let Op::Change(change) = op { change.origin.id.0 } else { -1 };
            if !seen.insert(row) {
                break;
            }
            if let Some(Submitted::Op(id, op)) = self.waiting.pop_front() {
                group.push((id, op));
            }
        }
        group
    }
}

impl World {
    /// Returns the shards that belong to a process according to the journal.
    fn owned(&self, process: usize) -> Shards {
        (0..SHARDS).filter(|shard| self.owners[usize::from(*shard)] == process).collect()
    }

    fn recovered(&self, id: MessageId) -> Option<Recovered> {
        let row = self.rows.get(&id).filter(|row| !row.state.is_final())?;
        let (flow, order_key, size) = (row.origin.flow.clone(), row.order_key.clone(), row.origin.size());
        let Row { state, due, picked_up, .. } = *row;
        Some(Recovered { id, size, flow, key: String::new(), order_key, state, due, picked_up })
    }

    fn unfinished(&self, shards: Shards) -> Vec<Recovered> {
        let in_them = self.rows.keys().filter_map(|id| self.recovered(*id));
        in_them.filter(|one| shards.has(shard_of(one.id, &one.flow, &one.order_key))).collect()
    }

    /// A process committed a new message: in a shard of another process, it is handed over.
    pub fn made(&mut self, process: usize, id: MessageId) {
        let Some(one) = self.recovered(id) else { return };
        let shard = shard_of(id, &one.flow, &one.order_key);
        if !self.processes[process].known.has(shard) {
            self.report.handed += 1;
            self.handed.push((shard, id));
            (0..2).for_each(|process| self.look_soon(process));
        }
    }

    pub fn look_soon(&mut self, process: usize) {
        if self.together {
            let after = self.random.u64(0..500);
            self.inside(process, after, Event::Look);
        }
    }

    /// Polls the other processes; the result is handled a moment later.
    pub fn look(&mut self, number: usize) {
        if self.processes[number].looking {
            return self.look_soon(number);
        }
        let owned = self.owned(number);
        let process = &mut self.processes[number];
        process.looking = true;
        let gained = owned.without(process.mine).without(process.leaving);
        process.mine = process.mine.with(gained);
        // Messages made from now on enter the dispatcher after the ones found.
        process.known = process.known.with(gained);
        process.dispatcher.expect(gained);
        let now: BTreeMap<String, Hold> =
            self.holds.iter().filter(|(_, hold)| hold.is_everybodys()).map(|(name, hold)| (name.clone(), hold.clone())).collect();
        let held =
            now.iter().filter(|(name, hold)| process.held.get(*name) != Some(hold)).map(|(_, hold)| hold.clone()).collect();
        let freed = process.held.keys().filter(|name| !now.contains_key(*name)).cloned().collect();
        process.held = now;
        let (ours, others): (Vec<_>, Vec<_>) = self.handed.drain(..).partition(|(shard, _)| owned.has(*shard));
        self.handed = others;
        let handed = ours.into_iter().filter_map(|(_, id)| self.recovered(id)).collect();
        let found = self.unfinished(gained);
        let after = self.random.u64(0..100);
        self.inside(number, after, Event::Looked(Box::new(Look { gained, found, handed, held, freed })));
    }

    pub fn looked(&mut self, number: usize, look: Look) {
        let now = self.now;
        let process = &mut self.processes[number];
        process.looking = false;
        process.caught_up = true;
        process.dispatcher.gain(look.gained, &look.found, now);
        look.handed.iter().for_each(|one| process.dispatcher.handed(one, now));
        look.held.iter().for_each(|hold| process.dispatcher.held_elsewhere(hold, now));
        look.freed.iter().for_each(|name| process.dispatcher.resumed_elsewhere(name, now));
    }

    /// A process lets go of some of its shards for the other.
    pub fn share(&mut self) {
        let from = self.random.usize(0..2);
        if !self.processes[from].leaving.is_empty() {
            return;
        }
        let some = self.processes[from].mine.iter().filter(|_| self.random.bool()).collect::<Shards>();
        let process = &mut self.processes[from];
        // Shards that are only about to be taken over must not be released yet.
        let some: Shards = some.iter().filter(|shard| process.dispatcher.shards().has(*shard)).collect();
        if some.is_empty() {
            return;
        }
        self.report.shared += 1;
        process.mine = process.mine.without(some);
        process.leaving = some;
        process.dispatcher.leave(some, i16::try_from(1 - from).expect("two"));
    }

    /// The writer reached the shards that are to be given away.
    pub fn give_away(&mut self, from: usize, shards: Shards, to: usize, life: u32) {
        if self.processes[to].life == life {
            shards.iter().for_each(|shard| self.owners[usize::from(shard)] = to);
            for (id, row) in &mut self.rows {
                if shards.has(shard_of(*id, &row.origin.flow, &row.order_key)) {
                    row.picked_up = 0;
                }
            }
        }
        // If the other process has ended, they stay here and are loaded again.
        let process = &mut self.processes[from];
        process.known = process.known.without(shards);
        process.leaving = Shards::NONE;
        process.writing = false;
        self.look_soon(0);
        self.look_soon(1);
    }

    /// A process ends. Alone, it restarts with its state; otherwise the other takes over, and it restarts empty.
    pub fn crash(&mut self, number: usize) {
        self.report.crashes += 1;
        let other = 1 - number;
        self.open.retain(|_, (process, _)| *process != number);
        let life = self.processes[number].life + 1;
        let settings = self.settings();
        let shards = if self.together { Shards::NONE } else { Shards::ALL };
        self.processes[number] = Process::new(number, life, settings, shards);
        if self.together {
            self.owners.fill(other);
            self.processes[other].caught_up = false;
            self.intake = other;
            self.look_soon(other);
        } else {
            self.now = self.now.after(std::time::Duration::from_millis(self.random.u64(0..3000)));
        }
        for hold in self.holds.clone().into_values() {
            // Resumed a moment before the crash, it is on hold again: the person sees this and resumes it again.
            if let Some(name) = self.freed.get(hold.connection.as_str()).copied().filter(|_| !hold.by.is_empty()) {
                self.outside(1000, Event::Free(name));
            }
            self.processes[number].dispatcher.restore_hold(hold.clone(), self.now);
            if hold.is_everybodys() {
                self.processes[number].held.insert(hold.connection.clone(), hold);
            }
        }
        let found = self.unfinished(shards);
        self.processes[number].dispatcher.gain(shards, &found, self.now);
    }
}
