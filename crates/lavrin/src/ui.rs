//! The one place where output leaves the program: results to stdout, everything else to stderr, colours by label.

use crate::error::CommandError;
use crate::exit::Exit;
use anstyle::{AnsiColor, Style};
use clap::ValueEnum;
use lavrin_core::finding::Severity;
use lavrin_work::interrupt::Interrupt;
use std::io::{BufRead as _, IsTerminal as _, Write as _};

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
    /// For programs.
    Json,
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
    pub format: Format,
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
            interrupt: Interrupt::default(),
        }
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
    #[expect(clippy::unused_self, reason = "all output goes through this object, so that there is one place for it")]
    pub fn result(&self, text: &str) {
        let mut out = std::io::stdout().lock();
        let ended = if text.ends_with('\n') { "" } else { "\n" };
        let _ =
            out.write_all(text.as_bytes()).and_then(|()| out.write_all(ended.as_bytes())).and_then(|()| out.flush());
    }

    /// Prints a part of a result that is too large to be made at once; [`Ui::result`] prints the last part.
    #[expect(clippy::unused_self, reason = "all output goes through this object, so that there is one place for it")]
    pub fn part(&self, text: &(impl AsRef<[u8]> + ?Sized)) {
        let _ = std::io::stdout().lock().write_all(text.as_ref());
    }

    /// Tells what goes on, on stderr, unless told to be quiet.
    pub fn status(&self, text: &str) {
        if !self.quiet {
            let _ = writeln!(std::io::stderr(), "{text}");
        }
    }

    /// Shows what has to be seen whatever was asked to be left out: what a question is about, a secret that is shown once.
    #[expect(clippy::unused_self, reason = "all output goes through this object, so that there is one place for it")]
    pub fn show(&self, text: &str) {
        let _ = writeln!(std::io::stderr(), "{text}");
    }

    /// Whether somebody watches who wants to see how far it is.
    pub fn shows_progress(&self) -> bool {
        !self.quiet && std::io::stderr().is_terminal()
    }

    /// Warns, on stderr.
    pub fn warn(&self, text: &str) {
        let _ = writeln!(std::io::stderr(), "{} {text}", self.paint_err(Label::Warn, "careful:"));
    }

    /// Shows an error with its causes and hints.
    pub fn error(&self, error: &CommandError) {
        let mut lines = format!("{} {}\n", self.paint_err(Label::Bad, "lavrin:"), error.message);
        for cause in &error.causes {
            lines += &format!("  {} {cause}\n", self.paint_err(Label::Faint, "-"));
        }
        for hint in &error.hints {
            lines += &format!("  {} {}\n", self.paint_err(Label::Faint, "next:"), self.paint_err(Label::Type, hint));
        }
        let _ = std::io::stderr().write_all(lines.as_bytes());
    }

    /// Asks a question that is answered with yes or no. Without a terminal nobody can be asked.
    pub fn confirm(&self, question: &str, instead: &str) -> Result<bool, CommandError> {
        if !std::io::stdin().is_terminal() {
            let said = CommandError::with(Exit::Usage, "this needs a yes, and there is no terminal to ask on");
            return Err(said.because(question.to_owned()).hint(instead.to_owned()));
        }
        let _ = write!(std::io::stderr(), "{question} {} ", self.paint_err(Label::Strong, "[yes/no]"));
        let _ = std::io::stderr().flush();
        let mut line = String::new();
        std::io::stdin()
            .lock()
            .read_line(&mut line)
            .map_err(|error| CommandError::usage(format!("no answer: {error}")))?;
        Ok(matches!(line.trim().to_ascii_lowercase().as_str(), "yes" | "y"))
    }
}

/// Tells somebody who ended a run why it has not ended yet. What comes next on the screen may be a progress line.
pub fn tell_that_it_ends() {
    let said = "ending: no further host is begun, those at work finish their safety steps; once more does not wait";
    let _ = writeln!(std::io::stderr(), "\r{said}");
}

fn paint(on: bool, label: Label, text: &str) -> String {
    if on { format!("{}{text}{}", label.style().render(), label.style().render_reset()) } else { text.to_owned() }
}
