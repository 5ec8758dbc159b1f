//! Entries on their way out, one after the other: there may be a million of them.

use super::rows::EntryRow;
use super::{EntryOut, lines};
use crate::json::{LimitsOut, add_limits};
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_keys::text::printable;
use lavrin_report::object::ObjectWriter;
use lavrin_server::audit::AuditEntry;

/// So many rows are brought into line with each other; a longer list starts again.
const ROWS_IN_LINE: usize = 2_000;

/// What an entry usually takes as JSON, in bytes.
const JSON_BYTES_USUAL: usize = 320;

/// Entries on their way out, one after the other.
pub(super) struct EntriesOut<'a> {
    ui: &'a Ui,
    rows: Vec<Vec<String>>,
    pub(super) begun: bool,
}

/// Entries as they are printed: a row of a table each, or JSON.
pub(super) enum Rendered {
    Rows(Vec<Vec<String>>),
    Json(Vec<u8>),
    Lines(Vec<u8>),
}

pub(super) fn entries_rendered(entries: &[AuditEntry], only: bool, ui: &Ui) -> Rendered {
    if ui.is_text() {
        return Rendered::Rows(entries.iter().map(|entry| entry_row(entry, ui)).collect());
    }
    if !ui.is_json() {
        return Rendered::Lines(if only && ui.has_rows() { entry_lines(entries, ui) } else { Vec::new() });
    }
    let mut text = Vec::with_capacity(entries.len() * JSON_BYTES_USUAL);
    for of_file in entries.chunk_by(|one, other| one.place.path() == other.place.path()) {
        let path = of_file[0].place.path().map(ToString::to_string);
        for entry in of_file {
            text.extend_from_slice(if text.is_empty() { b"" } else { b",\n" });
            entry_out(entry, path.as_deref()).add_to(&mut text);
        }
    }
    Rendered::Json(text)
}

fn entry_lines(entries: &[AuditEntry], ui: &Ui) -> Vec<u8> {
    let paths: Vec<Option<String>> = entries.iter().map(|entry| entry.place.path().map(ToString::to_string)).collect();
    let outs: Vec<EntryOut> =
        entries.iter().zip(&paths).map(|(entry, path)| entry_out(entry, path.as_deref())).collect();
    ui.rows_rendered(&outs.iter().map(|out| EntryRow::of(out, None, None)).collect::<Vec<_>>())
}

impl<'a> EntriesOut<'a> {
    pub(super) fn new(only: bool, ui: &'a Ui, place: &str) -> Self {
        if only && ui.has_rows() {
            ui.begin_rows::<EntryRow>();
        }
        if ui.is_json() {
            let place = crate::json::line(&place);
            ui.part(&format!("{{\n\"schema\": \"lavrin/audit/1\",\n\"place\": {place},\n\"entries\": ["));
        }
        Self { ui, rows: Vec::new(), begun: false }
    }

    pub(super) fn add(&mut self, rendered: Rendered) {
        match rendered {
            Rendered::Lines(lines) => self.ui.part(&lines),
            Rendered::Json(text) if text.is_empty() => {}
            Rendered::Json(text) => {
                self.ui.part(if self.begun { ",\n" } else { "\n" });
                self.ui.part(&text);
                self.begun = true;
            }
            Rendered::Rows(rows) => {
                self.rows.extend(rows);
                if self.rows.len() >= ROWS_IN_LINE {
                    self.flush();
                }
            }
        }
    }

    fn flush(&mut self) {
        if self.rows.is_empty() {
            return;
        }
        if !self.begun {
            self.ui.part(&format!("{}\n", self.ui.paint(Label::Strong, "Entries")));
        }
        self.begun = true;
        self.ui.part(&lines(columns(&std::mem::take(&mut self.rows), 2)));
    }

    pub(super) fn end(&mut self) {
        self.flush();
        if self.ui.is_json() {
            self.ui.part("\n],\n");
        }
    }
}

impl EntryOut<'_> {
    /// Adds the entry as JSON on one line.
    fn add_to(&self, out: &mut Vec<u8>) {
        let mut object = ObjectWriter::of(out);
        self.add_fields(&mut object);
        object.end();
    }

    /// Adds its fields to an object.
    pub(super) fn add_fields(&self, object: &mut ObjectWriter<'_>) {
        object.text("account", self.account).text("path", self.path).number("line", self.line);
        if let Some(slot) = &self.slot {
            object.text("slot", slot.as_str());
        }
        object
            .text("algorithm", self.algorithm)
            .number("bits", Some(self.bits))
            .text("fingerprint", self.fingerprint.as_str())
            .text("comment", self.comment.as_str());
        add_limits(object, &self.limits);
    }
}

pub(super) fn entry_out<'a>(entry: &'a AuditEntry, path: Option<&'a str>) -> EntryOut<'a> {
    EntryOut {
        account: &entry.account,
        path,
        line: entry.place.line(),
        slot: entry.place.slot().map(|slot| printable(slot.as_bytes())),
        algorithm: entry.key.algorithm().name(),
        bits: entry.key.bits(),
        fingerprint: entry.fingerprint.to_string(),
        comment: printable(entry.comment.trim_ascii()),
        limits: LimitsOut::from(&entry.limits),
    }
}

pub(super) fn entry_row(entry: &AuditEntry, ui: &Ui) -> Vec<String> {
    let limits = &entry.limits;
    let limited = limits.from.is_some()
        || limits.command.is_some()
        || limits.expires.is_some()
        || !limits.denied.is_empty()
        || !limits.permit.is_empty();
    let comment = wording::comment(&entry.comment);
    vec![
        ui.paint(Label::Strong, &entry.account),
        wording::number(&entry.place),
        entry.key.algorithm().name().to_owned(),
        entry.key.bits().to_string(),
        entry.fingerprint.to_string(),
        if limited { format!("{comment} (restricted)") } else { comment },
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_are_written_as_a_serializer_would() {
        let texts = ["", "edda", "a\"b\\c", "line\nend\t\u{0}", "é\u{202e}"];
        for number in 0..texts.len() * 5 {
            let text = |step: usize| texts[(number * step + step) % texts.len()].to_owned();
            let maybe = |step: usize| (number % (step + 1) != 0).then(|| text(step));
            let limits = LimitsOut {
                from: maybe(1).filter(|_| number % 3 == 0),
                command: maybe(2).filter(|_| number % 3 == 0),
                expires: None,
                denied: maybe(3).map(|_| "pty").into_iter().filter(|_| number % 2 == 0).collect(),
                permit: maybe(4).into_iter().filter(|_| number % 4 == 0).collect(),
            };
            let (account, path) = (text(1), maybe(2));
            let entry = EntryOut {
                account: &account,
                path: path.as_deref(),
                line: (number % 2 == 0).then_some(number),
                slot: maybe(3).filter(|_| number % 2 == 1),
                algorithm: "ssh-rsa",
                bits: number,
                fingerprint: text(3),
                comment: text(4),
                limits,
            };
            let mut written = Vec::new();
            entry.add_to(&mut written);
            assert_eq!(String::from_utf8(written).unwrap(), serde_json::to_string(&entry).unwrap());
        }
    }
}
