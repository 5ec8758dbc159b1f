//! The exit codes, the same for every command and format.

/// How a command ended. Where several apply, the larger one counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// Done and nothing to report.
    Done = 0,
    /// There are findings, differences or a refusal.
    Findings = 1,
    /// Wrong usage or an unreadable input.
    Usage = 2,
    /// Something could not be reached or checked.
    NotChecked = 3,
    /// Stopped for safety: everything is as it was or was put back.
    Stopped = 4,
    /// Failed midway: something is neither as it was nor as asked, or its state is unknown.
    Midway = 5,
}

impl Exit {
    /// The one with this code; what is none counts as the gravest.
    pub fn of(code: i32) -> Self {
        let all = [Self::Done, Self::Findings, Self::Usage, Self::NotChecked, Self::Stopped, Self::Midway];
        all.into_iter().find(|exit| *exit as i32 == code).unwrap_or(Self::Midway)
    }
}

impl From<Exit> for std::process::ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit as u8)
    }
}

#[cfg(test)]
mod tests {
    use super::Exit;

    #[test]
    fn the_graver_one_counts() {
        assert_eq!([Exit::Findings, Exit::Midway, Exit::Stopped].into_iter().max(), Some(Exit::Midway));
        assert_eq!(Exit::NotChecked.max(Exit::Usage) as u8, 3);
    }
}
