//! `lavrin host settings`: what the server's configuration says for a login, and from which file and line each value comes.

use crate::command::place::Work;
use crate::command::register::RegisterArgs;
use crate::connection::{ConnectionArgs, ServerArgs};
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::paths;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_server::abilities::Ability;
use lavrin_server::account::Account;
use lavrin_server::fs::BytePath;
use lavrin_server::server_config::{self, Settings};
use lavrin_server::steps::NoSteps;
use lavrin_server::survey::LoginAttempt;
use lavrin_server::survey::{Observation, Want, Wanted, Who};
use lavrin_work::ways::Rights;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

/// Show which server settings apply to a login, each with its file and line
#[derive(Debug, Args)]
pub struct SettingsArgs {
    /// The host; nothing with --tree
    #[arg(value_name = "HOST", required_unless_present = "tree", conflicts_with = "tree")]
    pub host_name: Option<String>,
    /// The account that would log in; without it no Match User applies
    #[arg(long, value_name = "ACCOUNT")]
    pub account: Option<String>,
    /// A local tree (an image, a chroot, / itself) instead of a host
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub tree: Option<PathBuf>,
    #[command(flatten)]
    pub connection: ConnectionArgs,
    #[command(flatten)]
    server: ServerArgs,
    #[command(flatten)]
    host: HostArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct SettingsOut {
    schema: &'static str,
    /// Whether the server would start with its configuration.
    valid: bool,
    errors: Vec<ConfigErrorOut>,
    /// What ends each session of this login as soon as it begins.
    ends: Option<ConfigErrorOut>,
    /// Keywords that nobody here knows; the server, which is newer, may.
    unknown: Vec<ConditionalOut>,
    values: BTreeMap<String, ValueOut>,
    /// What a Match block sets whose condition depends on something that was not said.
    conditional: Vec<ConditionalOut>,
    /// By which server's rules, and how that is known.
    server: String,
    /// Where the running server says something else than its files, as it prints it.
    differs: BTreeMap<String, String>,
}

/// Why the server would not start.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ConfigErrorOut {
    path: String,
    line: usize,
    message: String,
}

/// A value, and where it comes from; no line where it is the built-in default.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ValueOut {
    value: String,
    path: Option<String>,
    line: Option<usize>,
}

/// A keyword that a Match block may set.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ConditionalOut {
    keyword: String,
    path: String,
    line: usize,
}

/// Runs the command.
pub async fn run(args: &SettingsArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let name = args.account.as_deref();
    let mut work = match (&args.tree, &args.host_name) {
        (Some(root), _) => Work::open_tree(root)?,
        (None, Some(host)) => {
            let account = name.unwrap_or("root");
            let register = args.register.here_for_host(None, ui)?;
            let host = host.trim_start_matches('@');
            Work::open_host(ui, register.as_ref(), host, account, &args.host, Rights::Wanted).await?
        }
        (None, None) => return Err(CommandError::usage("whose settings? HOST or --tree DIR")),
    };
    // As in the server's own test mode a name that is given counts, whatever UseDNS says.
    work.seen.connection = LoginAttempt { host_counts: true, ..args.connection.connection() };
    args.server.give(&mut work.seen);
    work.look(&|seen| wants(name, seen)).await?;
    if !work.seen.abilities.has(Ability::Settings) {
        let place = work.site.name().to_owned();
        return Err(no_steps(&NoSteps::NotApplicable(Ability::Settings), name.unwrap_or("root"), &place));
    }
    let account = name.map(|name| work.seen.account(name).cloned().unwrap_or_else(|| Account::unknown(name)));
    let settings = Settings::from_files(account.as_ref(), &work.seen);
    let out = out_of(&settings, &work);
    ui.give(&out, || text_of(&out, ui));
    if !settings.unseen.is_empty() {
        ui.warn(&format!("not read: {}", work.typed_path(&settings.unseen[0])));
        return Ok(Exit::NotChecked);
    }
    if !out.unknown.is_empty() && out.valid {
        return Ok(Exit::NotChecked);
    }
    Ok(if out.valid && out.ends.is_none() { Exit::Done } else { Exit::Findings })
}

fn wants(name: Option<&str>, seen: &Observation) -> Vec<Want> {
    if !seen.looked {
        let who = name.map_or(Who::All, |name| Who::One(name.to_owned()));
        return vec![Want { what: Wanted::System(who), account: None }];
    }
    let mut wants = server_config::wants(seen);
    wants.retain(|want| !seen.answers(want));
    wants
}

fn out_of(settings: &Settings, work: &Work) -> SettingsOut {
    let errors = settings.faults.iter().map(|fault| ConfigErrorOut {
        path: work.typed_path(&fault.path),
        line: fault.line,
        message: wording::config::error(&fault.what),
    });
    let value = |(keyword, (value, setting)): (String, (String, Option<server_config::Setting>))| {
        let path = setting.as_ref().and_then(|setting| setting.path.as_ref()).map(|path| work.typed_path(path));
        (keyword, ValueOut { value, path, line: setting.and_then(|setting| setting.line) })
    };
    let placed = |(keyword, path, line): &(String, BytePath, usize)| ConditionalOut {
        keyword: keyword.clone(),
        path: work.typed_path(path),
        line: *line,
    };
    SettingsOut {
        schema: "lavrin/host-settings/1",
        valid: settings.faults.is_empty(),
        errors: errors.collect(),
        ends: settings.ends.as_ref().map(|fault| ConfigErrorOut {
            path: work.typed_path(&fault.path),
            line: fault.line,
            message: wording::config::error(&fault.what),
        }),
        unknown: settings.unknown.iter().map(placed).collect(),
        values: settings.printed().into_iter().map(value).collect(),
        conditional: settings.conditional.iter().map(placed).collect(),
        differs: differs(settings, &work.seen),
        server: wording::server(&work.seen),
    }
}

/// The keywords for which the server itself says something else than our reading of its files.
fn differs(settings: &Settings, seen: &Observation) -> BTreeMap<String, String> {
    let Some(said) = &seen.said_by_server else { return BTreeMap::new() };
    let said = Settings::from_server(said, seen.server.rules()).printed();
    let ours = settings.printed();
    let ports: Vec<String> =
        said.get("port").map(|(ports, _)| ports.split(' ').map(str::to_owned).collect()).unwrap_or_default();
    let differing = said.into_iter().filter(|(keyword, (value, _))| {
        ours.get(keyword).is_some_and(|(our_value, _)| !says_the_same(keyword, our_value, value, &ports))
    });
    differing.map(|(keyword, (value, _))| (keyword, value)).collect()
}

/// Whether our reading of the files and what the server prints are one. The server prints each part of a list on a line of its
/// own, in its own order, and addresses with each port.
fn says_the_same(keyword: &str, ours: &str, said: &str, ports: &[String]) -> bool {
    let list = |text: &str| {
        text.split(' ').filter(|word| !word.is_empty()).map(str::to_ascii_lowercase).collect::<BTreeSet<_>>()
    };
    match keyword {
        "listenaddress" => {
            let with_ports = |word: String| -> Vec<String> {
                let bare = word.trim_matches(['[', ']']);
                let is_whole = word.contains("]:") || word.matches(':').count() == 1;
                let address = if bare.contains(':') { format!("[{bare}]") } else { bare.to_owned() };
                if is_whole { vec![word] } else { ports.iter().map(|port| format!("{address}:{port}")).collect() }
            };
            list(ours).into_iter().flat_map(with_ports).collect::<BTreeSet<_>>() == list(said)
        }
        // Ours is the first of them.
        "subsystem" => said.to_ascii_lowercase().starts_with(&ours.to_ascii_lowercase()),
        _ => ours.eq_ignore_ascii_case(said) || list(ours) == list(said),
    }
}

fn text_of(out: &SettingsOut, ui: &Ui) -> String {
    let mut text = String::new();
    for error in &out.errors {
        let place = ui.paint(Label::Strong, &format!("{} line {}", error.path, error.line));
        text += &format!("{} {place}: {}\n", ui.paint(Label::Bad, "does not start:"), error.message);
    }
    if let Some(error) = &out.ends {
        let place = ui.paint(Label::Strong, &format!("{} line {}", error.path, error.line));
        text += &format!("{} {place}: {}\n", ui.paint(Label::Bad, "ends each session:"), error.message);
    }
    for unknown in &out.unknown {
        let place = ui.paint(Label::Strong, &format!("{} line {}", unknown.path, unknown.line));
        text += &format!(
            "{} {place}: {} is unknown here; the server may know it\n",
            ui.paint(Label::Warn, "undecided:"),
            unknown.keyword
        );
    }
    let rows: Vec<Vec<String>> = out
        .values
        .iter()
        .map(|(keyword, value)| {
            let place = match (&value.path, value.line) {
                (Some(path), Some(line)) => format!("{path} line {line}"),
                _ => ui.paint(Label::Faint, "built in"),
            };
            vec![ui.paint(Label::Strong, keyword), shortened(&value.value), place]
        })
        .collect();
    for line in columns(&rows, 0) {
        text += &format!("{line}\n");
    }
    for open in &out.conditional {
        text += &format!(
            "{} {} line {} sets {} for some connections; say which: --from-address, --from-host, --local-address, \
             --local-port\n",
            ui.paint(Label::Warn, "open:"),
            open.path,
            open.line,
            open.keyword
        );
    }
    for (keyword, value) in &out.differs {
        text += &format!("{} the running server has {keyword} {value}\n", ui.paint(Label::Bad, "differs:"));
    }
    text
}

/// Longest value that is shown whole, in characters.
const SHOWN_CHARS: usize = 60;

fn shortened(value: &str) -> String {
    if value.chars().count() <= SHOWN_CHARS {
        return value.to_owned();
    }
    value.chars().take(SHOWN_CHARS - 2).collect::<String>() + " …"
}

#[cfg(test)]
mod tests {
    use super::says_the_same;

    #[test]
    fn lists_are_compared_as_lists_and_addresses_with_their_ports() {
        let ports = ["22".to_owned(), "2222".to_owned()];
        let same = |keyword: &str, ours: &str, said: &str| says_the_same(keyword, ours, said, &ports);
        assert!(same("acceptenv", "LANG LC_*", "LC_* LANG") && !same("acceptenv", "LANG", "LANG LC_*"));
        assert!(same("listenaddress", "127.0.0.1", "127.0.0.1:22 127.0.0.1:2222"));
        assert!(same("listenaddress", "::1 192.0.2.1:22", "192.0.2.1:22 [::1]:2222 [::1]:22"));
        assert!(!same("listenaddress", "127.0.0.1", "127.0.0.1:22"));
        assert!(same("subsystem", "sftp internal-sftp", "sftp internal-sftp netconf /usr/bin/true"));
    }
}
