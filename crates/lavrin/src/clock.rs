//! The time of day, and the variable that fixes it for tests.

use lavrin_work::survey::Clock;
use std::time::{SystemTime, UNIX_EPOCH};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// Holds an RFC 3339 time that stands for now: output in tests and pictures must not change by the hour.
const FIXED: &str = "LAVRIN_NOW";

/// Now, in UTC.
pub fn now() -> OffsetDateTime {
    let fixed = std::env::var(FIXED).ok().and_then(|text| OffsetDateTime::parse(&text, &Rfc3339).ok());
    fixed.unwrap_or_else(|| {
        let seconds = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        OffsetDateTime::from_unix_timestamp(i64::try_from(seconds).unwrap_or(0)).unwrap_or(OffsetDateTime::UNIX_EPOCH)
    })
}

/// Now, in seconds since 1970.
pub fn unix() -> i64 {
    now().unix_timestamp()
}

/// The clock, for those who have none of their own.
pub const CLOCK: Clock = Clock { now: unix, text: text_of };

/// Seconds since 1970 as in the journal.
pub fn text_of(seconds: i64) -> String {
    date_of(u64::try_from(seconds).unwrap_or_default())
}

/// As in the journal: `2026-11-23T08:00:00Z`.
pub fn timestamp() -> String {
    now().replace_nanosecond(0).unwrap_or_else(|_| now()).format(&Rfc3339).unwrap_or_default()
}

/// For file names: `20261123-080000`.
pub fn for_file_name() -> String {
    let now = now();
    let (date, time) = (now.date(), now.time());
    format!(
        "{:04}{:02}{:02}-{:02}{:02}{:02}",
        date.year(),
        u8::from(date.month()),
        date.day(),
        time.hour(),
        time.minute(),
        time.second()
    )
}

/// A moment as in the journal, in seconds since 1970.
pub fn seconds_of(text: &str) -> Option<i64> {
    OffsetDateTime::parse(text, &Rfc3339).ok().map(OffsetDateTime::unix_timestamp)
}

/// The day of a moment given in seconds since 1970, in UTC: `2026-11-23`.
pub fn day_of(seconds: i64) -> String {
    let date = OffsetDateTime::from_unix_timestamp(seconds).unwrap_or(OffsetDateTime::UNIX_EPOCH).date();
    format!("{:04}-{:02}-{:02}", date.year(), u8::from(date.month()), date.day())
}

/// A moment given in seconds since 1970, as RFC 3339.
pub fn date_of(seconds: u64) -> String {
    let moment = i64::try_from(seconds).ok().and_then(|seconds| OffsetDateTime::from_unix_timestamp(seconds).ok());
    moment.and_then(|moment| moment.format(&Rfc3339).ok()).unwrap_or_else(|| format!("{seconds} s after 1970"))
}

/// How long ago that was, in days: `today`, `yesterday`, `5 days ago`.
pub fn ago(seconds: i64) -> String {
    let day = |seconds: i64| seconds.div_euclid(86_400);
    match day(unix()) - day(seconds) {
        ..=0 => "today".to_owned(),
        1 => "yesterday".to_owned(),
        days => format!("{days} days ago"),
    }
}
