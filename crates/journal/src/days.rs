//! Keeps partitions ready: one a day for each table of history, made ahead, so that writing never meets a missing one.

use crate::error::JournalError;
use crate::schema::BY_DAY;
use sea_orm::{ConnectionTrait, DatabaseConnection};
use wirewatch_core::{Id, Timestamp};

/// Days made ahead.
pub const AHEAD: i64 = 14;
const DAY_US: i64 = 86_400_000_000;

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
