//! A day in the past, as people say it.

use crate::command::register::today;
use lavrin_fleet::register::Date;

/// `2026-10-10`, `today`, `yesterday` or `3 days ago`; never a day to come.
pub fn typed_day(text: &str) -> Result<Date, String> {
    let now = today();
    let day = match text.trim() {
        "today" => now,
        "yesterday" => back(now, 1),
        text => match text.split_whitespace().collect::<Vec<_>>()[..] {
            [number, unit, "ago"] => ago(now, number, unit)
                .ok_or_else(|| format!("'{text}' is not a day; write it as 2026-10-10, yesterday or '3 days ago'"))?,
            _ => Date::parse(text)
                .ok_or_else(|| format!("'{text}' is not a day; write it as 2026-10-10, yesterday or '3 days ago'"))?,
        },
    };
    if day > now {
        return Err(format!("{day} is still to come; today is {now}"));
    }
    Ok(day)
}

/// The last second of a day (UTC), or now where the day is not over, in seconds since 1970.
pub fn end_of_day(day: Date) -> i64 {
    ((day.number() + 1) * 86_400 - 1).min(crate::clock::now().unix_timestamp())
}

fn ago(now: Date, number: &str, unit: &str) -> Option<Date> {
    let number: i64 = number.parse().ok().filter(|number| (0..=36_500).contains(number))?;
    let days = match unit {
        "day" | "days" => 1,
        "week" | "weeks" => 7,
        _ => return None,
    };
    Some(back(now, number * days))
}

fn back(from: Date, days: i64) -> Date {
    Date::of_number(from.number() - days)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_ago_are_counted_over_the_ends_of_months() {
        let day = |text: &str| Date::parse(text).unwrap();
        assert_eq!(back(day("2026-03-01"), 1), day("2026-02-28"));
        assert_eq!(ago(day("2027-01-05"), "1", "week"), Some(day("2026-12-29")));
        assert_eq!(ago(day("2027-01-05"), "x", "days"), None);
        assert!(typed_day("2999-01-01").unwrap_err().contains("still to come"));
        assert!(typed_day("tomorrow").is_err() && typed_day("yesterday").is_ok());
    }
}
