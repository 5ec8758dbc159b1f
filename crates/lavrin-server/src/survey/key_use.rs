//! When a key was last used, as the logs of a host tell it. Logs go back only so far: a key that does not show there was
//! "not seen since the logs begin", never "unused".

use lavrin_keys::date::Date;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::printable;
use std::collections::BTreeMap;

/// Seconds of a day.
const DAY: i64 = 86_400;

/// As logs write them.
const MONTHS: [&str; 12] = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/// Most uses that are kept of one host: accounts times keys.
const USES_MAX: usize = 200_000;

/// The last time that a key opened an account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyUse {
    /// When, in seconds since 1970.
    pub time: i64,
    /// From where.
    pub from: String,
}

/// What the logs of one host tell.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyUses {
    /// When the logs begin, in seconds since 1970; `None` where there are none to read.
    pub since: Option<i64>,
    /// The last use of each key in each account.
    pub last: BTreeMap<(String, Fingerprint), KeyUse>,
}

impl KeyUses {
    /// The last time that this key opened this account.
    #[must_use]
    pub fn of(&self, account: &str, key: Fingerprint) -> Option<&KeyUse> {
        self.last.get(&(account.to_owned(), key))
    }
}

/// Reads log lines, as `Nov 23 17:38:09 host sshd[7]: Accepted publickey for edda from 192.0.2.1 port 5 ssh2: ED25519
/// SHA256:…`, with a timestamp of that kind (in the host's own time) or of RFC 3339. Lines without a key only tell where
/// the logs begin. `now` is the time of the look in seconds since 1970, `zone` how far the host's time is ahead of UTC,
/// in seconds.
#[must_use]
pub fn read(text: &[u8], now: i64, zone: i64) -> KeyUses {
    let mut uses = KeyUses::default();
    for line in text.split(|byte| *byte == b'\n') {
        let line = String::from_utf8_lossy(line);
        let Some(time) = timestamp(&line, now, zone) else { continue };
        uses.since = Some(uses.since.map_or(time, |since| since.min(time)));
        let Some((account, key, from)) = accepted(&line) else { continue };
        if uses.last.len() >= USES_MAX {
            break;
        }
        let use_ = uses.last.entry((account, key)).or_insert(KeyUse { time, from: from.clone() });
        if time >= use_.time {
            *use_ = KeyUse { time, from };
        }
    }
    uses
}

/// Account, key and address of a line that tells of a login by key.
fn accepted(line: &str) -> Option<(String, Fingerprint, String)> {
    accepted_from(line).map(|(_, told)| told)
}

/// The same of the server's process with this number, and when that was. `clock` as for [`read`].
pub(super) fn accepted_by(line: &str, pid: u32, clock: (i64, i64)) -> Option<(i64, (String, Fingerprint, String))> {
    let (_, told) = accepted_from(line).filter(|(process, _)| *process == Some(pid))?;
    Some((timestamp(line, clock.0, clock.1)?, told))
}

/// The process that says so, and what.
fn accepted_from(line: &str) -> Option<(Option<u32>, (String, Fingerprint, String))> {
    let process = line.split_once("]: ").and_then(|(before, _)| before.rsplit_once('[')?.1.parse().ok());
    let openssh = said_by(line, &["sshd", "sshd-session"], "Accepted publickey for ");
    let rest = openssh.or_else(|| said_by(line, &["dropbear"], "Pubkey auth succeeded for "))?;
    let words: Vec<&str> = rest.split_ascii_whitespace().collect();
    let account = words.first()?.trim_matches('\'');
    // The key may be followed by that of an authority.
    let key = words.iter().find(|word| word.starts_with("SHA256:"))?;
    let from = words.iter().position(|word| *word == "from").and_then(|at| words.get(at + 1))?;
    let from = if openssh.is_some() { from } else { from.rsplit_once(':').map_or(*from, |(address, _)| address) };
    // Whoever writes into the logs must not write to a terminal.
    let told = (printable(account.as_bytes()), Fingerprint::parse(key).ok()?, printable(from.as_bytes()));
    Some((process, told))
}

/// What a line says behind these words, where one of these programs wrote it: its name and process stand right behind time and
/// host, and the words right behind that. Words in what somebody else wrote do not count.
fn said_by<'a>(line: &'a str, programs: &[&str], words: &str) -> Option<&'a str> {
    let is_iso = line.as_bytes().get(4) == Some(&b'-');
    let mut rest = line;
    // One word for the time or three, and one for the host.
    for _ in 0..if is_iso { 2 } else { 4 } {
        rest = rest.trim_start_matches(' ').split_once(' ')?.1;
    }
    let rest = rest.trim_start_matches(' ');
    // The small system's logger writes facility and level first.
    let rest = rest.split_once(' ').filter(|(word, _)| is_priority(word)).map_or(rest, |(_, rest)| rest);
    let (program, said) = rest.split_once("]: ")?;
    let (name, process) = program.split_once('[')?;
    let is_process = !process.is_empty() && process.bytes().all(|byte| byte.is_ascii_digit());
    said.strip_prefix(words).filter(|_| is_process && programs.contains(&name))
}

fn is_priority(word: &str) -> bool {
    let letters = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric());
    word.split_once('.').is_some_and(|(facility, level)| letters(facility) && letters(level))
}

fn timestamp(line: &str, now: i64, zone: i64) -> Option<i64> {
    let first = line.split_ascii_whitespace().next()?;
    if first.len() > 10 && first.as_bytes()[4] == b'-' {
        return rfc3339(first, zone);
    }
    let mut words = line.split_ascii_whitespace();
    let (month, day, clock) = (words.next()?, words.next()?, words.next()?);
    let month = u8::try_from(MONTHS.iter().position(|name| *name == month)? + 1).ok()?;
    let day: u8 = day.parse().ok().filter(|day| (1..=31).contains(day))?;
    let seconds = clock_seconds(clock)?;
    // The line tells no year: it is the last one in which that moment is not in the future; clocks may differ a little.
    let this_year = year_of(now + zone);
    let at = |year: u16| Date { year, month, day }.number() * DAY + seconds - zone;
    (0..2).map(|back| at(this_year.saturating_sub(back))).find(|time| *time <= now + DAY)
}

/// `2026-11-23T17:38:09.123456+01:00`; without an offset the host's own time is meant.
fn rfc3339(text: &str, zone: i64) -> Option<i64> {
    let (date, time) = text.split_at_checked(10)?;
    let date = Date::parse(date)?;
    let time = time.strip_prefix(['T', ' '])?;
    let seconds = clock_seconds(time.get(..8)?)?;
    let rest = time.get(8..)?.trim_start_matches(|letter: char| letter == '.' || letter.is_ascii_digit());
    let offset = match rest.split_at_checked(1) {
        Some(("Z", _)) => 0,
        Some((sign @ ("+" | "-"), digits)) => {
            let digits: String = digits.chars().filter(char::is_ascii_digit).take(4).collect();
            let number: i64 = digits.parse().ok()?;
            let seconds = number / 100 * 3600 + number % 100 * 60;
            if sign == "-" { -seconds } else { seconds }
        }
        _ => zone,
    };
    Some(date.number() * DAY + seconds - offset)
}

fn clock_seconds(text: &str) -> Option<i64> {
    let mut parts = text.splitn(3, ':').map(|part| part.parse::<i64>().ok());
    let (hours, minutes, seconds) = (parts.next()??, parts.next()??, parts.next()??);
    let fine = (0..24).contains(&hours) && (0..60).contains(&minutes) && (0..=60).contains(&seconds);
    fine.then_some(hours * 3600 + minutes * 60 + seconds)
}

fn year_of(seconds: i64) -> u16 {
    let mut year = u16::try_from(1970 + seconds.div_euclid(366 * DAY)).unwrap_or(1970);
    while year < u16::MAX && (Date { year: year + 1, month: 1, day: 1 }).number() * DAY <= seconds {
        year += 1;
    }
    year
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_keys::key::PrivateKey;
    use proptest::prelude::*;

    /// 2026-11-23T18:00:00Z
    const NOW: i64 = 1_795_456_800;

    fn print() -> Fingerprint {
        PrivateKey::ed25519(&[1; 32]).unwrap().public().fingerprint()
    }

    #[test]
    fn both_servers_and_both_kinds_of_time_are_read() {
        let key = print();
        let text = format!(
            "Jan  2 03:04:05 lantern kernel: hello\n\
             Nov 22 10:00:00 lantern sshd[7]: Accepted publickey for edda from 192.0.2.1 port 5 ssh2: ED25519 {key}\n\
             2026-11-23T17:38:09.123456+01:00 lantern sshd[8]: Accepted publickey for edda from 2001:db8::7 port 5 ssh2: ED25519-CERT {key} ID x (serial 0) CA ED25519 SHA256:AAAA\n\
             Dec 24 08:00:00 lantern dropbear[9]: Pubkey auth succeeded for 'sten' with ssh-ed25519 key {key} from 192.0.2.9:40312\n\
             Nov 23 17:00:00 lantern sshd[7]: Accepted password for edda from 192.0.2.1 port 5 ssh2\n"
        );
        let uses = read(text.as_bytes(), NOW, 3600);
        let edda = uses.of("edda", key).unwrap();
        assert_eq!((edda.time, edda.from.as_str()), (NOW - 4911, "2001:db8::7"));
        let sten = uses.of("sten", key).unwrap();
        assert_eq!(sten.from, "192.0.2.9");
        // Christmas lies ahead, so it was last year's.
        assert_eq!(year_of(sten.time), 2025);
        assert_eq!(year_of(uses.since.unwrap()), 2025);
        assert_eq!(uses.last.len(), 2);
    }

    #[test]
    fn what_anybody_writes_into_a_log_is_no_use_of_a_key() {
        let key = print();
        for line in [
            format!(
                "Nov 22 10:00:00 lantern edda: Accepted publickey for edda from 192.0.2.1 port 5 ssh2: ED25519 {key}"
            ),
            format!("Nov 22 10:00:00 lantern x: sshd[7]: Accepted publickey for edda from 192.0.2.1 port 5: {key}"),
            format!("Nov 22 10:00:00 lantern sshd[x]: Accepted publickey for edda from 192.0.2.1 port 5: {key}"),
            format!("Nov 22 10:00:00 lantern sshd[7]: said Accepted publickey for edda from 192.0.2.1 port 5: {key}"),
        ] {
            assert!(read(line.as_bytes(), NOW, 0).last.is_empty(), "{line}");
        }
        let small = format!(
            "Nov 22 10:00:00 buoy authpriv.info dropbear[9]: Pubkey auth succeeded for 'sten' with ssh-ed25519 key {key} from 192.0.2.9:40312"
        );
        assert_eq!(read(small.as_bytes(), NOW, 0).last.len(), 1);
    }

    #[test]
    fn years_are_counted_right() {
        let eve = Date { year: 2024, month: 12, day: 31 }.number() * DAY;
        assert_eq!((year_of(NOW), year_of(0), year_of(eve), year_of(eve + DAY)), (2026, 1970, 2024, 2025));
    }

    proptest! {
        #[test]
        fn no_log_breaks_the_reading(text: Vec<u8>, now in 0i64..1 << 40, zone in -50_000i64..50_000) {
            let _ = read(&text, now, zone);
        }

        #[test]
        fn no_line_breaks_the_reading(line in "[A-Z0-9][a-z0-9:T -]{0,40}Accepted publickey for [a-z ]*from [0-9.]*SHA256:") {
            let _ = read(line.as_bytes(), NOW, 0);
        }
    }
}
