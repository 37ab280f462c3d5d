//! Keeps partitions: one a day for each table of history, made ahead, so that writing never meets a missing one, and
//! dropped whole when it is old.

use crate::error::JournalError;
use crate::schema::BY_DAY;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, DatabaseConnection};
use std::collections::BTreeMap;
use wirewatch_core::{Id, Timestamp};

/// Days made ahead.
pub const AHEAD: i64 = 14;
pub(crate) const DAY_US: i64 = 86_400_000_000;

/// Makes the partitions from yesterday to [`AHEAD`] days on. Those that exist are left alone.
pub async fn make(db: &DatabaseConnection, now: Timestamp) -> Result<(), JournalError> {
    let today = now.0.div_euclid(DAY_US);
    let mut text = String::new();
    for day in today - 1..=today + AHEAD {
        let (from, to) = (Id::first_of(Timestamp(day * DAY_US)), Id::first_of(Timestamp((day + 1) * DAY_US)));
        let (name, _) = Timestamp(day * DAY_US).x12();
        for table in BY_DAY {
            text.push_str(&format!(
                "create table if not exists {table}_{name} partition of {table} for values from ({}) to ({});\n",
                from.0, to.0
            ));
        }
    }
    db.execute_unprepared(&text).await?;
    Ok(())
}

/// Returns for how many days after today every history table has its partition.
pub async fn ahead(db: &DatabaseConnection, now: Timestamp) -> Result<i64, JournalError> {
    let partitions = partitions(db).await?;
    let made = |day: i64| {
        let (name, _) = Timestamp(day * DAY_US).x12();
        BY_DAY.iter().all(|table| partitions.get(&format!("{table}_{name}")) == Some(&Stands::Attached))
    };
    let today = now.0.div_euclid(DAY_US);
    Ok((1..).take_while(|n| made(today + n)).last().unwrap_or(0))
}

/// Prefix of the scopes of deliveries in `seen`, and for how many days a delivery is recognised by its id: longer than senders
/// retry.
pub const DELIVERY: &str = "delivery ";
const DELIVERIES: i64 = 7;

/// Drops the days of history that ended more than `keep` days ago, with their ledger and `seen` rows. A day with an unfinished
/// message or arrival stays, and all days after it. Returns the dropped tables.
pub async fn drop_old(db: &DatabaseConnection, keep: u32, now: Timestamp) -> Result<Vec<String>, JournalError> {
    let aged = now.0 - i64::from(keep) * DAY_US;
    let text = "select coalesce(least((select min(least(id, arrival, body)) from live), (select min(arrival) from splitting), (select min(id) from spool)), $1)";
    let row = db.query_one_raw(sql(text, [i64::MAX.into()])).await?;
    let needed: i64 = row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or(0);
    let oldest = Id(needed).made().0.min(aged);
    let (oldest, _) = Timestamp(oldest).x12();
    let mut dropped = Vec::new();
    for (name, stands) in partitions(db).await? {
        let Some((table, day)) = name.rsplit_once('_').filter(|(_, day)| *day < oldest.as_str()) else { continue };
        // Beside writers, which never wait for it; one that was cut short is brought to its end.
        let how = match stands {
            Stands::Attached => Some("concurrently"),
            Stands::Detaching => Some("finalize"),
            Stands::Apart => None,
        };
        if let Some(how) = how {
            db.execute_unprepared(&format!("alter table {table} detach partition {table}_{day} {how}")).await?;
        }
        db.execute_unprepared(&format!("drop table {table}_{day}")).await?;
        dropped.push(name);
    }
    db.execute_raw(sql("delete from ledger where at < $1", [aged.into()])).await?;
    db.execute_raw(sql("delete from seen where at < $1", [aged.into()])).await?;
    let old = now.0 - DELIVERIES * DAY_US;
    db.execute_raw(sql("delete from seen where at < $1 and scope like $2", [old.into(), format!("{DELIVERY}%").into()])).await?;
    Ok(dropped)
}

/// Relation of a day's table to its history table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stands {
    Attached,
    /// A detachment was begun and cut short.
    Detaching,
    /// Detached, and not dropped yet.
    Apart,
}

/// The tables of days by name.
async fn partitions(db: &DatabaseConnection) -> Result<BTreeMap<String, Stands>, JournalError> {
    let text = "select c.relname::text, coalesce(i.inhdetachpending::int, 2) from pg_class c
        left join pg_inherits i on i.inhrelid = c.oid
        where c.relnamespace = current_schema()::regnamespace and c.relkind = 'r' and c.relname ~ $1";
    let days = format!("^({})_[0-9]{{8}}$", BY_DAY.join("|"));
    let rows = db.query_all_raw(sql(text, [days.into()])).await?;
    let stands = |code: i32| match code {
        0 => Stands::Attached,
        1 => Stands::Detaching,
        _ => Stands::Apart,
    };
    rows.iter().map(|row| Ok((row.try_get_by_index(0)?, stands(row.try_get_by_index(1)?)))).collect()
}
