//! `lavrin version`: which program this is.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use time::OffsetDateTime;

/// The version of the program
#[derive(Debug, Args)]
pub struct VersionArgs {
    /// Also the commit it was built from, when, and how
    #[arg(long)]
    pub long: bool,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct VersionOut {
    schema: &'static str,
    version: &'static str,
    /// The commit of the source; `null` where whoever built it did not say.
    commit: Option<&'static str>,
    /// The day of the source (`SOURCE_DATE_EPOCH` of the build; `scripts/dist.sh` hands it on as `LAVRIN_DATE`).
    date: Option<String>,
    /// The machines that it runs on.
    target: String,
    /// `static`: the C library is part of it, and name services of the system are not used.
    linked: &'static str,
    /// What is built in.
    features: Vec<&'static str>,
}

/// Parts that a build may have or not.
fn features() -> Vec<&'static str> {
    let all = [("demo", true), ("sqlite", true), ("debug-assertions", cfg!(debug_assertions))];
    all.into_iter().filter(|(_, is_there)| *is_there).map(|(name, _)| name).collect()
}

/// Runs the command.
pub fn run(args: &VersionArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let date = option_env!("LAVRIN_DATE").or(option_env!("SOURCE_DATE_EPOCH"));
    let date = date.and_then(|seconds| seconds.parse().ok());
    let date = date.and_then(|seconds| OffsetDateTime::from_unix_timestamp(seconds).ok());
    let out = VersionOut {
        schema: "lavrin/version/1",
        version: env!("CARGO_PKG_VERSION"),
        commit: option_env!("LAVRIN_COMMIT").filter(|commit| !commit.is_empty()),
        date: date.map(|date| date.date().to_string()),
        target: format!("{}-{}", std::env::consts::ARCH, std::env::consts::OS),
        linked: if cfg!(target_feature = "crt-static") { "static" } else { "dynamic" },
        features: features(),
    };
    ui.give(&out, || text(&out, args.long));
    Ok(Exit::Done)
}

fn text(out: &VersionOut, long: bool) -> String {
    let first = ["lavrin", out.version].join(" ");
    if !long {
        return first;
    }
    let linked = match out.linked {
        "static" => "static: names are looked up by /etc/hosts and DNS only",
        other => other,
    };
    format!(
        "{first}\n  commit    {}\n  date      {}\n  target    {}\n  linked    {linked}\n  features  {}",
        out.commit.unwrap_or("not recorded by the build"),
        out.date.as_deref().unwrap_or("not recorded by the build"),
        out.target,
        out.features.join(", ")
    )
}
