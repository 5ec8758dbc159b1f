//! What a shell may put behind what was typed so far: commands and options, and the people, hosts, tags, accounts and keys of the
//! register that one stands in.

use crate::command::register::RegisterArgs;
use clap::{Arg, Command, ValueHint};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate, PathCompleter, ValueCompleter as _};
use clap_complete::env::{Bash, EnvCompleter, Fish, Shells, Zsh};
use lavrin_fleet::register::{Register, SourceFile, read};
use lavrin_store::register::{MAIN_FILE, RegisterFolder};
use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// By this variable a shell asks.
const VARIABLE: &str = "LAVRIN_COMPLETE";

/// A file of grants longer than this is not read while somebody waits for a key press, in bytes.
const GRANTS_MAX: usize = 1 << 20;

/// The shells that are served.
const SHELLS: [&dyn EnvCompleter; 3] = [&OwnBash, &Fish, &Zsh];

/// Answers a shell that asks, and says whether one did.
pub fn answers(command: impl Fn() -> Command) -> bool {
    // Without the variable nothing is built.
    if std::env::var_os(VARIABLE).is_none() {
        return false;
    }
    let asked = clap_complete::CompleteEnv::with_factory(|| with_names(command()))
        .var(VARIABLE)
        .bin("lavrin")
        .completer("lavrin")
        .shells(Shells(&SHELLS));
    let here = std::env::current_dir().ok();
    asked.try_complete(std::env::args_os(), here.as_deref()).unwrap_or(true)
}

/// The text that a shell has to read once.
pub fn script(shell: &str) -> Option<Vec<u8>> {
    let shell = SHELLS.into_iter().find(|known| known.is(shell))?;
    let mut text = Vec::new();
    shell.write_registration(VARIABLE, "lavrin", "lavrin", "lavrin", &mut text).ok()?;
    Some(text)
}

/// Gives each value that names something of the register its names.
fn with_names(mut command: Command) -> Command {
    command = command.mut_args(with_names_of);
    let subs: Vec<String> = command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    for sub in subs {
        command = command.mut_subcommand(sub, with_names);
    }
    command
}

/// What a value may name.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Named {
    People,
    Teams,
    Hosts,
    Tags,
    Sites,
    Accounts,
    Fingerprints,
}

fn with_names_of(arg: Arg) -> Arg {
    if !arg.get_action().takes_values() {
        return arg;
    }
    let shown: String = arg.get_value_names().into_iter().flatten().map(clap::builder::Str::as_str).collect();
    let mut named: Vec<Named> = Vec::new();
    let mut takes_files = false;
    for part in shown.trim_end_matches(",…").split('|') {
        match part {
            "PERSON" => named.push(Named::People),
            "TEAM" => named.push(Named::Teams),
            "HOST" => named.push(Named::Hosts),
            "TAG" => named.push(Named::Tags),
            "SITE" => named.push(Named::Sites),
            "ACCOUNT@HOST" | "ACCOUNT[@HOST]" => named.push(Named::Accounts),
            "SHA256:…" | "FINGERPRINT" => named.push(Named::Fingerprints),
            "FROM" | "TO" => named.extend([Named::People, Named::Hosts, Named::Tags, Named::Accounts]),
            "WHERE" => named.extend([Named::Hosts, Named::Tags, Named::Accounts]),
            "WHO" => named.extend([Named::People, Named::Teams]),
            "DIR" => return arg.value_hint(ValueHint::DirPath),
            _ => takes_files |= part.contains("FILE") || part.contains("KEY") || part == "PATH",
        }
    }
    if named.is_empty() {
        return if takes_files { arg.value_hint(ValueHint::FilePath) } else { arg };
    }
    let complete = move |current: &OsStr| {
        let mut found = candidates(&named, current);
        if takes_files {
            found.extend(PathCompleter::file().complete(current));
        }
        found
    };
    arg.add(ArgValueCompleter::new(complete))
}

fn candidates(named: &[Named], current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(folder) = folder() else { return Vec::new() };
    let begin = current.to_string_lossy();
    let mut names = BTreeSet::new();
    for kind in named {
        names.extend(of_kind(*kind, &folder));
    }
    names.into_iter().filter(|name| name.starts_with(&*begin)).map(CompletionCandidate::new).collect()
}

/// The register that is meant: by what was typed so far, else the one that one stands in.
fn folder() -> Option<RegisterFolder> {
    let words: Vec<OsString> = std::env::args_os().collect();
    let typed = words.windows(2).find(|pair| pair[0] == "--register").map(|pair| PathBuf::from(&pair[1]));
    let typed = typed.map(|path| crate::paths::typed(&path.to_string_lossy()).unwrap_or(path));
    RegisterArgs::of(typed).folder_here().ok().flatten()
}

fn of_kind(kind: Named, folder: &RegisterFolder) -> Vec<String> {
    match kind {
        // The names of the files are those of the people: nobody waits for five thousand files to be read.
        Named::People => {
            let names = folder.names_in("people").unwrap_or_default().into_iter();
            names.filter_map(|name| Some(name.strip_suffix(".toml")?.to_owned())).collect()
        }
        Named::Teams => people(folder).people.into_values().filter_map(|person| person.team).collect(),
        Named::Fingerprints => {
            let people = people(folder).people.into_values().flat_map(|person| person.keys);
            people.map(|key| key.fingerprint.to_string()).collect()
        }
        Named::Hosts => hosts(folder).hosts.into_keys().collect(),
        Named::Tags => hosts(folder).hosts.into_values().flat_map(|host| host.tags).collect(),
        Named::Sites => hosts(folder).hosts.into_values().filter_map(|host| host.site).collect(),
        Named::Accounts => {
            let register = hosts(folder);
            let own = register.all_hosts().flat_map(|host| {
                let accounts = host.accounts.iter().map(|account| &account.value).chain(&host.login);
                accounts.map(|account| format!("{account}@{}", host.id))
            });
            let granted = register
                .grants
                .iter()
                .flat_map(|grant| register.hosts_of(grant).map(|host| format!("{}@{}", grant.account, host.id)));
            own.chain(granted).filter(|name| name.chars().all(lavrin_keys::text::is_plain)).collect()
        }
    }
}

fn people(folder: &RegisterFolder) -> Register {
    let names = folder.names_in("people").unwrap_or_default();
    part(folder, names.iter().map(|name| format!("people/{name}")))
}

fn hosts(folder: &RegisterFolder) -> Register {
    let names = folder.names_in("hosts").unwrap_or_default();
    let grants = folder.text("access.toml").ok().flatten().filter(|text| text.len() <= GRANTS_MAX);
    let grants = grants.map(|_| "access.toml".to_owned());
    let own = names.iter().map(|name| format!("hosts/{name}")).chain(["hosts.toml".to_owned()]);
    part(folder, own.chain(grants))
}

/// What these files of a register say.
fn part(folder: &RegisterFolder, paths: impl Iterator<Item = String>) -> Register {
    let paths = paths.filter(|path| Path::new(path).extension().is_some_and(|ending| ending == "toml"));
    let files = paths.chain([MAIN_FILE.to_owned()]).filter_map(|path| {
        let text = folder.text(&path).ok()??;
        Some(SourceFile { path, text })
    });
    read(&files.collect::<Vec<_>>()).register
}

/// Bash takes words apart at `@` and `:`; here a word is what stands between blanks.
struct OwnBash;

const BASH: &str = r#"_lavrin_complete() {
    local line=${COMP_LINE:0:COMP_POINT} IFS=$' \t\n'
    local words; read -r -a words <<<"$line"
    if [[ $line == *[[:space:]] ]]; then words+=(""); fi
    local current=${words[${#words[@]}-1]}
    local before=${current%"${current##*[@:=]}"}
    IFS=$'\013'
    COMPREPLY=($(_CLAP_IFS="$IFS" _CLAP_COMPLETE_INDEX=$((${#words[@]} - 1)) VARIABLE=bash lavrin -- "${words[@]}")) || { COMPREPLY=(); return; }
    COMPREPLY=("${COMPREPLY[@]#"$before"}")
}
complete -o bashdefault -F _lavrin_complete lavrin
"#;

impl EnvCompleter for OwnBash {
    fn name(&self) -> &'static str {
        "bash"
    }

    fn is(&self, name: &str) -> bool {
        name == "bash"
    }

    fn write_registration(&self, variable: &str, _: &str, _: &str, _: &str, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(BASH.replace("VARIABLE", variable).as_bytes())
    }

    fn write_complete(
        &self,
        command: &mut Command,
        args: Vec<OsString>,
        here: Option<&Path>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        Bash.write_complete(command, args, here, out)
    }
}
