//! `lavrin rule`: what a finding's name stands for.

use super::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording::rules::{RULES, RuleWords, usual};
use clap::Args;
use serde::Serialize;

/// What a rule is about, why it matters and what mends it
#[derive(Debug, Args)]
pub struct RuleArgs {
    /// The rule, as a finding names it (default: all of them)
    #[arg(value_name = "RULE")]
    pub name: Option<String>,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RulesOut {
    schema: &'static str,
    rules: Vec<RuleOut>,
}

/// A rule.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct RuleOut {
    name: &'static str,
    /// How severe it usually is, the gravest first.
    severities: Vec<&'static str>,
    about: &'static str,
    why: &'static str,
    mend: &'static str,
}

impl RuleOut {
    fn of(rule: &RuleWords) -> Self {
        Self { name: rule.name, severities: usual(rule.name), about: rule.about, why: rule.why, mend: rule.mend }
    }
}

/// Runs the command.
pub fn run(args: &RuleArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let rules: Vec<RuleOut> = match &args.name {
        None => RULES.iter().map(RuleOut::of).collect(),
        Some(name) => {
            let found = RULES.iter().find(|rule| rule.name == name).ok_or_else(|| {
                let error = CommandError::usage(format!("there is no rule '{name}'"));
                let names = RULES.iter().map(|rule| rule.name);
                unknown::with_near(error, name, names, "lavrin rule ").hint("lavrin rule")
            })?;
            vec![RuleOut::of(found)]
        }
    };
    let out = RulesOut { schema: "lavrin/rule/1", rules };
    ui.give(&out, || match (&args.name, out.rules.as_slice()) {
        (Some(_), [rule]) => format!(
            "{}, usually {}\n  {}\n\n  why   {}\n  mend  {}",
            ui.paint(Label::Strong, rule.name),
            rule.severities.join(" or "),
            rule.about,
            rule.why,
            rule.mend
        ),
        (_, rules) => {
            let row = |rule: &RuleOut| vec![rule.name.to_owned(), rule.severities.join(" or "), rule.about.to_owned()];
            columns(&rules.iter().map(row).collect::<Vec<_>>(), 0).join("\n")
        }
    });
    Ok(Exit::Done)
}
