//! What is in a store, and whether it is in order.

use super::{Database, DatabaseFault, Hash, VERSION, hash};
use rusqlite::Row;

/// How much a store holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct StoreNumbers {
    /// The form of the tables.
    pub version: i32,
    /// The size of the file, in bytes.
    pub bytes: u64,
    /// Hosts that were looked at.
    pub hosts: usize,
    /// Documents that were seen on hosts, each once for as long as it stayed the same.
    pub observations: usize,
    /// Contents: documents, files, backups.
    pub contents: usize,
    /// How long they are together, in bytes.
    pub content_bytes: u64,
    /// Entries that were seen.
    pub sightings: usize,
    /// Lines of the journal.
    pub journal: usize,
    /// When the first of the observations began, in seconds since 1970.
    pub since: Option<i64>,
}

/// What is not in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StoreFinding {
    /// The database itself says that it is damaged, in its words.
    Damaged(String),
    /// A content is not the one whose hash it has, by the hash in hexadecimal.
    Content(String),
    /// An observation names a content that is not there: of this host, since this time.
    Missing(String, i64),
    /// The journal was changed at this line.
    Chain(i64),
}

/// Most findings that are told.
const TOLD_MAX: usize = 100;

impl Database {
    /// How much is in it.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn numbers(&self) -> Result<StoreNumbers, DatabaseFault> {
        let sql = "SELECT (SELECT count(*) FROM look), (SELECT count(*) FROM observation), (SELECT count(*) FROM content),
            (SELECT coalesce(sum(length(bytes)), 0) FROM content), (SELECT count(*) FROM sighting), (SELECT count(*) FROM journal),
            (SELECT min(first) FROM observation), (SELECT page_count * page_size FROM pragma_page_count, pragma_page_size)";
        let row = |row: &Row<'_>| {
            let number = |column| row.get::<_, i64>(column).map(i64::unsigned_abs);
            let count = |column| number(column).map(|number| usize::try_from(number).unwrap_or(usize::MAX));
            Ok(StoreNumbers {
                version: VERSION,
                hosts: count(0)?,
                observations: count(1)?,
                contents: count(2)?,
                content_bytes: number(3)?,
                sightings: count(4)?,
                journal: count(5)?,
                since: row.get(6)?,
                bytes: number(7)?,
            })
        };
        Ok(self.rows(sql, [], row)?.pop().unwrap_or_default())
    }

    /// Goes over all of it: the database's own structure, each content against its hash, each observation's content, the chain of the
    /// journal. Foreign tables were refused when it was opened.
    ///
    /// # Errors
    /// [`DatabaseFault`] where it cannot be read at all.
    pub fn check(&self) -> Result<Vec<StoreFinding>, DatabaseFault> {
        let text = |row: &Row<'_>| row.get::<_, String>(0);
        let said = self.rows("SELECT integrity_check FROM pragma_integrity_check", [], text)?;
        let mut found: Vec<StoreFinding> =
            said.into_iter().filter(|said| said != "ok").map(StoreFinding::Damaged).collect();
        self.check_contents(&mut found)?;
        let missing = "SELECT host, first FROM observation WHERE document NOT IN (SELECT hash FROM content)";
        let row = |row: &Row<'_>| Ok(StoreFinding::Missing(row.get(0)?, row.get(1)?));
        found.extend(self.rows(missing, [], row)?);
        found.extend(self.chain()?.broken_at.map(StoreFinding::Chain));
        found.truncate(TOLD_MAX);
        Ok(found)
    }

    /// One after the other, so that memory stays small however many there are.
    fn check_contents(&self, found: &mut Vec<StoreFinding>) -> Result<(), DatabaseFault> {
        let mut read = || {
            let mut query = self.connection.prepare("SELECT hash, bytes FROM content")?;
            let mut rows = query.query([])?;
            while let Some(row) = rows.next()? {
                let (name, bytes): (Vec<u8>, Vec<u8>) = (row.get(0)?, row.get(1)?);
                let own: Hash = hash(&bytes);
                if own.as_slice() != name.as_slice() && found.len() < TOLD_MAX {
                    found.push(StoreFinding::Content(name.iter().map(|byte| format!("{byte:02x}")).collect()));
                }
            }
            Ok(())
        };
        read().map_err(|error| self.fault(error))
    }
}
