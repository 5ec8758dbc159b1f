//! What is in the file, and whether it is in order.

use super::{SqliteStore, VERSION};
use crate::fault::StoreResult;
use crate::store::{StoreFinding, StoreNumbers};
use rusqlite::Row;

impl SqliteStore {
    pub(super) fn count_all(&self) -> StoreResult<StoreNumbers> {
        let sql = "SELECT (SELECT count(*) FROM look), (SELECT count(*) FROM observation), (SELECT count(*) FROM content),
            (SELECT coalesce(sum(length(bytes)), 0) FROM content), (SELECT count(*) FROM sighting), (SELECT count(*) FROM journal),
            (SELECT min(first) FROM observation), (SELECT page_count * page_size FROM pragma_page_count, pragma_page_size),
            (SELECT max(before) FROM pruned)";
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
                pruned: row.get(8)?,
            })
        };
        Ok(self.rows(sql, [], row)?.pop().unwrap_or_default())
    }

    pub(super) fn check_structure(&self) -> StoreResult<Vec<StoreFinding>> {
        let text = |row: &Row<'_>| row.get::<_, String>(0);
        let said = self.rows("SELECT integrity_check FROM pragma_integrity_check", [], text)?;
        let mut found: Vec<StoreFinding> =
            said.into_iter().filter(|said| said != "ok").map(StoreFinding::Damaged).collect();
        let missing = "SELECT host, first FROM observation WHERE document NOT IN (SELECT hash FROM content)";
        let row = |row: &Row<'_>| Ok(StoreFinding::Missing(row.get(0)?, row.get(1)?));
        found.extend(self.rows(missing, [], row)?);
        Ok(found)
    }
}
