//! The tables, as one migration after another.
//!
//! Names and reasons: `live` holds unfinished messages and is small; `message`, `log`, `body` and `arrival` are
//! history, partitioned by the day in their id and only appended to. Times are microseconds since 1970, 0 for none.
//! No column is NULL, since the grouped statements pass arrays.

use crate::query::keep_known_files;
use sea_orm_migration::prelude::*;

/// Every migration, oldest first.
#[derive(Debug)]
pub struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            step("m001_first", FIRST),
            step("m002_leaner", LEANER),
            step("m003_held_by_people", HELD_BY_PEOPLE),
            step("m004_deliveries", DELIVERIES),
            step("m005_told", TOLD),
            step("m006_said", SAID),
            step("m007_together", TOGETHER),
            step("m008_recorded", RECORDED),
            step("m009_drafts", DRAFTS),
            step("m010_seen_by_key", SEEN_BY_KEY),
            step("m011_spool", SPOOL),
            step("m012_picked_up", PICKED_UP),
            Box::new(KnownFiles),
            step("m014_captures", CAPTURES),
            step("m015_bulk_acts", BULK_ACTS),
        ]
    }
}

/// One migration: statements that take the tables from the one before to the next.
struct Step {
    name: &'static str,
    text: &'static str,
}

fn step(name: &'static str, text: &'static str) -> Box<dyn MigrationTrait> {
    Box::new(Step { name, text })
}

impl MigrationName for Step {
    fn name(&self) -> &str {
        self.name
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Step {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(self.text).await?;
        Ok(())
    }
}

/// Takes out of the releases what is no part of a workspace.
struct KnownFiles;

impl MigrationName for KnownFiles {
    fn name(&self) -> &str {
        "m013_known_files"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for KnownFiles {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        keep_known_files(manager.get_connection()).await.map_err(|error| DbErr::Migration(error.to_string()))
    }
}

const FIRST: &str = r#"
-- A process that writes. `epoch` changes when another takes its work over; every group checks it.
create table writer (
  id smallint primary key, epoch bigint not null, lease_until bigint not null,
  process text not null, started bigint not null
);
create table shard (no smallint primary key, writer smallint not null);
insert into shard select n, 0 from generate_series(0, 63) n;

create table release (
  no bigint primary key, digest text not null, files bytea not null, at bigint not null, by_whom text not null
);

create table arrival (
  id bigint primary key, connection text not null, partner text not null, name text not null,
  verdict text not null, says text not null, size bigint not null, digest text not null,
  messages int not null, received bigint not null, by_whom text not null
) partition by range (id);

-- Bytes of arrivals, and of documents of our own; `packed` says that zstd was used.
create table body (
  id bigint not null, piece int not null, packed boolean not null, bytes bytea not null, primary key (id, piece)
) partition by range (id);

create table unfolding (
  arrival bigint primary key, release bigint not null, cursor int not null, parts bytea not null
);

-- What was seen before: fingerprints of files, delivery ids, causes that people were told of.
create table seen (
  scope text not null, key text not null, arrival bigint not null, at bigint not null, primary key (scope, key)
);

create table live (
  id bigint primary key, arrival bigint not null, body bigint not null, slice_from bigint not null, slice_to bigint not null,
  flow text not null, release bigint not null, shard smallint not null, partner text not null, head bytea not null,
  key text not null, result text not null, order_key text not null,
  state text not null, step text not null, tries int not null, due bigint not null, waits_for text not null,
  reason bigint not null, says text not null, at bigint not null
) with (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02);
create index live_key on live (key);

create table message (
  id bigint primary key, arrival bigint not null, body bigint not null, slice_from bigint not null, slice_to bigint not null,
  flow text not null, release bigint not null, partner text not null, head bytea not null,
  key text not null, result text not null, order_key text not null,
  state text not null, step text not null, says text not null, at bigint not null
) partition by range (id);
create index message_key on message (key);
create index message_arrival on message (arrival);

create table log (
  message bigint not null, seq int not null, at bigint not null, packed boolean not null, entry bytea not null,
  primary key (message, seq)
) partition by range (message);

create table reason (
  id bigint primary key, flow text not null, step text not null, connection text not null, code text not null, says text not null
);

create table fact (
  id bigint not null, course text not null, partner text not null, key text not null, milestone text not null,
  mark text not null, message bigint not null, arrival bigint not null, at bigint not null
);
-- By the writer in the id, then the id: a cursor for each writer follows its facts in the order of its commits.
create unique index fact_writer on fact (((id >> 12) & 1023), id);
create index fact_trail on fact (course, partner, key) where key <> '';
create index fact_arrival on fact (arrival) where key = '';

create table trail (
  course text not null, partner text not null, key text not null, arrival bigint not null, state text not null,
  begun bigint not null, last bigint not null, milestones bytea not null, primary key (course, partner, key)
);
create index trail_last on trail (last);
create index trail_arrival on trail (arrival);
create table trail_cursor (writer smallint primary key, fact bigint not null);

create table ledger (
  id bigint primary key, direction text not null, sender text not null, receiver text not null, usage text not null,
  control text not null, digest text not null, arrival bigint not null, message bigint not null, answers text not null, at bigint not null
);
create unique index ledger_key on ledger (direction, sender, receiver, usage, control);
create index ledger_arrival on ledger (arrival);

create table counter (scope text primary key, value bigint not null);

create table hold (connection text primary key, says text not null, since bigint not null);

create table tally (
  hour bigint not null, flow text not null, step text not null, outcome text not null, writer smallint not null,
  n bigint not null, took bigint not null, primary key (hour, flow, step, outcome, writer)
);

create table audit (
  id bigint primary key, at bigint not null, by_whom text not null, act text not null, subject bigint not null, why text not null
);

-- One row a group: proof of the commit, and what the live stream tells.
create table feed (
  writer smallint not null, group_no bigint not null, at bigint not null, packed boolean not null, events bytea not null,
  primary key (writer, group_no)
);
create index feed_at on feed (at);
"#;

const LEANER: &str = r#"
-- What is compressed already is not compressed again.
alter table body alter column bytes set storage external;
alter table log alter column entry set storage external;
alter table feed alter column events set storage external;
alter table release alter column files set storage external;
alter table unfolding alter column parts set storage external;

-- Keys are compared byte by byte: faster, and in the same order whatever the locale of the database.
drop index fact_trail;
alter table fact alter column course type text collate "C", alter column partner type text collate "C", alter column key type text collate "C";
create index fact_trail on fact (key, partner, course);
alter table trail alter column course type text collate "C", alter column partner type text collate "C", alter column key type text collate "C";

-- Trails are found by key and listed by their begin, which never changes: so no index stands in the way of an update.
alter table trail drop constraint trail_pkey, add primary key (key, partner, course), set (fillfactor = 60, autovacuum_vacuum_scale_factor = 0.05);
drop index trail_last;
create index trail_begun on trail (begun, key);

alter table live alter column key type text collate "C";
alter table message alter column key type text collate "C";
alter table seen alter column scope type text collate "C", alter column key type text collate "C";
alter table ledger alter column sender type text collate "C", alter column receiver type text collate "C", alter column control type text collate "C";
alter table counter alter column scope type text collate "C";
"#;

const DELIVERIES: &str = r#"
alter table arrival add column event text not null default '';
-- Of a delivery: what it said, so that the same id with other content is told from a repeat.
alter table seen add column digest text not null default '';

-- What each connection has told of, by the sender's own names; the newest arrival is a sample.
create table heard (
  connection text not null collate "C", event text not null collate "C", n bigint not null, last bigint not null,
  arrival bigint not null, primary key (connection, event)
) with (fillfactor = 70);

-- Sealed by the key in the service's state folder. Until `until` the value before it is as good.
create table secret (
  name text primary key collate "C", value bytea not null, before bytea not null, until bigint not null,
  at bigint not null, by_whom text not null
);
"#;

const HELD_BY_PEOPLE: &str = "alter table hold add column by_whom text not null default ''";

/// What a broker told of an arrival beside its body, as a JSON object; empty when nothing.
const TOLD: &str = "alter table arrival add column told text not null default ''";

const SAID: &str = "alter table release add column says text not null default ''";

const TOGETHER: &str = r#"
-- Changes when the process gives shards away.
alter table writer add column turn bigint not null default 0;
-- Of whose process an unfolding is; one whose process has ended is taken over.
alter table unfolding add column writer smallint not null default 0;
-- What one process alone may do, such as reading a folder.
create table lease (name text primary key collate "C", writer smallint not null);
-- Messages made by one process in the shard of another, in the order of commits; taken out as they are taken up.
create table handed (seq bigserial primary key, shard smallint not null, message bigint not null);
-- Acts of people on messages of another process's; `act` and `answer` as JSON.
create table errand (
  id bigint primary key, message bigint not null, shard smallint not null, act bytea not null, by_whom text not null,
  why text not null, taken boolean not null default false, answer text not null default ''
);
-- Their shard is that of their key, which the next start works out.
update live set shard = -1 where order_key <> '';
"#;

const RECORDED: &str = r#"
-- How much is recorded of a flow until then, whatever the flow says.
create table recording (
  flow text primary key collate "C", depth text not null, until bigint not null, by_whom text not null
);
"#;

const DRAFTS: &str = r#"
-- Files of the workspace as people would have them, until somebody takes them into the folder.
create table draft (
  file text primary key collate "C", text text not null, by_whom text not null, at bigint not null
);
"#;

/// Of one scope there are many keys: what is told apart by its first column is told apart sooner.
const SEEN_BY_KEY: &str = "alter table seen drop constraint seen_pkey, add primary key (key, scope)";

const SPOOL: &str = r#"
-- Calls in a rush, many in a row and as they came, until they are taken: few rows, short-lived.
create table spool (id bigint primary key, writer smallint not null, packed boolean not null, calls bytea not null);
alter table spool alter column calls set storage external;
"#;

/// How often a process has taken up a message that it did not have, since something of it was last committed.
const PICKED_UP: &str = "alter table live add column picked_up smallint not null default 0";

const CAPTURES: &str = r#"
-- Temporary addresses (connection is empty) and taps on exchanges, with the newest of what arrived there; `told` as JSON.
create table capture (
  name text primary key collate "C", connection text not null, exchange text not null, pattern text not null,
  until bigint not null, by_whom text not null
);
create table captured (
  capture text not null collate "C", n bigint not null, at bigint not null, line text not null, told text not null,
  body bytea not null, primary key (capture, n)
);
"#;

/// Acts on many messages: `messages` are their ids in order, `position` how many of them have been acted on, `owner` the
/// process that does it, 0 for none.
const BULK_ACTS: &str = r#"
create table bulk_act (
  id bigint primary key, act text not null, answers text not null, reason text not null, says text not null, why text not null,
  by_whom text not null, messages bigint[] not null, position bigint not null, done bigint not null, refused bigint not null, refusals text not null,
  state text not null, owner bigint not null, started bigint not null, seen bigint not null, ended bigint not null
);
"#;

/// Tables partitioned by the day of an id, with the column that holds it.
pub const BY_DAY: [&str; 4] = ["arrival", "body", "message", "log"];
