//! Days of the calendar, as a register names them.

use std::fmt;

/// A day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Date {
    /// Year.
    pub year: u16,
    /// Month, from 1.
    pub month: u8,
    /// Day of the month, from 1.
    pub day: u8,
}

impl Date {
    /// Reads `YYYY-MM-DD`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let number = |range: std::ops::Range<usize>| {
            text.get(range).filter(|part| part.bytes().all(|byte| byte.is_ascii_digit()))?.parse::<u16>().ok()
        };
        let (year, month, day) = (number(0..4)?, number(5..7)?, number(8..10)?);
        let dashes = text.len() == 10 && text.as_bytes()[4] == b'-' && text.as_bytes()[7] == b'-';
        let (month, day) = (u8::try_from(month).ok()?, u8::try_from(day).ok()?);
        (dashes && (1..=12).contains(&month) && (1..=days_of(year, month)).contains(&day)).then_some(Self {
            year,
            month,
            day,
        })
    }

    /// Days since 1970-01-01 (Howard Hinnant, "chrono-Compatible Low-Level Date Algorithms").
    #[must_use]
    pub fn number(self) -> i64 {
        let year = i64::from(self.year) - i64::from(self.month <= 2);
        let era = year.div_euclid(400);
        let of_era = year.rem_euclid(400);
        let month = (i64::from(self.month) + 9) % 12;
        let of_year = (153 * month + 2) / 5 + i64::from(self.day) - 1;
        era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
    }
}

fn days_of(year: u16, month: u8) -> u8 {
    match month {
        4 | 6 | 9 | 11 => 30,
        2 if year.is_multiple_of(4) && (!year.is_multiple_of(100) || year.is_multiple_of(400)) => 29,
        2 => 28,
        _ => 31,
    }
}

impl fmt::Display for Date {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{:04}-{:02}-{:02}", self.year, self.month, self.day)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_read_and_counted() {
        let day = |text: &str| Date::parse(text).map(Date::number);
        assert_eq!(day("1970-01-01"), Some(0));
        assert_eq!(day("2000-02-29"), Some(11_016));
        assert_eq!(day("2026-11-23"), Some(20_780));
        for wrong in
            ["2026-02-29", "2026-13-01", "2026-1-01", "26-01-01", "2026/01/01", "2026-01-00", "", "2026-01-011"]
        {
            assert_eq!(day(wrong), None, "{wrong}");
        }
    }
}
