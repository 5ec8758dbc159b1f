//! The built program against what a real OpenSSH server answered: each measured case is rebuilt as a tree, which needs
//! root, and asked about. How the server was seen to decide is told in docs/server-rules.md.

use crate::common::World;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use rustix::fs::{CWD, FileType, Mode};
use serde_json::Value;
use std::collections::HashMap;
use std::os::unix::fs::{PermissionsExt as _, chown, lchown, symlink};
use std::path::{Path, PathBuf};

const ACCOUNT: u32 = 20001;
const OTHER: u32 = 20002;

/// A case, and the tree it is rebuilt in.
struct Case<'a> {
    case: &'a Value,
    root: PathBuf,
}

fn cases(name: &str) -> Vec<Value> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/server-cases").join(name);
    let whole: Value = serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap();
    whole["cases"].as_array().unwrap().clone()
}

fn text<'a>(value: &'a Value, field: &str) -> &'a str {
    value[field].as_str().unwrap_or_default()
}

impl Case<'_> {
    fn is_root(&self) -> bool {
        self.case["account"]["kind"] == "root"
    }

    fn user(&self) -> &'static str {
        if self.is_root() { "root" } else { "lvu" }
    }

    /// A text with the names that its placeholders stand for.
    fn fill(&self, template: &str) -> String {
        let user = self.user();
        let mut filled = template
            .replace("{HOME}", &format!("/srv/base/homes/{user}"))
            .replace("{OTHER_HOME}", "/srv/base/homes/lvo")
            .replace("{BASE}", "/srv/base")
            .replace("{USER}", user)
            .replace("{OTHER}", "lvo")
            .replace("{CONFDIR}", "/etc/ssh")
            .replace("{UID}", if self.is_root() { "0" } else { "20001" });
        for name in self.groups().keys() {
            filled = filled.replace(&format!("{{GROUP:{name}}}"), &format!("g_{name}"));
        }
        filled
    }

    fn inside(&self, path: &str) -> PathBuf {
        self.root.join(self.fill(path).trim_start_matches('/'))
    }

    fn groups(&self) -> HashMap<String, u32> {
        let groups = self.case["groups"].as_array().into_iter().flatten();
        groups.zip(30001..).map(|(group, gid)| (text(group, "name").to_owned(), gid)).collect()
    }

    fn primary_group(&self, name: Option<&str>, own: u32) -> u32 {
        match name {
            None | Some("account" | "other") => own,
            Some("root") => 0,
            Some(name) => self.groups()[name],
        }
    }

    fn own_uid(&self) -> u32 {
        if self.is_root() || self.case["account"]["uid"] == "0" { 0 } else { ACCOUNT }
    }

    fn own_gid(&self) -> u32 {
        if self.is_root() { 0 } else { self.primary_group(self.case["account"]["primary_group"].as_str(), ACCOUNT) }
    }

    fn put(&self, path: &str, content: impl AsRef<[u8]>, mode: u32) {
        let path = self.root.join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, content).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
    }

    /// The parts of a system that every case has.
    fn system(&self) {
        let (passwd, shadow) = self.accounts();
        self.put("etc/passwd", passwd, 0o644);
        self.put("etc/shadow", shadow, 0o640);
        self.put("etc/group", self.group_file(), 0o644);
        self.put("etc/services", "ssh\t22/tcp\nsmtp\t25/tcp\ndomain\t53/tcp\nhttp\t80/tcp\nhttps\t443/tcp\n", 0o644);
        self.put("etc/shells", "/bin/sh\n/bin/bash\n", 0o644);
        self.put("etc/os-release", "ID=debian\nVERSION_ID=\"12\"\n", 0o644);
        for shell in ["bin/sh", "bin/bash", "bin/cat", "usr/sbin/nologin", "bin/false", "usr/bin/false"] {
            self.put(shell, "#!\n", 0o755);
        }
        for (folder, mode) in [("root", 0o700), ("srv", 0o755), ("srv/base", 0o755), ("srv/base/homes", 0o755)] {
            std::fs::create_dir_all(self.root.join(folder)).unwrap();
            std::fs::set_permissions(self.root.join(folder), std::fs::Permissions::from_mode(mode)).unwrap();
        }
        std::fs::create_dir_all(self.root.join("dev")).unwrap();
        let null = self.root.join("dev/null");
        let device = rustix::fs::makedev(1, 3);
        rustix::fs::mknodat(CWD, null, FileType::CharacterDevice, Mode::from(0o666), device).unwrap();
    }

    fn accounts(&self) -> (String, String) {
        let account = &self.case["account"];
        let (mut passwd, mut shadow) = (String::new(), String::new());
        if !self.is_root() {
            passwd += "root:x:0:0:root:/root:/bin/sh\n";
            shadow += "root:*:20000:0:99999:7:::\n";
        }
        let or = |field: &str, default: &str| account[field].as_str().unwrap_or(default).to_owned();
        if account["kind"] != "missing" {
            let (home, shell) = (self.fill(&or("home", "{HOME}")), self.fill(&or("shell", "/bin/sh")));
            passwd += &format!("{}:x:{}:{}::{home}:{shell}\n", self.user(), self.own_uid(), self.own_gid());
            if account["no_shadow_entry"] != true {
                let days = |field: &str, default: &str| {
                    account[field].as_i64().map_or_else(|| default.to_owned(), |days| days.to_string())
                };
                shadow += &format!(
                    "{}:{}:{}:0:{}:7:{}:{}:\n",
                    self.user(),
                    or("password", "*"),
                    // Some days before the moment at which the tests run.
                    days("last_change", "20770"),
                    days("max_days", "99999"),
                    days("inactive_days", ""),
                    days("expire_date", "")
                );
            }
        }
        let others = self.primary_group(self.case["other_account"]["primary_group"].as_str(), OTHER);
        passwd += &format!("lvo:x:{OTHER}:{others}::/srv/base/homes/lvo:/bin/sh\n");
        passwd += "nobody:x:65534:65534::/nonexistent:/usr/sbin/nologin\n";
        (passwd, shadow + "lvo:*:20000:0:99999:7:::\n")
    }

    fn group_file(&self) -> String {
        let mut file = "root:x:0:\nlvu:x:20001:\nlvo:x:20002:\nnogroup:x:65534:\n".to_owned();
        for listed in self.case["groups"].as_array().into_iter().flatten() {
            let member = |member: &Value| match member.as_str() {
                Some("account") => self.user(),
                Some("other") => "lvo",
                _ => "root",
            };
            let members: Vec<&str> = listed["members"].as_array().into_iter().flatten().map(member).collect();
            let name = text(listed, "name");
            file += &format!("g_{name}:x:{}:{}\n", self.groups()[name], members.join(","));
        }
        file
    }

    /// Makes the files of the case; `false` where one has an access list, which is not made.
    fn files(&self) -> bool {
        self.case["files"].as_array().unwrap().iter().all(|file| self.file(file))
    }

    fn file(&self, file: &Value) -> bool {
        let path = self.inside(text(file, "path"));
        let owner = match text(file, "owner") {
            "account" => self.own_uid(),
            "other" => OTHER,
            "nobody" => 65534,
            _ => 0,
        };
        let group = match text(file, "group") {
            "account" => self.own_gid(),
            "other" => OTHER,
            "unnamed" => 45678,
            "nobody" => 65534,
            name => self.groups().get(name).copied().unwrap_or(0),
        };
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        match text(file, "type") {
            "absent" => {
                let _ = std::fs::remove_file(&path).or_else(|_| std::fs::remove_dir_all(&path));
                return true;
            }
            "symlink" => {
                symlink(self.fill(text(file, "target")), &path).unwrap();
                lchown(&path, Some(owner), Some(group)).unwrap();
                return true;
            }
            "hardlink" => {
                std::fs::hard_link(self.inside(text(file, "target")), &path).unwrap();
                return true;
            }
            "dir" => std::fs::create_dir_all(&path).unwrap(),
            "file" => std::fs::write(&path, content(&file["content"])).unwrap(),
            "fifo" => rustix::fs::mknodat(CWD, &path, FileType::Fifo, Mode::from(0o600), 0).unwrap(),
            "socket" => rustix::fs::mknodat(CWD, &path, FileType::Socket, Mode::from(0o600), 0).unwrap(),
            other => panic!("{other}"),
        }
        chown(&path, Some(owner), Some(group)).unwrap();
        let mode = u32::from_str_radix(text(file, "mode"), 8).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
        file["acl"].is_null()
    }
}

fn content(segments: &Value) -> Vec<u8> {
    let decode = |value: &Value| STANDARD.decode(value["b64"].as_str().unwrap()).unwrap();
    let segment = |segment: &Value| match segment["repeat"]["count"].as_u64() {
        Some(count) => decode(&segment["repeat"]).repeat(usize::try_from(count).unwrap()),
        None => decode(segment),
    };
    segments.as_array().unwrap().iter().flat_map(segment).collect()
}

/// What the answer has wrong, or nothing.
fn login_disagreement(world: &World, case: &Value, server: &str) -> Option<String> {
    let here = Case { case, root: world.path("tree") };
    here.system();
    if case["config"].is_string() {
        here.put("etc/ssh/sshd_config", here.fill(text(case, "config")), 0o644);
    }
    if !here.files() {
        return None;
    }
    world.write("key.pub", format!("{}\n", text(&case["offered"], "public_key")), 0o644);
    let mut arguments: Vec<&str> = vec!["why", here.user(), "--tree", "tree", "--key", "key.pub", "--format", "json"];
    arguments.extend(["--server", server]);
    arguments.extend(["--from-address", case["client"]["address"].as_str().unwrap_or("127.0.0.1")]);
    if let Some(name) = case["client"]["reverse_name"].as_str() {
        arguments.extend(["--from-host", name]);
    }
    if let Some(name) = case["offered"]["request_algorithm"].as_str() {
        arguments.extend(["--signature", name]);
    }
    let run = world.run(&arguments);
    let (status, answer) = (run.status, run.json());
    let (wanted, class) = (text(&case["answer"], "verdict"), text(&case["answer"], "reason_class"));
    let wanted = if wanted == "server-did-not-start" { "refused" } else { wanted };
    let have = text(&answer, "verdict");
    // A tree cannot tell what a command would say, or whether an authenticator was touched.
    if class == "signature" || text(case, "config").contains("AuthorizedKeysCommand") && have == "undecided" {
        return None;
    }
    let right = have == wanted && status == i32::from(wanted == "refused");
    let line = case["answer"]["matched"]["line"] == answer["entry"]["line"];
    let class_found = text(&answer["deciding"], "class");
    match wanted {
        _ if !right => Some(format!("server {wanted} ({class}), here {have} ({class_found}), exit {status}")),
        "accepted" if !case["answer"]["matched"].is_null() && !line => Some("another line".to_owned()),
        // Version 10.0 says nothing of a file that is not there; of dropbear no classes were measured.
        "refused"
            if class.is_empty() || (class, class_found) == ("no-match", "cannot-open") && server.contains("10.0") =>
        {
            None
        }
        "refused" if class != class_found => Some(format!("refused for {class}, here for {class_found}")),
        _ => None,
    }
}

fn settings_disagreement(world: &World, case: &Value, server: &str) -> Option<String> {
    let here = Case { case, root: world.path("tree") };
    here.system();
    for file in case["files"].as_array().unwrap() {
        let path = here.fill(text(file, "path"));
        here.put(path.trim_start_matches('/'), here.fill(text(file, "text")), 0o644);
    }
    case["answer"]["results"].as_array().unwrap().iter().find_map(|result| {
        let mut arguments: Vec<String> =
            ["host", "settings", "--tree", "tree", "--format", "json", "--server", server].map(str::to_owned).to_vec();
        for (field, option) in [
            ("user", "--account"),
            ("host", "--from-host"),
            ("addr", "--from-address"),
            ("laddr", "--local-address"),
            ("lport", "--local-port"),
        ] {
            if let Some(value) = result["connection"][field].as_str() {
                arguments.extend([option.to_owned(), here.fill(value)]);
            }
        }
        let answer = world.run(&arguments).json();
        let valid = text(result, "verdict") == "ok";
        if answer["valid"] != valid {
            return Some(format!("server {}, here {}", text(result, "verdict"), answer["errors"]));
        }
        let effective = result["effective"].as_object().filter(|_| valid)?;
        effective.iter().find_map(|(keyword, value)| {
            let value = match value.as_array() {
                Some(list) => list.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(" "),
                None => value.as_str().unwrap_or_default().to_owned(),
            };
            let (have, wanted) = (&answer["values"][keyword]["value"], here.fill(&value));
            (*have != *wanted).then(|| format!("{keyword}: server {wanted}, here {have}"))
        })
    })
}

type Disagreement = fn(&World, &Value, &str) -> Option<String>;

fn run_all(cases: impl Iterator<Item = (Value, String)>, disagreement: Disagreement) {
    let (mut wrong, mut count) = (Vec::new(), 0);
    for (case, server) in cases {
        let world = World::new();
        count += 1;
        if let Some(what) = disagreement(&world, &case, &server) {
            wrong.push(format!("{} {} ({server}): {what}", text(&case, "id"), text(&case, "title")));
        }
    }
    assert!(count > 0, "there are no cases");
    assert!(wrong.is_empty(), "{}\n{} of {count} disagree", wrong.join("\n"), wrong.len());
}

/// The files of a family, each with the server that answered; those of 9.2 have no version in their name.
fn of_openssh<'a>(families: &'a [&'a str]) -> impl Iterator<Item = (Value, String)> + 'a {
    let versions = [("", "9.2"), ("-8.4", "8.4"), ("-10.0", "10.0")];
    let files = versions.into_iter().flat_map(move |version| families.iter().map(move |family| (family, version)));
    files.flat_map(|(family, (suffix, version))| {
        cases(&format!("{family}{suffix}.json"))
            .into_iter()
            .map(move |case| (case, format!("openssh-{version}+debian")))
    })
}

#[test]
#[ignore = "makes files of other owners, which needs root"]
fn every_measured_login_is_judged_as_the_server_did() {
    run_all(of_openssh(&["A-lines", "B-files"]), login_disagreement);
}

#[test]
#[ignore = "makes device files, which needs root"]
fn every_measured_configuration_is_read_as_the_server_did() {
    run_all(of_openssh(&["C-config"]), settings_disagreement);
}

/// Each case with the answer of each version. What was asked with switches, or with anything but a key, is left out; whether an
/// authenticator was touched no tree can tell.
fn of_dropbear() -> impl Iterator<Item = (Value, String)> {
    let with_a_key = |case: &Value| case["switches"] == serde_json::json!([]) && case["attempt"] == "key";
    cases("dropbear.json").into_iter().filter(with_a_key).flat_map(|case| {
        let of_flags = text(&case, "key_type").starts_with("sk-") && text(&case, "title").contains("flag");
        let answers: Vec<(String, Value)> = case["answers"].as_object().unwrap().clone().into_iter().collect();
        answers.into_iter().map(move |(version, mut answer)| {
            if of_flags {
                answer["reason_class"] = "signature".into();
            }
            let mut one = case.clone();
            one["answer"] = answer;
            (one, format!("dropbear-{version}"))
        })
    })
}

#[test]
#[ignore = "makes files of other owners, which needs root"]
fn every_measured_login_is_judged_as_dropbear_did() {
    run_all(of_dropbear(), login_disagreement);
}
