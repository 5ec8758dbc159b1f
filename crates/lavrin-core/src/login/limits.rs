//! With which limits an entry opens an account.

use crate::keysfile::options::Options;
use crate::text::printable;

/// The limits of an accepted login.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Limits {
    /// Addresses it may come from.
    pub from: Option<String>,
    /// The only command it runs.
    pub command: Option<String>,
    /// When it ends, as it stands in the file.
    pub expires: Option<String>,
    /// What it may not do: agent, ports, terminal, X11, start-up file.
    pub denied: Vec<&'static str>,
    /// Ports it may open, where that is limited.
    pub permit: Vec<String>,
}

/// The permissions an entry can take away, in the order in which they are told.
const PERMISSIONS: [(&str, &str, &str); 5] = [
    ("agent-forwarding", "no-agent-forwarding", "agent forwarding"),
    ("port-forwarding", "no-port-forwarding", "port forwarding"),
    ("pty", "no-pty", "terminal"),
    ("user-rc", "no-user-rc", "start-up file"),
    ("x11-forwarding", "no-x11-forwarding", "X11 forwarding"),
];

impl Limits {
    /// The limits that options set. Their order decides, as for the server: `restrict,pty` gives a terminal.
    #[must_use]
    pub fn of(options: &Options) -> Self {
        let mut denied = Vec::new();
        for (allow, deny, words) in PERMISSIONS {
            let last = options.list().iter().rev().find(|option| [allow, deny, "restrict"].contains(&option.name));
            if last.is_some_and(|option| option.name != allow) {
                denied.push(words);
            }
        }
        let text = |name: &str| options.value(name).map(printable);
        let permit = ["permitopen", "permitlisten"];
        Self {
            from: text("from"),
            command: text("command"),
            expires: options.values("expiry-time").min().map(printable),
            denied,
            permit: permit
                .iter()
                .flat_map(|name| options.values(name).map(move |value| format!("{name}={}", printable(value))))
                .collect(),
        }
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// Whether an `expiry-time=` (`YYYYMMDD[HHMM[SS]][Z]`, taken as UTC) is over at `now`. What does not parse is over:
/// the server skips the line then.
pub(super) fn is_past(value: &[u8], now: i64) -> bool {
    expiry(value).is_none_or(|at| now >= at)
}

fn expiry(value: &[u8]) -> Option<i64> {
    let digits = value.strip_suffix(b"Z").unwrap_or(value);
    if !digits.iter().all(u8::is_ascii_digit) || !matches!(digits.len(), 8 | 12 | 14) {
        return None;
    }
    let number = |from: usize, to: usize| {
        digits.get(from..to).map_or(0, |part| part.iter().fold(0, |sum, digit| sum * 10 + i64::from(digit - b'0')))
    };
    let (year, month, day) = (number(0, 4), number(4, 6), number(6, 8));
    if !(1..=12).contains(&month) || !(1..=31).contains(&day) {
        return None;
    }
    Some(days_since_1970(year, month, day) * 86_400 + number(8, 10) * 3600 + number(10, 12) * 60 + number(12, 14))
}

/// Days from 1970-01-01 to a date of the Gregorian calendar; days beyond a month's end run into the next.
fn days_since_1970(year: i64, month: i64, day: i64) -> i64 {
    // Years begin in March here, so that the leap day is the last one.
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let year_of_era = year.rem_euclid(400);
    let day_of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
    era * 146_097 + year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year - 719_468
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn expiry_times_are_read_in_their_three_forms() {
        assert_eq!(expiry(b"19700101"), Some(0));
        assert_eq!(expiry(b"20261123"), Some(1_795_392_000));
        assert_eq!(expiry(b"202611231830Z"), Some(1_795_392_000 + 66_600));
        assert_eq!(expiry(b"20240230"), expiry(b"20240301"));
        assert_eq!(expiry(b"2024"), None);
        assert!(is_past(b"nonsense", 0));
    }

    #[test]
    fn the_order_of_permissions_decides() {
        let denied = |text: &[u8]| Limits::of(&Options::parse(text).unwrap()).denied;
        assert_eq!(denied(b"pty,restrict").len(), 5);
        assert_eq!(denied(b"restrict,pty").len(), 4);
        assert_eq!(denied(b"no-pty"), ["terminal"]);
        assert!(denied(b"").is_empty());
    }
}
