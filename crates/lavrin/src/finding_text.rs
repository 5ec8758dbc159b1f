//! A finding in words, in the one form that every command uses: severity, place and rule; what is wrong; what to type next.

use crate::ui::{Label, Ui};
use lavrin_server::finding::Severity;

/// What stands in front of the lines below the first.
const INDENT: &str = "            ";

/// A finding with its place and what to type next.
pub struct FindingText<'a> {
    /// How much it matters.
    pub severity: Severity,
    /// Whose it is, where it stands; empty where the context says so.
    pub place: String,
    /// Its rule.
    pub rule: &'a str,
    /// What is wrong.
    pub message: String,
    /// The line it stands on, and the row that marks the place in it.
    pub marked: Option<(String, String)>,
    /// What to type next.
    pub next: String,
}

impl FindingText<'_> {
    /// The lines.
    pub fn lines(&self, ui: &Ui) -> String {
        let label = Label::of(self.severity);
        let name = self.severity.name();
        let padding = " ".repeat(8usize.saturating_sub(name.len()));
        let place = if self.place.is_empty() { String::new() } else { format!("{} ", self.place) };
        let rule = ui.paint(Label::Faint, &format!("[{}]", self.rule));
        let mut text = format!("  {}{padding}  {place}{rule}\n{INDENT}{}\n", ui.paint(label, name), self.message);
        if let Some((line, mark)) = &self.marked {
            text += &format!("{INDENT}{line}\n{INDENT}{}\n", ui.paint(label, mark));
        }
        text + &format!("{INDENT}next: {}\n", ui.paint(Label::Type, &crate::cli::complete(&self.next)))
    }
}
