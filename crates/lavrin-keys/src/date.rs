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

    /// The day with this number; the first or the last that can be written where it lies beyond.
    #[must_use]
    pub fn of_number(number: i64) -> Self {
        let days = number.saturating_add(719_468);
        let (era, of_era) = (days.div_euclid(146_097), days.rem_euclid(146_097));
        let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
        let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
        let shifted = (5 * of_year + 2) / 153;
        let day = of_year - (153 * shifted + 2) / 5 + 1;
        let month = if shifted < 10 { shifted + 3 } else { shifted - 9 };
        let year = year_of_era + era * 400 + i64::from(month <= 2);
        match (u16::try_from(year), u8::try_from(month), u8::try_from(day)) {
            (Ok(year @ 0..=9999), Ok(month), Ok(day)) => Self { year, month, day },
            _ if number < 0 => Self { year: 0, month: 1, day: 1 },
            _ => Self { year: 9999, month: 12, day: 31 },
        }
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

    #[test]
    fn a_day_has_its_number_and_a_number_its_day() {
        for number in (-700_000..2_900_000).step_by(97) {
            assert_eq!(Date::of_number(number).number(), number);
        }
        assert_eq!(Date::of_number(i64::MAX), Date { year: 9999, month: 12, day: 31 });
    }
}
