//! The tables, as a list of migrations.
//!
//! `live` holds unfinished messages and is small; `message`, `log`, `body` and `arrival` are history, partitioned by the day of
//! their id and only appended to. Times are microseconds since 1970, 0 for none. No column is NULL, since the grouped statements
//! pass arrays. Keys are compared byte by byte (collation "C"): faster, and in the same order whatever the database's locale.

use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, DatabaseConnection};
use sea_orm_migration::prelude::*;

/// Every migration, oldest first.
#[derive(Debug)]
pub struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(Step { name: "m001_tables", text: TABLES }),
            Box::new(Step { name: "m002_bulk_release", text: BULK_RELEASE }),
            Box::new(Step { name: "m003_order_done", text: ORDER_DONE }),
            Box::new(Step { name: "m004_bulk_correction", text: BULK_CORRECTION }),
            Box::new(Step { name: "m005_reason_seen", text: REASON_SEEN }),
            Box::new(Step { name: "m006_assignment", text: ASSIGNMENT }),
            Box::new(Step { name: "m007_acts", text: ACTS }),
        ]
    }
}

/// Creates the tables, or migrates them from an earlier version.
///
/// # Errors
/// [`JournalError::OtherVersion`] when the database has migrations that this version does not know.
pub async fn prepare(db: &DatabaseConnection) -> Result<(), JournalError> {
    let known = Migrator::migrations();
    let exists = "select to_regclass('seaql_migrations') is not null";
    let exists = db.query_one_raw(sql(exists, [])).await?.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or(false);
    if exists {
        let names: Vec<String> = known.iter().map(|one| one.name().to_owned()).collect();
        let others =
            "select coalesce(string_agg(version, ', ' order by version), '') from seaql_migrations where version <> all($1)";
        let others: String = db
            .query_one_raw(sql(others, [names.into()]))
            .await?
            .map(|row| row.try_get_by_index(0))
            .transpose()?
            .unwrap_or_default();
        if !others.is_empty() {
            return Err(JournalError::OtherVersion(others));
        }
    }
    Ok(Migrator::up(db, None).await?)
}

/// One migration: the statements from the previous version to the next.
struct Step {
    name: &'static str,
    text: &'static str,
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

const TABLES: &str = r#"
-- A process that writes. `epoch` changes when another takes its work over; every group checks it. `turn` changes when the
-- process gives shards away.
create table writer (
  id smallint primary key, epoch bigint not null, lease_until bigint not null, process text not null, started bigint not null,
  turn bigint not null default 0
);
create table shard (no smallint primary key, writer smallint not null);
insert into shard select n, 0 from generate_series(0, 63) n;

-- What one process alone may do, such as reading a folder.
create table lease (name text primary key collate "C", writer smallint not null);

create table release (
  no bigint primary key, digest text not null, files bytea not null, at bigint not null, by_whom text not null,
  says text not null default ''
);

-- `properties`: headers and properties beside the body, as a JSON object; empty without any.
create table arrival (
  id bigint primary key, connection text not null, partner text not null, name text not null,
  verdict text not null, says text not null, size bigint not null, digest text not null,
  messages int not null, received bigint not null, by_whom text not null, event text not null default '', properties text not null default ''
) partition by range (id);

-- Bytes of arrivals, and of documents of our own; `packed` says that zstd was used.
create table body (
  id bigint not null, piece int not null, packed boolean not null, bytes bytea not null, primary key (id, piece)
) partition by range (id);

-- Arrivals whose messages are still being made, by the process that makes them; another takes over when that has ended.
create table splitting (
  arrival bigint primary key, release bigint not null, cursor int not null, parts bytea not null, writer smallint not null default 0
);

-- What was seen before: fingerprints of files, delivery ids, causes that people were notified of. Of one scope there are many keys,
-- so the key comes first. `digest`, of a delivery: the same id with other content is not a duplicate.
create table seen (
  scope text not null collate "C", key text not null collate "C", arrival bigint not null, at bigint not null,
  digest text not null default '', primary key (key, scope)
);

-- `picked_up`: how often a process has taken up a message that it did not have, since something of it was last committed.
create table live (
  id bigint primary key, arrival bigint not null, body bigint not null, slice_from bigint not null, slice_to bigint not null,
  flow text not null, release bigint not null, shard smallint not null, partner text not null, head bytea not null,
  key text not null collate "C", result text not null, order_key text not null,
  state text not null, step text not null, tries int not null, due bigint not null, waits_for text not null,
  reason bigint not null, says text not null, at bigint not null, picked_up smallint not null default 0
) with (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02);
create index live_key on live (key);

create table message (
  id bigint primary key, arrival bigint not null, body bigint not null, slice_from bigint not null, slice_to bigint not null,
  flow text not null, release bigint not null, partner text not null, head bytea not null,
  key text not null collate "C", result text not null, order_key text not null,
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
  id bigint not null, plan text not null collate "C", partner text not null collate "C", key text not null collate "C",
  milestone text not null, mark text not null, message bigint not null, arrival bigint not null, at bigint not null
);
-- By the writer in the id, then the id: a cursor for each writer follows its facts in the order of its commits.
create unique index fact_writer on fact (((id >> 12) & 1023), id);
create index fact_timeline on fact (key, partner, plan);
create index fact_arrival on fact (arrival) where key = '';

-- Timelines are found by key and listed by their begin, which never changes: so no index slows an update down.
create table timeline (
  plan text not null collate "C", partner text not null collate "C", key text not null collate "C", arrival bigint not null,
  state text not null, begun bigint not null, last bigint not null, milestones bytea not null, primary key (key, partner, plan)
) with (fillfactor = 60, autovacuum_vacuum_scale_factor = 0.05);
create index timeline_arrival on timeline (arrival);
create index timeline_begun on timeline (begun, key);
create table timeline_cursor (writer smallint primary key, fact bigint not null);

create table ledger (
  id bigint primary key, direction text not null, sender text not null collate "C", receiver text not null collate "C",
  usage text not null, control text not null collate "C", digest text not null, arrival bigint not null, message bigint not null,
  answers text not null, at bigint not null
);
create unique index ledger_key on ledger (direction, sender, receiver, usage, control);
create index ledger_arrival on ledger (arrival);

create table counter (scope text primary key collate "C", value bigint not null);

create table hold (
  connection text primary key, says text not null, since bigint not null, by_whom text not null default ''
);

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

-- Events received by each connection, by the sender's own names; the newest arrival is a sample.
create table heard (
  connection text not null collate "C", event text not null collate "C", n bigint not null, last bigint not null,
  arrival bigint not null, primary key (connection, event)
) with (fillfactor = 70);

-- Sealed by the key in the service's state folder. Until `until` the value before it is as good.
create table secret (
  name text primary key collate "C", value bytea not null, before bytea not null, until bigint not null,
  at bigint not null, by_whom text not null
);

-- Messages made by one process in the shard of another, in the order of commits; taken out as they are taken up.
create table handed (seq bigserial primary key, shard smallint not null, message bigint not null);
-- Acts of people on messages of another process's; `act` and `answer` as JSON.
create table remote_act (
  id bigint primary key, message bigint not null, shard smallint not null, act bytea not null, by_whom text not null,
  why text not null, taken boolean not null default false, answer text not null default ''
);

-- How much is recorded of a flow until then, whatever the flow says.
create table recording (
  flow text primary key collate "C", depth text not null, until bigint not null, by_whom text not null
);

-- Files of the workspace as people would have them, until somebody takes them into the folder.
create table draft (
  file text primary key collate "C", text text not null, by_whom text not null, at bigint not null
);

-- Calls in a rush, many per row and unchanged, until they are processed: few rows, short-lived.
create table spool (id bigint primary key, writer smallint not null, packed boolean not null, calls bytea not null);

-- Temporary addresses (connection is empty) and taps on exchanges, with their newest items; `properties` is JSON.
create table capture (
  name text primary key collate "C", connection text not null, exchange text not null, pattern text not null,
  until bigint not null, by_whom text not null
);
create table captured (
  capture text not null collate "C", n bigint not null, at bigint not null, line text not null, properties text not null,
  body bytea not null, primary key (capture, n)
);

-- Acts on many messages: `messages` are their ids in order, `position` how many of them have been acted on, `owner` the claim of the
-- process that does it, 0 for none.
create table bulk_act (
  id bigint primary key, act text not null, answers text not null, reason text not null, says text not null, why text not null,
  by_whom text not null, messages bigint[] not null, position bigint not null, done bigint not null, refused bigint not null,
  refusals text not null,  state text not null, owner bigint not null, started bigint not null, seen bigint not null, ended bigint not null
);

-- What is compressed already is not compressed again.
alter table body alter column bytes set storage external;
alter table log alter column entry set storage external;
alter table feed alter column events set storage external;
alter table release alter column files set storage external;
alter table splitting alter column parts set storage external;
alter table spool alter column calls set storage external;
"#;

/// The release that a bulk resend runs; 0 when none was named.
const BULK_RELEASE: &str = "alter table bulk_act add release bigint not null default 0";

/// The state of an order at its end is `done`, as that of a message.
const ORDER_DONE: &str = "update timeline set state = 'done' where state = 'ended'";

/// The correction of a bulk amendment as JSON; empty for other acts.
const BULK_CORRECTION: &str = "alter table bulk_act add correction text not null default ''";

/// When a reason was first and last seen. The first time stays through resends, until the reason has been away for a day.
const REASON_SEEN: &str = r#"
alter table reason add first bigint not null default 0, add last bigint not null default 0;
update reason set first = seen.first, last = seen.last
  from (select reason, min(at) as first, max(at) as last from live where state = 'failed' group by reason) seen
  where seen.reason = reason.id;
"#;

/// Who works on what needs attention.
const ASSIGNMENT: &str = r#"
create table assignment (
  kind text not null, name text not null collate "C", to_whom text not null, note text not null, by_whom text not null,
  at bigint not null, primary key (kind, name)
);
"#;

/// Acts of people have the words of the API. The newest are listed.
const ACTS: &str = r#"
update audit set act = case act when 'looked' then 'probed' when 'freed' then 'resumed' when 'asked' then 'called'
  when 'set' then 'secret-set' when 'changed' then 'secret-changed' when 'removed' then 'secret-removed' else act end
  where act in ('looked', 'freed', 'asked', 'set', 'changed', 'removed');
create index audit_subject on audit (subject);
"#;

/// Tables partitioned by the day of an id, with the column that holds it.
pub const BY_DAY: [&str; 4] = ["arrival", "body", "message", "log"];
