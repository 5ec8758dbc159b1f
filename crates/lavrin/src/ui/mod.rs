//! The one place where output leaves the program: results to stdout, everything else to stderr, colours by label.

mod leaving;
mod pager;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::screen;
use anstyle::{AnsiColor, Style};
use clap::ValueEnum;
use lavrin_report::rows::TableRow;
use lavrin_report::{csv, rows};
use lavrin_server::finding::Severity;
use lavrin_work::interrupt::Interrupt;
use pager::Pager;
use std::io::{BufRead as _, IsTerminal as _, Write as _};
use std::sync::atomic::{AtomicBool, Ordering};

/// When to use colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// On a terminal, unless `NO_COLOR` is set.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// How results are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    Text,
    /// For programs: one object.
    Json,
    /// For tables: a line of names, then a line for each row
    Csv,
    /// For programs, row by row: one object on each line
    Jsonl,
    /// Findings for a code host (SARIF 2.1.0)
    Sarif,
}

impl Format {
    /// As it is typed.
    pub fn name(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Json => "json",
            Self::Csv => "csv",
            Self::Jsonl => "jsonl",
            Self::Sarif => "sarif",
        }
    }

    /// Whether it is JSON of some kind.
    fn is_json(self) -> bool {
        matches!(self, Self::Json | Self::Jsonl | Self::Sarif)
    }
}

/// What a piece of text is, which decides its colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Label {
    /// All is well.
    Good,
    /// Something to look at.
    Warn,
    /// Something is wrong.
    Bad,
    /// A heading or a name that stands out.
    Strong,
    /// Beside the point.
    Faint,
    /// Something to type.
    Type,
}

impl Label {
    /// The label of a severity.
    pub fn of(severity: Severity) -> Self {
        match severity {
            Severity::Critical | Severity::High => Self::Bad,
            Severity::Medium | Severity::Low => Self::Warn,
            Severity::Info => Self::Faint,
        }
    }

    /// All of them; their places number them.
    const ALL: [Self; 6] = [Self::Good, Self::Warn, Self::Bad, Self::Strong, Self::Faint, Self::Type];

    fn style(self) -> Style {
        let plain = Style::new();
        match self {
            Self::Good => plain.fg_color(Some(AnsiColor::Green.into())),
            Self::Warn => plain.fg_color(Some(AnsiColor::Yellow.into())),
            Self::Bad => plain.bold().fg_color(Some(AnsiColor::Red.into())),
            Self::Strong => plain.bold(),
            Self::Faint => plain.dimmed(),
            Self::Type => plain.fg_color(Some(AnsiColor::Cyan.into())),
        }
    }
}

/// The output of a run.
#[derive(Debug)]
pub struct Ui {
    out_colors: bool,
    err_colors: bool,
    quiet: bool,
    /// How results are printed.
    format: Format,
    /// What shows long results page by page.
    pager: Option<Pager>,
    /// Whether the result may be incomplete.
    is_in_part: AtomicBool,
    /// Whether somebody wants the run to end.
    pub interrupt: Interrupt,
}

impl Ui {
    /// Decides about colours once.
    pub fn new(color: Color, format: Format, quiet: bool) -> Self {
        let no_color = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let wanted = |terminal: bool| match color {
            Color::Always => true,
            Color::Never => false,
            Color::Auto => terminal && !no_color,
        };
        Self {
            out_colors: wanted(std::io::stdout().is_terminal()),
            err_colors: wanted(std::io::stderr().is_terminal()),
            quiet,
            format,
            pager: None,
            is_in_part: AtomicBool::new(false),
            interrupt: Interrupt::default(),
        }
    }

    /// The same, with results shown page by page, where there is a terminal and `PAGER` says by what.
    pub fn paged(self) -> Self {
        Self { pager: Pager::begin(), ..self }
    }

    /// Text for a result, coloured where stdout takes colours.
    pub fn paint(&self, label: Label, text: &str) -> String {
        paint(self.out_colors, label, text)
    }

    /// Text for a status line, coloured where stderr takes colours.
    pub fn paint_status(&self, label: Label, text: &str) -> String {
        self.paint_err(label, text)
    }

    fn paint_err(&self, label: Label, text: &str) -> String {
        paint(self.err_colors, label, text)
    }

    /// Prints a result. A reader that has gone away is no failure.
    pub fn result(&self, text: &str) {
        let ended = if text.ends_with('\n') { "" } else { "\n" };
        self.out(text);
        self.out(ended);
        if self.pager.is_none() {
            let _ = std::io::stdout().lock().flush();
        }
    }

    /// Prints what a command found out or did: the value itself for programs, its words for people.
    pub fn give<T: serde::Serialize>(&self, value: &T, words: impl FnOnce() -> String) {
        let text = if self.is_json() { crate::json::print(value) } else { words() };
        self.result(&text);
    }

    /// The same for a result that can be told as rows too.
    pub fn give_rows<T: serde::Serialize, R: TableRow>(
        &self,
        value: &T,
        rows: impl FnOnce() -> Vec<R>,
        words: impl FnOnce() -> String,
    ) {
        if !self.has_rows() {
            return self.give(value, words);
        }
        self.begin_rows::<R>();
        self.rows(&rows());
    }

    /// Whether the result is rows.
    pub fn has_rows(&self) -> bool {
        matches!(self.format, Format::Csv | Format::Jsonl)
    }

    /// The line of names in front of rows.
    pub fn begin_rows<R: TableRow>(&self) {
        if self.format == Format::Csv {
            self.part(&csv::lines(&[rows::names::<R>()]));
        }
    }

    /// Prints some rows.
    pub fn rows<R: TableRow>(&self, some: &[R]) {
        self.part(&self.rows_rendered(some));
    }

    /// Some rows as they are printed.
    pub fn rows_rendered<R: TableRow>(&self, some: &[R]) -> Vec<u8> {
        if self.format == Format::Csv {
            return csv::lines(&some.iter().map(rows::cells).collect::<Vec<_>>());
        }
        let mut text = Vec::new();
        for row in some {
            crate::json::add_line(&mut text, row);
            text.push(b'\n');
        }
        text
    }

    /// Whether a program reads the result, so that nobody is asked anything in between.
    pub fn is_for_programs(&self) -> bool {
        self.format != Format::Text
    }

    /// Whether people read the result.
    pub fn is_text(&self) -> bool {
        self.format == Format::Text
    }

    /// Whether the result is one object. Asked where a result is too large to be one value.
    pub fn is_json(&self) -> bool {
        self.format == Format::Json
    }

    /// Whether the result is findings for a code host.
    pub fn is_sarif(&self) -> bool {
        self.format == Format::Sarif
    }

    /// Prints a part of a result that is too large to be made at once; [`Ui::result`] prints the last part.
    pub fn part(&self, text: &(impl AsRef<[u8]> + ?Sized)) {
        let bytes = text.as_ref();
        if lavrin_keys::text::is_harmless(bytes) {
            self.write(bytes);
        } else {
            self.out(&String::from_utf8_lossy(bytes));
        }
    }

    /// Everything that goes to stdout, or to the pager.
    fn out(&self, text: &str) {
        let text = leaving(text, self.format, self.out_colors);
        let text = if self.format == Format::Text && !screen::is_unicode() { leaving::in_ascii(&text) } else { text };
        self.write(text.as_bytes());
    }

    fn write(&self, bytes: &[u8]) {
        match &self.pager {
            Some(pager) => pager.write(bytes),
            None => drop(std::io::stdout().lock().write_all(bytes)),
        }
    }

    /// Tells what goes on, on stderr, unless told to be quiet.
    pub fn status(&self, text: &str) {
        if !self.quiet {
            self.show(text);
        }
    }

    /// Shows what has to be seen whatever was asked to be left out: what a question is about, a secret that is shown once.
    pub fn show(&self, text: &str) {
        self.tell(&format!("{text}\n"));
    }

    /// Everything that goes to stderr.
    fn tell(&self, text: &str) {
        let mut err = std::io::stderr().lock();
        let _ = err.write_all(leaving(text, Format::Text, self.err_colors).as_bytes()).and_then(|()| err.flush());
    }

    /// Whether somebody watches who wants to see how far it is.
    pub fn shows_progress(&self) -> bool {
        !self.quiet && std::io::stderr().is_terminal()
    }

    /// Warns, on stderr.
    pub fn warn(&self, text: &str) {
        self.show(&format!("{} {text}", self.paint_err(Label::Warn, "careful:")));
    }

    /// Warns that the result may be incomplete; the run then ends with exit code 3.
    pub fn warns_in_part(&self, why: &str) {
        // Said once, also where a run reads the register again.
        if !self.is_in_part.swap(true, Ordering::Relaxed) {
            self.warn(why);
        }
    }

    /// Whether the result may be incomplete.
    pub fn is_in_part(&self) -> bool {
        self.is_in_part.load(Ordering::Relaxed)
    }

    /// The exit code of the run: 3 at least where the result may be incomplete.
    pub fn ended(&self, exit: Exit) -> Exit {
        if self.is_in_part() { exit.max(Exit::NotChecked) } else { exit }
    }

    /// Shows an error with its causes and hints.
    pub fn error(&self, error: &CommandError) {
        let mut lines = format!("{} {}\n", self.paint_err(Label::Bad, "lavrin:"), error.message);
        for cause in &error.causes {
            lines += &format!("  {} {cause}\n", self.paint_err(Label::Faint, "-"));
        }
        for hint in &error.hints {
            let hint = crate::cli::complete(hint);
            lines += &format!("  {} {}\n", self.paint_err(Label::Faint, "next:"), self.paint_err(Label::Type, &hint));
        }
        self.tell(&lines);
    }

    /// Asks for a line, where somebody is there to type one; nothing at the end of the input.
    pub fn ask(&self, question: &str) -> Result<Option<String>, CommandError> {
        self.tell(&format!("{question} "));
        let mut line = String::new();
        let read = std::io::stdin().lock().read_line(&mut line);
        let read = read.map_err(|error| CommandError::usage(format!("no answer: {error}")))?;
        Ok((read > 0).then(|| line.trim().to_owned()))
    }

    /// Asks a question that is answered with yes or no. Without a terminal nobody can be asked.
    pub fn confirm(&self, question: &str, instead: &[(&str, &str)]) -> Result<bool, CommandError> {
        if !std::io::stdin().is_terminal() {
            let said = CommandError::with(Exit::Usage, "this needs a yes, and there is no terminal to ask at");
            let said = said.because(question.to_owned());
            return Err(instead.iter().fold(said, |said, (what_for, options)| said.again(what_for, options)));
        }
        let answer = self.ask(&format!("{question} {}", self.paint_err(Label::Strong, "[yes/no]")))?;
        Ok(matches!(answer.unwrap_or_default().to_ascii_lowercase().as_str(), "yes" | "y"))
    }
}

/// Tells somebody who ended a run why it has not ended yet. What comes next on the screen may be a progress line.
pub fn tell_that_it_ends() {
    let said =
        "ending: no further host is started; those at work finish their safety steps; a second Ctrl-C does not wait";
    let _ = writeln!(std::io::stderr(), "\r{said}");
}

fn paint(on: bool, label: Label, text: &str) -> String {
    let number = Label::ALL.iter().position(|other| *other == label).filter(|_| on);
    number.map_or_else(|| text.to_owned(), |number| leaving::marked(number, text))
}

fn leaving(text: &str, format: Format, colors: bool) -> std::borrow::Cow<'_, str> {
    leaving::leaving(text, format, |number| {
        let label = number.and_then(|number| Label::ALL.get(number)).filter(|_| colors);
        match label {
            Some(label) => label.style().render().to_string(),
            None if colors => anstyle::Reset.render().to_string(),
            None => String::new(),
        }
    })
}
