//! The dates of `expiry-time=`.

/// Seconds since 1970 of `YYYYMMDD[HHMM[SS]][Z]`, taken as UTC. `None` for anything else, and for years before 1970.
pub fn expiry(value: &[u8]) -> Option<i64> {
    let digits = value.strip_suffix(b"Z").unwrap_or(value);
    if !digits.iter().all(u8::is_ascii_digit) || !matches!(digits.len(), 8 | 12 | 14) {
        return None;
    }
    let number = |from: usize, to: usize| {
        digits.get(from..to).map_or(0, |part| part.iter().fold(0, |sum, digit| sum * 10 + i64::from(digit - b'0')))
    };
    let (year, month, day) = (number(0, 4), number(4, 6), number(6, 8));
    let (hour, minute, second) = (number(8, 10), number(10, 12), number(12, 14));
    if !(1..=12).contains(&month) || !(1..=31).contains(&day) || hour > 23 || minute > 59 || second > 61 {
        return None;
    }
    let seconds = days_since_1970(year, month, day) * 86_400 + hour * 3600 + minute * 60 + second;
    (seconds >= 0).then_some(seconds)
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
        for bad in [&b"20261301"[..], b"2026-11-23", b"20261123 ", b"19690101", b"202611232460", b"0"] {
            assert_eq!(expiry(bad), None);
        }
    }
}
