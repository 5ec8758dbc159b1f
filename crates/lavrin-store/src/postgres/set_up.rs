//! The form of the tables: checked when a store is opened, and brought up to date by whoever owns them.

use super::VERSION;
use super::server::PostgresServer;
use crate::fault::{DatabaseFault, StoreResult};
use lavrin_keys::text::printable;
use std::fmt::Write as _;

/// The roles, to be read and run by whoever runs the server.
pub(crate) const ROLES: &str = include_str!("roles.sql");

/// What makes each form out of the one before.
const FORMS: [&str; 1] = [include_str!("form_1.sql")];

/// The years for which parts of their own are made.
const YEARS: std::ops::Range<i64> = 2024..2044;

/// Keeps two who set up at once apart.
const LOCK: i64 = 0x4c56_524e;

/// The form of the store there; 0 where there is none.
fn form(server: &PostgresServer) -> StoreResult<i32> {
    let is_there = server.rows("SELECT to_regclass('lavrin.form') IS NOT NULL", &[])?;
    if !is_there.first().is_some_and(|row| row.get(0)) {
        return Ok(0);
    }
    let found = server.rows("SELECT coalesce(max(number), 0) FROM lavrin.form", &[])?;
    Ok(found.first().map_or(0, |row| row.get(0)))
}

/// Whether the store there is one for this version.
pub(super) fn check(server: &PostgresServer) -> StoreResult<()> {
    let place = server.place().to_owned();
    match form(server)? {
        VERSION => moved(server),
        found if found > VERSION => Err(DatabaseFault::Newer { place, found, known: VERSION }),
        found => Err(DatabaseFault::NotSetUp { place, found, needed: VERSION }),
    }
}

/// A store that was moved elsewhere is not written to any more.
fn moved(server: &PostgresServer) -> StoreResult<()> {
    let rows = server.rows("SELECT place FROM lavrin.moved ORDER BY time DESC LIMIT 1", &[])?;
    match rows.first() {
        Some(row) => Err(DatabaseFault::Moved {
            place: server.place().to_owned(),
            to: printable(row.get::<_, String>(0).as_bytes()),
        }),
        None => Ok(()),
    }
}

/// Makes the roles and the tables, or what is missing of them. Says from which form to which it went.
pub(crate) fn set_up(url: &str) -> StoreResult<(i32, i32)> {
    let server = PostgresServer::at(url)?;
    server.begin()?;
    let done = brought_up(&server);
    match &done {
        Ok(_) => server.commit()?,
        Err(_) => server.roll_back(),
    }
    done
}

fn brought_up(server: &PostgresServer) -> StoreResult<(i32, i32)> {
    server.rows("SELECT pg_advisory_xact_lock($1)", &[&LOCK])?;
    let before = form(server)?;
    if before > VERSION {
        return Err(DatabaseFault::Newer { place: server.place().to_owned(), found: before, known: VERSION });
    }
    if before == 0 {
        server.batch(ROLES)?;
        let sql = "SELECT format('GRANT CREATE ON DATABASE %I TO lavrin_owner', current_database())";
        let grant: String = server.rows(sql, &[])?.first().map(|row| row.get(0)).unwrap_or_default();
        server.batch(&grant)?;
    }
    // Whoever sets up may be another one each time; the tables belong to the role.
    server.batch("SET LOCAL ROLE lavrin_owner")?;
    for (number, form) in (1..).zip(FORMS).filter(|(number, _)| *number > before) {
        server.batch(form)?;
        server.rows("INSERT INTO lavrin.form VALUES ($1)", &[&number])?;
    }
    server.batch(&parts())?;
    Ok((before, VERSION))
}

/// The parts of the tables that grow, year by year.
fn parts() -> String {
    let mut sql = String::new();
    for year in YEARS {
        let (from, until) = (beginning(year), beginning(year + 1));
        for table in ["observation", "sighting"] {
            let _ = writeln!(
                sql,
                "CREATE TABLE IF NOT EXISTS lavrin.{table}_{year} PARTITION OF lavrin.{table} FOR VALUES FROM ({from}) TO ({until});
                 GRANT SELECT ON lavrin.{table}_{year} TO lavrin_reader;"
            );
        }
    }
    sql
}

/// The first second of a year, in seconds since 1970 (proleptic Gregorian calendar).
fn beginning(year: i64) -> i64 {
    let before = year - 1;
    let days = before * 365 + before / 4 - before / 100 + before / 400;
    (days - 719_162) * 86_400
}

#[cfg(test)]
mod tests {
    use super::beginning;

    #[test]
    fn years_begin_where_they_do() {
        assert_eq!([1970, 2000, 2026].map(beginning), [0, 946_684_800, 1_767_225_600]);
    }
}
