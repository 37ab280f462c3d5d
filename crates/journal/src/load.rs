//! Reads stored records back, and implements the engine's `Journal`.

use crate::error::JournalError;
use crate::group::HeadColumn;
use crate::pack::{pack, pieces, unpack};
use crate::query::unpacked;
use crate::writer::{PgJournal, sql};
use sea_orm::{ConnectionTrait, FromQueryResult, QueryResult};
use serde_json::Map;
use std::collections::{BTreeSet, HashMap};
use std::ops::Range;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{Claim, LogEntry, Origin, State};
use wirewatch_core::workspace::Files;
use wirewatch_core::{ArrivalId, Digest, Id, MessageId, Timestamp};
use wirewatch_engine::{
    Arriving, Damaged, Down, Hold, Journal, NotActed, Op, OpResult, Others, Piece, Recovered, RemoteAct, Shards, SplitRow,
    Spooled, Stored, Taken,
};

/// Bytes of a body in one row, before compression.
pub const PIECE: usize = 1 << 20;

/// Stores one piece of a body. Storing it again changes nothing.
pub async fn store_piece(db: &impl ConnectionTrait, id: Id, piece: u32, bytes: &[u8]) -> Result<(), JournalError> {
    let (packed, bytes) = pack(bytes);
    let text = "insert into body values ($1, $2, $3, $4) on conflict do nothing";
    db.execute_raw(sql(text, [id.0.into(), (piece as i32).into(), packed.into(), bytes.into()])).await?;
    Ok(())
}

/// Reads ranges of bodies, in the order of the request. Bytes beyond the end of a body are left out.
pub async fn body_ranges(
    db: &impl ConnectionTrait,
    wanted: &[(Id, Range<u64>)],
) -> Result<Vec<Result<Vec<u8>, Damaged>>, JournalError> {
    let bodies = Bodies::fetch(db, wanted).await?;
    Ok(wanted.iter().map(|(id, range)| bodies.range(*id, range)).collect())
}

/// Ranges of bodies that are all there; what is missing is damage.
async fn whole_ranges(
    db: &impl ConnectionTrait,
    wanted: &[(Id, Range<u64>)],
) -> Result<Vec<Result<Vec<u8>, Damaged>>, JournalError> {
    let mut found = body_ranges(db, wanted).await?;
    for (found, (_, range)) in found.iter_mut().zip(wanted) {
        let size = range.end.saturating_sub(range.start);
        if let Ok(bytes) = found
            && bytes.len() as u64 != size
        {
            *found = Err(Damaged::new(format!("{} of the {size} bytes of its document are there", bytes.len())));
        }
    }
    Ok(found)
}

/// Pieces of bodies, fetched at once.
struct Bodies {
    pieces: HashMap<(i64, i32), Result<Vec<u8>, Damaged>>,
}

fn pieces_of(range: &Range<u64>) -> std::ops::RangeInclusive<i32> {
    let last = range.end.saturating_sub(1).max(range.start);
    (range.start / PIECE as u64) as i32..=(last / PIECE as u64) as i32
}

impl Bodies {
    async fn fetch(db: &impl ConnectionTrait, wanted: &[(Id, Range<u64>)]) -> Result<Self, JournalError> {
        let keys: BTreeSet<(i64, i32)> =
            wanted.iter().flat_map(|(id, range)| pieces_of(range).map(move |piece| (id.0, piece))).collect();
        let (first, last) = (keys.first().map_or(0, |key| key.0), keys.last().map_or(0, |key| key.0));
        let (ids, pieces): (Vec<i64>, Vec<i32>) = keys.into_iter().unzip();
        // The bounds of the ids restrict the query to their days: planning the other partitions takes longer than reading.
        let text = "select b.id, b.piece, b.packed, b.bytes
            from unnest($1::bigint[], $2::int[]) as u(id, piece) join body b on b.id = u.id and b.piece = u.piece
            where b.id between $3 and $4";
        let mut found = HashMap::new();
        for row in db.query_all_raw(sql(text, [ids.into(), pieces.into(), first.into(), last.into()])).await? {
            let piece: i32 = row.try_get_by_index(1)?;
            let bytes = unpack(row.try_get_by_index(2)?, row.try_get_by_index(3)?);
            let bytes = bytes.map_err(|error| Damaged::new(format!("piece {piece} of its document cannot be read: {error}")));
            found.insert((row.try_get_by_index(0)?, piece), bytes);
        }
        Ok(Self { pieces: found })
    }

    /// The bytes of a range; what is not stored is left out.
    fn range(&self, id: Id, range: &Range<u64>) -> Result<Vec<u8>, Damaged> {
        let mut bytes = Vec::new();
        for piece in pieces_of(range) {
            let Some(stored) = self.pieces.get(&(id.0, piece)) else { continue };
            let stored = stored.as_ref().map_err(Clone::clone)?;
            let base = piece as u64 * PIECE as u64;
            let from = (range.start.saturating_sub(base) as usize).min(stored.len());
            let to = (range.end.saturating_sub(base) as usize).min(stored.len());
            bytes.extend_from_slice(&stored[from..to]);
        }
        Ok(bytes)
    }
}

#[derive(FromQueryResult)]
struct OriginRow {
    id: i64,
    arrival: i64,
    body: i64,
    slice_from: i64,
    slice_to: i64,
    flow: String,
    release: i64,
    head: Vec<u8>,
}

impl OriginRow {
    /// With what is wrong with its head, of which nothing is known then.
    fn origin(self) -> (Origin, Option<String>) {
        let head: Result<HeadColumn, _> = serde_json::from_slice(&self.head);
        let wrong = head.as_ref().err().map(|error| format!("what is known of its arrival cannot be read: {error}"));
        let (form, meta) = head.map_or_else(|_| (Form::Bytes, Map::new()), |head| (head.form, head.meta));
        let origin = Origin {
            id: Id(self.id),
            arrival: Id(self.arrival),
            body: Id(self.body),
            slice: self.slice_from as u64..self.slice_to as u64,
            flow: self.flow,
            release: self.release,
            form,
            meta,
        };
        (origin, wrong)
    }
}

/// The log of a message, as far as it can be read.
#[derive(Default)]
struct Log {
    entries: Vec<LogEntry>,
    rows: u32,
    wrong: Option<String>,
}

impl Log {
    fn add(&mut self, seq: i32, packed: bool, entry: Vec<u8>) {
        let read = unpack(packed, entry).map_err(|error| error.to_string());
        let read = read.and_then(|entry| serde_json::from_slice(&entry).map_err(|error| error.to_string()));
        let wrong = match read {
            _ if seq != self.rows as i32 => Some(format!("entry {} of its log is missing", self.rows)),
            Ok(entry) => {
                self.entries.push(entry);
                None
            }
            Err(error) => Some(format!("entry {seq} of its log cannot be read: {error}")),
        };
        self.wrong = self.wrong.take().or(wrong);
        self.rows = seq.unsigned_abs() + 1;
    }
}

/// Messages with document and log.
pub async fn messages(db: &impl ConnectionTrait, ids: &[MessageId]) -> Result<Vec<Stored>, JournalError> {
    let ids: Vec<i64> = ids.iter().map(|id| id.0).collect();
    let columns = "id, arrival, body, slice_from, slice_to, flow, release, head";
    let text = format!(
        "select {columns} from live where id = any($1::bigint[]) union all select {columns} from message where id = any($1::bigint[])"
    );
    let rows = OriginRow::find_by_statement(sql(&text, [ids.clone().into()])).all(db).await?;
    let text = "select message, seq, packed, entry from log where message = any($1::bigint[]) order by message, seq";
    let mut logs: HashMap<i64, Log> = HashMap::new();
    for row in db.query_all_raw(sql(text, [ids.into()])).await? {
        let log = logs.entry(row.try_get_by_index(0)?).or_default();
        log.add(row.try_get_by_index(1)?, row.try_get_by_index(2)?, row.try_get_by_index(3)?);
    }
    let origins: Vec<(Origin, Option<String>)> = rows.into_iter().map(OriginRow::origin).collect();
    let wanted: Vec<(Id, Range<u64>)> = origins.iter().map(|(origin, _)| (origin.body, origin.slice.clone())).collect();
    let bodies = whole_ranges(db, &wanted).await?;
    let stored = origins.into_iter().zip(bodies).map(|((origin, wrong), document)| {
        let log = logs.remove(&origin.id.0).unwrap_or_default();
        // A damaged record stops its own message only.
        let wrong = wrong.or(log.wrong).or_else(|| document.as_ref().err().map(|damaged| damaged.says.clone()));
        Stored {
            damaged: wrong.map(|says| Damaged { says, logged: log.rows }),
            document: document.unwrap_or_default(),
            log: log.entries,
            origin: Arc::new(origin),
        }
    });
    Ok(stored.collect())
}

/// Splittings of a writer; only those of some arrivals, where they are named.
async fn splittings(db: &impl ConnectionTrait, writer: i16, only: Option<&[ArrivalId]>) -> Result<Vec<SplitRow>, JournalError> {
    let columns = "select arrival, release, cursor, parts from splitting where writer = $1";
    let statement = match only {
        None => sql(&format!("{columns} order by arrival"), [writer.into()]),
        Some(only) => {
            let ids: Vec<i64> = only.iter().map(|id| id.0).collect();
            sql(&format!("{columns} and arrival = any($2::bigint[]) order by arrival"), [writer.into(), ids.into()])
        }
    };
    let mut found = Vec::new();
    for row in db.query_all_raw(statement).await? {
        let arrival = Id(row.try_get_by_index(0)?);
        let parts = unpack(true, row.try_get_by_index(3)?).map_err(JournalError::from);
        let (release, cursor) = (row.try_get_by_index(1)?, row.try_get_by_index::<i32>(2)? as u32);
        match parts.and_then(|parts| Ok(serde_json::from_slice(&parts)?)) {
            Ok(splitting) => found.push(SplitRow { arrival, release, splitting, cursor }),
            Err(error) => cannot_be_split(db, arrival, cursor, &error).await?,
        }
    }
    Ok(found)
}

/// Fails an arrival whose parts cannot be read: its existing messages continue, and a person looks at the rest.
async fn cannot_be_split(
    db: &impl ConnectionTrait,
    arrival: ArrivalId,
    cursor: u32,
    error: &JournalError,
) -> Result<(), JournalError> {
    let says = format!("damaged: {cursor} messages were made of it, and the rest is not known: {error}");
    tracing::error!(%arrival, %says, "an arrival cannot be split any further; its bytes stay stored");
    let text =
        "with gone as (delete from splitting where arrival = $1) update arrival set verdict = 'failed', says = $2 where id = $1";
    db.execute_raw(sql(text, [arrival.0.into(), says.into()])).await?;
    Ok(())
}

/// Columns of `live` that [`recovered`] reads, in that order.
pub const FOUND: &str =
    "live.id, live.flow, live.order_key, live.state, live.due, live.slice_to - live.slice_from, live.key, live.picked_up";

/// An unfinished message, from [`FOUND`].
pub fn recovered(row: &QueryResult) -> Result<Recovered, JournalError> {
    let state: String = row.try_get_by_index(3)?;
    let due: i64 = row.try_get_by_index(4)?;
    Ok(Recovered {
        id: Id(row.try_get_by_index(0)?),
        size: row.try_get_by_index::<i64>(5)?.unsigned_abs(),
        flow: row.try_get_by_index(1)?,
        key: row.try_get_by_index(6)?,
        order_key: row.try_get_by_index(2)?,
        // Its log has the true state: the message is loaded and continues from there.
        state: State::parse(&state).unwrap_or(State::Running),
        due: (due != 0).then_some(Timestamp(due)),
        picked_up: row.try_get_by_index::<i16>(7)?.unsigned_abs(),
    })
}

/// Reads all holds.
pub async fn holds(db: &impl ConnectionTrait) -> Result<Vec<Hold>, JournalError> {
    let rows = db.query_all_raw(sql("select connection, since, says, by_whom from hold", [])).await?;
    let hold = |row: &QueryResult| {
        Ok(Hold {
            connection: row.try_get_by_index(0)?,
            since: Timestamp(row.try_get_by_index(1)?),
            says: row.try_get_by_index(2)?,
            by: row.try_get_by_index(3)?,
        })
    };
    rows.iter().map(hold).collect()
}

/// Reads the files of a release; `None` where there is no such release, or its record is damaged.
pub async fn release(db: &impl ConnectionTrait, no: i64) -> Result<Option<Files>, JournalError> {
    match db.query_one_raw(sql("select files from release where no = $1", [no.into()])).await? {
        None => Ok(None),
        Some(row) => Ok(unpacked(row.try_get_by_index(0)?).ok()),
    }
}

impl Journal for PgJournal {
    async fn commit(&self, no: u64, ops: &[Op]) -> Result<Vec<OpResult>, Down> {
        Ok(self.commit_group(no, ops).await?)
    }

    async fn take(&self, batch: Vec<Arriving>) -> Result<Vec<Taken>, Down> {
        Ok(self.take_batch(&batch).await?)
    }

    async fn taken(&self, id: ArrivalId) -> Result<Option<Taken>, Down> {
        Ok(self.taken_before(id).await?)
    }

    fn pieces(&self, body: &[u8]) -> Vec<Piece> {
        pieces(body)
    }

    async fn spool(&self, spooled: &Spooled) -> Result<(), Down> {
        Ok(self.keep_calls(spooled).await?)
    }

    async fn spooled(&self, id: Id) -> Result<Option<Spooled>, Down> {
        Ok(self.spooled_calls(id).await?)
    }

    async fn spools(&self) -> Result<Vec<Id>, Down> {
        let ids = self.all_spooled().await?;
        self.mark_reported(ids.iter().copied());
        Ok(ids)
    }

    async fn unspool(&self, ids: &[Id]) -> Result<(), Down> {
        Ok(self.drop_spooled(ids).await?)
    }

    async fn store_piece(&self, id: ArrivalId, piece: u32, bytes: Vec<u8>) -> Result<(), Down> {
        Ok(store_piece(&self.db, id, piece, &bytes).await?)
    }

    async fn bodies(&self, wanted: &[(Id, Range<u64>)]) -> Result<Vec<Result<Vec<u8>, Damaged>>, Down> {
        Ok(whole_ranges(&self.db, wanted).await?)
    }

    async fn load(&self, ids: &[MessageId]) -> Result<Vec<Stored>, Down> {
        Ok(messages(&self.db, ids).await?)
    }

    async fn pick_up(&self, ids: &[MessageId]) -> Result<(), Down> {
        let ids: Vec<i64> = ids.iter().map(|id| id.0).collect();
        let text = "update live set picked_up = picked_up + 1 where id = any($1::bigint[])";
        self.db.execute_raw(sql(text, [ids.into()])).await.map_err(JournalError::from)?;
        Ok(())
    }

    async fn unfinished(&self, shards: Shards, after: MessageId, limit: u32) -> Result<Vec<Recovered>, Down> {
        let text = format!("select {FOUND} from live where id > $1 and shard = any($3::int[]) order by id limit $2");
        let read = async {
            let numbers: Vec<i32> = shards.iter().map(i32::from).collect();
            let values = [after.0.into(), i64::from(limit).into(), numbers.into()];
            self.db.query_all_raw(sql(&text, values)).await?.iter().map(recovered).collect::<Result<Vec<_>, JournalError>>()
        };
        Ok(read.await?)
    }

    async fn claim(&self, claim: &Claim, teller: Digest, now: Timestamp) -> Result<bool, Down> {
        let claimed = async {
            let since = now.0 - i64::try_from(claim.within.as_micros()).unwrap_or(i64::MAX);
            let text = "insert into seen as known (scope, key, arrival, at) values ('notified', $1, $2, $3)
                on conflict (scope, key) do update set
                  arrival = case when known.at < $4 then excluded.arrival else known.arrival end,
                  at = case when known.at < $4 then excluded.at else known.at end
                returning arrival";
            let (cause, teller) = (claim.cause.to_string(), teller.short());
            let row = self.db.query_one_raw(sql(text, [cause.into(), teller.into(), now.0.into(), since.into()])).await?;
            let first: i64 = row.map_or(Ok(0), |row| row.try_get_by_index(0))?;
            Ok::<_, JournalError>(first == teller)
        };
        Ok(claimed.await?)
    }

    async fn settle_claim(&self, claim: &Claim, teller: Digest, notified: bool) -> Result<(), Down> {
        // No effect has the key 0.
        let text = match notified {
            true => "update seen set arrival = 0 where scope = 'notified' and key = $1 and arrival = $2",
            false => "delete from seen where scope = 'notified' and key = $1 and arrival = $2",
        };
        let result = self.db.execute_raw(sql(text, [claim.cause.to_string().into(), teller.short().into()])).await;
        result.map(drop).map_err(|error| JournalError::from(error).into())
    }

    async fn splittings(&self) -> Result<Vec<SplitRow>, Down> {
        let rows = splittings(&self.db, self.writer(), None).await?;
        self.mark_reported(rows.iter().map(|row| row.arrival));
        Ok(rows)
    }

    async fn splitting(&self, arrivals: &[ArrivalId]) -> Result<Vec<SplitRow>, Down> {
        Ok(splittings(&self.db, self.writer(), Some(arrivals)).await?)
    }

    async fn holds(&self) -> Result<Vec<Hold>, Down> {
        Ok(holds(&self.db).await?)
    }

    fn shards(&self) -> Shards {
        self.me().shards
    }

    async fn others(&self) -> Result<Others, Down> {
        Ok(self.look_at_others().await?)
    }

    async fn gained(&self, shards: Shards) -> Result<(), Down> {
        Ok(self.take_shards(shards).await?)
    }

    async fn give_away(&self, shards: Shards, to: i16) -> Result<(), Down> {
        Ok(self.give_shards(shards, to).await?)
    }

    async fn ask(&self, remote_act: &RemoteAct) -> Result<Result<(), NotActed>, Down> {
        Ok(self.send_remote_act(remote_act).await?)
    }

    async fn answer(&self, remote_act: Id, answer: Result<(), NotActed>) -> Result<(), Down> {
        Ok(self.tell_remote_act(remote_act, &answer).await?)
    }

    async fn lease(&self, name: &str) -> Result<bool, Down> {
        Ok(self.take_lease(name).await?)
    }

    async fn release(&self, no: i64) -> Result<Option<Files>, Down> {
        Ok(release(&self.db, no).await?)
    }

    fn mint(&self, now: Timestamp) -> Id {
        self.next_id(now)
    }

    fn mint_message(&self, now: Timestamp) -> MessageId {
        self.next_message(now)
    }
}
