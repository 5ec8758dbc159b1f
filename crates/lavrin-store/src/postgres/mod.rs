//! A memory in PostgreSQL (15 or later), which several administrators and collectors share. What its roles may do is in `roles.sql`
//! and in the forms of its tables; nobody but the function `append` writes into the journal.

mod address;
mod health;
mod observations;
mod office;
mod pruning;
mod rows;
mod server;
mod set_up;
mod sightings;
mod tls;

pub(crate) use set_up::{ROLES, set_up};

use crate::chain::{ChainedLine, JournalLine};
use crate::copied::{StorePart, StoreRow, TakeRows};
use crate::fault::StoreResult;
use crate::store::{
    DayOfChange, HostHold, HostRecord, Look, Office, Recorded, Seen, SeenHosts, SightingsOf, Store, StoreFinding,
    StoreNumbers, Stored, checked,
};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::printable;
use lavrin_server::survey::key_use::KeyUse;
use lavrin_server::survey::snapshot::Hash;
use server::PostgresServer;
use std::collections::{HashMap, HashSet};
use tokio_postgres::Row;

/// The newest form of the tables.
const VERSION: i32 = 1;

/// Rows that are fetched at once where there may be very many.
const ROWS_AT_ONCE: i64 = 2000;

/// The open store.
#[derive(Debug)]
pub(crate) struct PostgresStore {
    server: PostgresServer,
}

impl PostgresStore {
    /// Opens the store at this address.
    pub(crate) fn open(url: &str) -> StoreResult<Self> {
        let store = Self { server: PostgresServer::at(url)? };
        set_up::check(&store.server)?;
        Ok(store)
    }

    /// Contents of which the office has none yet. Each is written by itself and at once, so that nobody waits for anybody who keeps
    /// the same; one that nothing names in the end does no harm.
    fn keep_new(&self, contents: &[(Hash, &[u8])]) -> StoreResult<()> {
        let hashes: Vec<&[u8]> = contents.iter().map(|(hash, _)| hash.as_slice()).collect();
        let known = self.server.rows_apart("SELECT hash FROM lavrin.content WHERE hash = ANY($1)", &[&hashes])?;
        let known: HashSet<Vec<u8>> = known.iter().map(|row| row.get(0)).collect();
        let mut new: Vec<&(Hash, &[u8])> =
            contents.iter().filter(|(hash, _)| !known.contains(hash.as_slice())).collect();
        // In one order for everybody, so that no two wait for each other.
        new.sort_unstable_by_key(|(hash, _)| *hash);
        new.dedup_by_key(|(hash, _)| *hash);
        if new.is_empty() {
            return Ok(());
        }
        let hashes: Vec<&[u8]> = new.iter().map(|(hash, _)| hash.as_slice()).collect();
        let bytes: Vec<&[u8]> = new.iter().map(|(_, bytes)| *bytes).collect();
        let sql = "INSERT INTO lavrin.content (hash, bytes) SELECT * FROM unnest($1::bytea[], $2::bytea[])
            ON CONFLICT DO NOTHING";
        self.server.rows_apart(sql, &[&hashes, &bytes]).map(drop)
    }
}

impl PostgresStore {
    /// Hash and bytes of every content, some at once.
    fn pages_of_contents(&self, visit: &mut dyn FnMut(&[Row]) -> StoreResult<()>) -> StoreResult<()> {
        let mut after: Vec<u8> = Vec::new();
        loop {
            let sql = "SELECT hash, bytes FROM lavrin.content WHERE hash > $1 ORDER BY hash LIMIT $2";
            let rows = self.server.rows(sql, &[&after, &ROWS_AT_ONCE])?;
            let Some(last) = rows.last() else { return Ok(()) };
            after = last.get(0);
            visit(&rows)?;
        }
    }
}

impl Store for PostgresStore {
    fn place(&self) -> String {
        self.server.place().to_owned()
    }

    fn kind(&self) -> &'static str {
        "postgresql"
    }

    fn begin(&self) -> StoreResult<()> {
        self.server.begin()
    }

    fn commit(&self) -> StoreResult<()> {
        self.server.commit()
    }

    fn roll_back(&self) {
        self.server.roll_back();
    }

    fn has_begun(&self) -> bool {
        self.server.has_begun()
    }

    fn keep(&self, contents: &[(Hash, &[u8])]) -> StoreResult<()> {
        self.keep_new(contents)
    }

    fn contents(&self, hashes: &[Hash]) -> StoreResult<HashMap<Hash, Vec<u8>>> {
        let names: Vec<&[u8]> = hashes.iter().map(Hash::as_slice).collect();
        let rows = self.server.rows("SELECT hash, bytes FROM lavrin.content WHERE hash = ANY($1)", &[&names])?;
        let content = |row: Row| {
            let name: &[u8] = row.get(0);
            let mut hash = Hash::default();
            if name.len() == hash.len() {
                hash.copy_from_slice(name);
            }
            Ok((hash, checked(self.server.place(), name, row.get(1))?))
        };
        rows.into_iter().map(content).collect()
    }

    fn each_content(&self, visit: &mut dyn FnMut(&[u8], &[u8])) -> StoreResult<()> {
        self.pages_of_contents(&mut |rows| {
            for row in rows {
                visit(row.get(0), row.get(1));
            }
            Ok(())
        })
    }

    fn append(&self, line: &JournalLine) -> StoreResult<()> {
        self.server.rows("SELECT lavrin.append($1, $2, $3)", &[&line.id, &line.time, &line.entry]).map(drop)
    }

    fn each_line(&self, visit: &mut dyn FnMut(ChainedLine)) -> StoreResult<()> {
        let mut after = i64::MIN;
        loop {
            let sql =
                "SELECT number, id, time, entry, hash FROM lavrin.journal WHERE number > $1 ORDER BY number LIMIT $2";
            let rows = self.server.rows(sql, &[&after, &ROWS_AT_ONCE])?;
            let Some(last) = rows.last() else { return Ok(()) };
            after = last.get(0);
            for row in &rows {
                let line = JournalLine { id: row.get(1), time: row.get(2), entry: row.get(3) };
                let hash = Hash::try_from(row.get::<_, &[u8]>(4)).ok();
                visit(ChainedLine { number: row.get(0), line: Some(line), hash });
            }
        }
    }

    fn record(&self, records: &[HostRecord]) -> StoreResult<Vec<Recorded>> {
        self.record_all(records)
    }

    fn record_fault(&self, host: &str, time: i64, fault: &str) -> StoreResult<()> {
        let sql = "INSERT INTO lavrin.look AS l (host, tried, fault) VALUES ($1, $2, $3)
            ON CONFLICT (host) DO UPDATE SET tried = $2, fault = $3 WHERE l.tried <= $2";
        self.server.rows(sql, &[&host, &time, &fault]).map(drop)
    }

    fn rename_host(&self, old: &str, new: &str) -> StoreResult<()> {
        for table in ["observation", "look", "sighting", "key_use"] {
            let sql = format!("UPDATE lavrin.{table} SET host = $2 WHERE host = $1");
            self.server.rows(&sql, &[&old, &new])?;
        }
        Ok(())
    }

    fn looks(&self, hosts: Option<&[&str]>) -> StoreResult<Vec<Look>> {
        let sql = "SELECT host, tried, seen, fault, logs_since, register FROM lavrin.look
            WHERE $1::text[] IS NULL OR host = ANY($1) ORDER BY host";
        let look = |row: Row| Look {
            host: row.get(0),
            tried: row.get(1),
            seen: row.get(2),
            fault: row.get::<_, Option<String>>(3).map(|fault| printable(fault.as_bytes())),
            logs_since: row.get(4),
            register: row.get(5),
        };
        Ok(self.server.rows(sql, &[&hosts])?.into_iter().map(look).collect())
    }

    fn seen_hosts(&self) -> StoreResult<SeenHosts> {
        let sql = "SELECT count(*), count(seen), count(fault), min(seen), max(seen) FROM lavrin.look";
        let rows = self.server.rows(sql, &[])?;
        let Some(row) = rows.first() else { return Ok(SeenHosts::default()) };
        let number = |column| usize::try_from(row.get::<_, i64>(column)).unwrap_or_default();
        Ok(SeenHosts { tried: number(0), seen: number(1), failed: number(2), oldest: row.get(3), newest: row.get(4) })
    }

    fn observations_at(&self, hosts: &[&str], time: i64) -> StoreResult<Vec<Option<Stored>>> {
        self.in_force(hosts, time)
    }

    fn sightings(&self, of: SightingsOf<'_>) -> StoreResult<Vec<Seen>> {
        self.seen_entries(of)
    }

    fn key_uses(&self) -> StoreResult<Vec<(String, String, Fingerprint, KeyUse)>> {
        self.last_uses()
    }

    fn first_seen(&self) -> StoreResult<HashMap<Fingerprint, i64>> {
        self.keys_first_seen()
    }

    fn changes(&self, after: i64, until: i64) -> StoreResult<Vec<DayOfChange>> {
        self.days_of_change(after, until)
    }

    fn note_report(&self, time: i64, scope: &str, numbers: &str, instead: bool) -> StoreResult<()> {
        if instead {
            self.server.rows("DELETE FROM lavrin.report WHERE scope = $1", &[&scope])?;
        }
        let sql = "INSERT INTO lavrin.report (time, scope, numbers) VALUES ($1, $2, $3)";
        self.server.rows(sql, &[&time, &scope, &numbers]).map(drop)
    }

    fn reports(&self, scope: &str, before: i64) -> StoreResult<Vec<(i64, String)>> {
        let sql = "SELECT time, numbers FROM lavrin.report WHERE scope = $1 AND time < $2 ORDER BY time, number";
        let rows = self.server.rows(sql, &[&scope, &before])?;
        Ok(rows.into_iter().map(|row| (row.get(0), row.get(1))).collect())
    }

    fn numbers(&self) -> StoreResult<StoreNumbers> {
        self.count_all()
    }

    fn structure(&self) -> StoreResult<Vec<StoreFinding>> {
        self.check_structure()
    }

    fn each_row(&self, part: StorePart, take: TakeRows<'_>) -> StoreResult<()> {
        self.hand_out(part, take)
    }

    fn put_rows(&self, rows: &[StoreRow]) -> StoreResult<()> {
        self.take_in(rows)
    }

    fn prune(&self, before: i64, time: i64) -> StoreResult<(Vec<Hash>, usize)> {
        self.prune_seen(before, time)
    }

    fn documents(&self) -> StoreResult<HashSet<Hash>> {
        self.all_documents()
    }

    fn forget(&self, hashes: &[Hash]) -> StoreResult<()> {
        self.forget_contents(hashes)
    }

    fn pruned(&self) -> StoreResult<Option<i64>> {
        let rows = self.server.rows("SELECT max(before) FROM lavrin.pruned", &[])?;
        Ok(rows.first().and_then(|row| row.get(0)))
    }

    fn mark_moved(&self, to: &str, time: i64) -> StoreResult<()> {
        self.server.rows("INSERT INTO lavrin.moved (place, time) VALUES ($1, $2)", &[&to, &time]).map(drop)
    }

    fn hold(&self, host: &str, who: &str, now: i64) -> StoreResult<HostHold> {
        self.hold_host(host, who, now)
    }

    fn let_go(&self, host: &str) {
        self.let_host_go(host);
    }

    fn may_append(&self) -> StoreResult<bool> {
        let sql = "SELECT has_function_privilege('lavrin.append(text,text,text)', 'execute')";
        Ok(self.server.rows(sql, &[])?.first().is_some_and(|row| row.get(0)))
    }

    fn office(&self) -> Option<&dyn Office> {
        Some(self)
    }
}
