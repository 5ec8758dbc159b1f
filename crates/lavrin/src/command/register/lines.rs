//! Where something stands in the files of a register, as people and programs say it: file, line and column.

use super::OpenedRegister;
use lavrin_fleet::register::RegisterPlace;

/// Where the lines of each file begin: in a large register very many places are told.
pub struct Lines(Vec<Vec<usize>>);

impl Lines {
    /// Of these files.
    pub fn of(opened: &OpenedRegister) -> Self {
        let starts =
            |text: &str| std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect::<Vec<_>>();
        Self(opened.files.iter().map(|file| starts(&file.text)).collect())
    }

    /// The line that holds this byte, counted from 0, and where it begins.
    pub fn line(&self, file: usize, at: usize) -> (usize, usize) {
        let starts = self.0.get(file).map(Vec::as_slice).unwrap_or_default();
        let line = starts.partition_point(|start| *start <= at).saturating_sub(1);
        (line, starts.get(line).copied().unwrap_or_default())
    }

    /// File, line and column of a place, the latter two counted from 1.
    pub fn position(&self, place: &RegisterPlace, opened: &OpenedRegister) -> (String, usize, usize) {
        let Some(file) = opened.files.get(place.file()) else { return (String::new(), 1, 1) };
        let (line, start) = self.line(place.file(), place.bytes().start);
        let column = file.text.get(start..place.bytes().start).unwrap_or_default().chars().count();
        (file.path.clone(), line + 1, column + 1)
    }
}
