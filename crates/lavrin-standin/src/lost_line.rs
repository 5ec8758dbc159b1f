//! A line that is lost once, because of what was changed over it.

use std::sync::atomic::{AtomicU8, Ordering};

/// A line that is lost once.
#[derive(Debug, Default)]
pub(crate) struct LostLine(AtomicU8);

impl LostLine {
    const HOLDS: u8 = 0;
    const LOST: u8 = 1;
    const BACK: u8 = 2;

    /// Whether it is lost now; `is_armed`: whether settings were changed and are not proven yet.
    pub(crate) fn is_lost(&self, is_armed: impl Fn() -> bool) -> bool {
        let now = match self.0.load(Ordering::SeqCst) {
            Self::HOLDS if is_armed() => Self::LOST,
            Self::LOST if !is_armed() => Self::BACK,
            same => same,
        };
        self.0.store(now, Ordering::SeqCst);
        now == Self::LOST
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_lost_once_while_settings_are_not_proven() {
        let line = LostLine::default();
        let at = |is_armed: bool| line.is_lost(|| is_armed);
        assert_eq!([false, true, true, false, true].map(at), [false, true, true, false, false]);
    }
}
