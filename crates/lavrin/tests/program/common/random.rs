//! Random worlds: homes, key files and server settings as people get them wrong, from a seed.

use std::fmt::Write as _;

/// A small generator (splitmix64), so that a seed gives the same world everywhere.
pub struct Random(u64);

impl Random {
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, end: usize) -> usize {
        usize::try_from(self.next() % end as u64).unwrap()
    }

    /// Whether something that happens once in `times` happens.
    pub fn once_in(&mut self, times: usize) -> bool {
        self.below(times) == 0
    }

    pub fn pick<'a, T: ?Sized>(&mut self, from: &[&'a T]) -> &'a T {
        from[self.below(from.len())]
    }

    pub fn number(&mut self, from: &[u32]) -> u32 {
        from[self.below(from.len())]
    }
}

/// Something that lies in a world.
#[derive(Debug, Clone)]
pub struct Node {
    pub path: String,
    pub kind: Kind,
    pub mode: u32,
    pub owner: Who,
    pub group: Who,
}

#[derive(Debug, Clone)]
pub enum Kind {
    Folder,
    File(Vec<u8>),
    Link(String),
    Pipe,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Who {
    Account,
    Root,
    Other,
}

/// The key lines that worlds are made of.
pub struct Keys {
    pub offered: String,
    pub others: Vec<String>,
    /// For a small device's server, with the options that it knows.
    pub small: bool,
}

const OPTIONS: [&str; 54] = [
    "restrict",
    "no-pty",
    "pty",
    "cert-authority",
    "command=\"id\"",
    "command=\"echo \\\"low water\\\"\"",
    "from=\"127.0.0.1\"",
    "from=\"127.0.0.9\"",
    "from=\"127.0.0.0/8\"",
    "from=\"!127.0.0.1,*\"",
    "from=\"*,!127.0.0.9\"",
    "from=\"192.0.2.0/24,127.0.0.1\"",
    "from=\"127.0.0.0/33\"",
    "from=\"127.0.0.1/8\"",
    "from=\"127.0.?.*\"",
    "from=\"::1,127.0.0.1\"",
    "from=\"\"",
    "from=\"127.1\"",
    "from=\"0x7f.1,192.0.2.1\"",
    "from=\"2130706433\"",
    "from=\"0177.0.0.1/8\"",
    "from=\"x/33,127.0.0.1\"",
    "from=\"127.0.0.1,\"",
    "from=\"127.0.0.0/129,127.*\"",
    "permitopen=\"lamp:smtp\"",
    "permitopen=\"lamp:nosuch\"",
    "permitlisten=\"[::1]:http\"",
    "from=\"localhost\"",
    "expiry-time=\"20010101\"",
    "expiry-time=\"20990101\"",
    "expiry-time=\"209901011200Z\"",
    "expiry-time=\"20991301\"",
    "expiry-time=\"2099010\"",
    "environment=\"A=1\"",
    "environment=\"A\"",
    "permitopen=\"lamp:80\"",
    "permitopen=\"lamp\"",
    "permitopen=\"*:*\"",
    "permitlisten=\"8080\"",
    "permitlisten=\"x\"",
    "tunnel=\"0\"",
    "tunnel=\"x\"",
    "principals=\"edda\"",
    "no-such",
    "NO-PTY",
    "port-forwarding",
    "x11-forwarding",
    "no-touch-required",
    "from=127.0.0.1",
    "command=\"open",
    "agent-forwarding=yes",
    "user-rc",
    "no-agent-forwarding",
    "",
];

/// What dropbear knows beside, in its own spelling.
const SMALL_OPTIONS: [&str; 12] = [
    "no-port-forwarding",
    "no-agent-forwarding",
    "no-X11-forwarding",
    "no-pty",
    "restrict",
    "RESTRICT",
    "command=\"id\"",
    "command=\"a,b \\\"c\\\" d\"",
    "permitopen=\"127.0.0.1:80\"",
    "permitopen=\"lamp:x\"",
    "no-ptyx",
    "no-touch-required",
];

fn options(random: &mut Random, keys: &Keys) -> String {
    let mut text = String::new();
    for number in 0..=random.below(2) {
        if number > 0 {
            text += if random.once_in(12) { random.pick(&[", ", ",,", " ", ";"]) } else { "," };
        }
        text += if keys.small && !random.once_in(4) { random.pick(&SMALL_OPTIONS) } else { random.pick(&OPTIONS) };
    }
    text
}

fn wrong_label(random: &mut Random) -> String {
    random.pick(&["ssh-rsa", "ssh-ed25519", "rsa-sha2-256", "ecdsa-sha2-nistp256", "ssh-dss"]).to_owned()
}

/// One key line, perhaps with something wrong.
fn entry(random: &mut Random, keys: &Keys) -> Vec<u8> {
    let line = if random.once_in(3) {
        random.pick(&keys.others.iter().map(String::as_str).collect::<Vec<_>>())
    } else {
        keys.offered.as_str()
    };
    let mut words = line.splitn(2, ' ');
    let (mut label, mut base64) = (words.next().unwrap().to_owned(), words.next().unwrap().to_owned());
    match random.below(40) {
        0 => label = label.to_uppercase(),
        1 => label = wrong_label(random),
        2 => drop(base64.pop()),
        3 => base64.push('='),
        4 => base64.push_str("AAAA"),
        5 => base64.truncate(base64.len() / 2),
        6 => base64.insert(base64.len() / 2, random.pick(&["\n", "\r\n", " ", "\\\n"]).chars().next().unwrap()),
        7 => base64 = base64.replacen('A', "\u{410}", 1),
        8 => base64.insert(40, '='),
        // Bits that stand for nothing.
        9 if base64.ends_with('=') => {
            let end = base64.trim_end_matches('=').len();
            let last = base64.remove(end - 1);
            base64.insert(
                end - 1,
                if last == 'A' { 'B' } else { random.pick(&["h", "9", "R", "x"]).chars().next().unwrap() },
            );
        }
        _ => {}
    }
    let mut text = String::new();
    if random.once_in(10) {
        text += random.pick(&[" ", "\t", "  \t", "\u{feff}", "\u{a0}", "\u{b}", "# ", "\0"]);
    }
    if random.once_in(3) {
        text += &options(random, keys);
        text += if random.once_in(10) { random.pick(&["\t", "  ", "\u{a0}", ""]) } else { " " };
    }
    let blank = if random.once_in(12) { random.pick(&["\t", "  ", "\u{a0}", " \t "]) } else { " " };
    let _ = write!(text, "{label}{blank}{base64}");
    let comment =
        random.pick(&["", " edda@lantern", "\tedda", "  two words ", " #", " from=\"127.0.0.9\"", " \"", "\0x"]);
    let mut bytes = (text + comment).into_bytes();
    if random.once_in(20) {
        bytes.extend(b" caf\xe9");
    }
    bytes
}

/// A key file.
pub fn key_file(random: &mut Random, keys: &Keys) -> Vec<u8> {
    let mut bytes = Vec::new();
    for _ in 0..=random.below(4) {
        match random.below(12) {
            0 => bytes.extend(b"# lamp room"),
            1 => {}
            2 => bytes.extend(b"words that are no key"),
            _ => bytes.extend(entry(random, keys)),
        }
        bytes.extend(match random.below(24) {
            0 => &b"\r\n"[..],
            1 => b"\r",
            2 => b"",
            3 => b"\n\n",
            _ => b"\n",
        });
    }
    if random.once_in(10) {
        let _ = bytes.pop();
    }
    bytes
}

fn who(random: &mut Random) -> Who {
    match random.below(12) {
        0 => Who::Root,
        1 => Who::Other,
        _ => Who::Account,
    }
}

const FOLDER_MODES: [u32; 16] =
    [0o700, 0o700, 0o700, 0o755, 0o755, 0o750, 0o711, 0o770, 0o775, 0o777, 0o1777, 0o2755, 0o500, 0o100, 0o600, 0o707];
const FILE_MODES: [u32; 14] =
    [0o600, 0o600, 0o600, 0o644, 0o644, 0o640, 0o660, 0o664, 0o666, 0o622, 0o400, 0o000, 0o440, 0o777];

fn node(random: &mut Random, path: String, kind: Kind) -> Node {
    let modes = if matches!(kind, Kind::Folder) { &FOLDER_MODES[..] } else { &FILE_MODES[..] };
    let odd = random.once_in(4);
    let mode = if odd { random.number(modes) } else { modes[0] };
    let (owner, group) = if odd { (who(random), who(random)) } else { (Who::Account, Who::Account) };
    Node { path, kind, mode, owner, group }
}

/// What lies in and around a home. `outside` is a folder that belongs to root.
pub fn tree(random: &mut Random, keys: &Keys, home: &str, outside: &str) -> Vec<Node> {
    let mut nodes = vec![node(random, home.to_owned(), Kind::Folder)];
    if random.once_in(2) {
        nodes[0].mode = 0o755;
    }
    let folder = format!("{home}/.ssh");
    let inside = if random.once_in(12) {
        let real = random.pick(&["keys", "deep/keys"]);
        if real.starts_with("deep") {
            nodes.push(node(random, format!("{home}/deep"), Kind::Folder));
        }
        nodes.push(node(random, format!("{home}/{real}"), Kind::Folder));
        let to = if random.once_in(2) { real.to_owned() } else { format!("{home}/{real}") };
        nodes.push(Node {
            path: folder.clone(),
            kind: Kind::Link(to),
            mode: 0o777,
            owner: who(random),
            group: Who::Root,
        });
        format!("{home}/{real}")
    } else {
        nodes.push(node(random, folder.clone(), Kind::Folder));
        folder
    };
    for name in ["authorized_keys", "authorized_keys2", "more"] {
        if name != "authorized_keys" && !random.once_in(4) {
            continue;
        }
        let path = format!("{inside}/{name}");
        let content = key_file(random, keys);
        match random.below(24) {
            0 => nodes.push(node(random, path, Kind::Folder)),
            // Dropbear would wait at a pipe for ever.
            1 if !keys.small => nodes.push(node(random, path, Kind::Pipe)),
            2 => {
                nodes.push(node(random, format!("{home}/kept"), Kind::File(content)));
                nodes.push(Node {
                    path,
                    kind: Kind::Link(format!("{home}/kept")),
                    mode: 0o777,
                    owner: Who::Account,
                    group: Who::Account,
                });
            }
            3 => {
                let kept = format!("{outside}/{name}");
                nodes.push(node(random, kept.clone(), Kind::File(content)));
                nodes.push(Node { path, kind: Kind::Link(kept), mode: 0o777, owner: Who::Root, group: Who::Root });
            }
            4 => nodes.push(Node {
                path,
                kind: Kind::Link("nowhere".into()),
                mode: 0o777,
                owner: Who::Account,
                group: Who::Account,
            }),
            5 => {}
            _ => nodes.push(node(random, path, Kind::File(content))),
        }
    }
    let central = format!("{outside}/keys");
    nodes.push(Node {
        path: central.clone(),
        kind: Kind::Folder,
        mode: random.number(&[0o755, 0o755, 0o711, 0o777, 0o775, 0o750]),
        owner: Who::Root,
        group: Who::Root,
    });
    let content = key_file(random, keys);
    nodes.push(node(random, format!("{central}/all"), Kind::File(content)));
    nodes
}

/// Server settings. `account`, `group` and `outside` are names of the world.
pub fn settings(random: &mut Random, account: &str, outside: &str) -> String {
    let mut text = String::from("UsePAM no\n");
    for _ in 0..random.below(3) {
        setting(random, account, outside, &mut text);
    }
    if random.once_in(3) {
        for _ in 0..=random.below(2) {
            let _ = writeln!(text, "Match {}", criteria(random, account));
            for _ in 0..=random.below(2) {
                setting(random, account, outside, &mut text);
            }
        }
    }
    text
}

fn criteria(random: &mut Random, account: &str) -> String {
    let one = |random: &mut Random| match random.below(10) {
        0 => format!("User {account}"),
        1 => format!("User *,!{account}"),
        2 => format!("User !{account},*"),
        3 => format!("Group {account}"),
        4 => "Address 127.0.0.1".to_owned(),
        5 => "Address 127.0.0.0/8,!127.0.0.9".to_owned(),
        6 => "Address !127.0.0.9,127.0.0.0/8".to_owned(),
        7 => "User root,lv*".to_owned(),
        8 => random
            .pick(&[
                "Address 127.1",
                "Address 127.0.0.1/33",
                "Address x/33",
                "User 'NAME'",
                "User \"NAME\"",
                "User=NAME",
                "User = NAME",
                "User NAME,",
                "Host 127.0.0.*",
                "LocalPort ssh",
                "LocalPort 022",
                "RDomain x",
                "invalid-user",
                "version *",
                "version x",
                "User",
                "User NAME # x",
                "User NAME#x",
            ])
            .replace("NAME", account),
        _ => "LocalAddress 127.0.0.1".to_owned(),
    };
    if random.once_in(8) {
        return random.pick(&["all", "ALL"]).to_owned();
    }
    let first = one(random);
    if random.once_in(3) { format!("{first} {}", one(random)) } else { first }
}

#[allow(clippy::too_many_lines, reason = "one arm for each keyword")]
fn setting(random: &mut Random, account: &str, outside: &str, text: &mut String) {
    let line = match random.below(20) {
        0 => format!("StrictModes {}", random.pick(&["yes", "no", "no", "NO", "maybe"])),
        1 | 2 => format!(
            "AuthorizedKeysFile {}",
            random.pick(&[
                ".ssh/authorized_keys",
                "%h/.ssh/authorized_keys",
                ".ssh/more .ssh/authorized_keys",
                ".ssh/authorized_keys2",
                "none",
                "OUT/keys/all",
                "OUT/keys/all .ssh/authorized_keys",
                "\".ssh/authorized_keys\"",
                ".ssh/../.ssh/authorized_keys",
                "~/.ssh/authorized_keys",
                "%h/.ssh/%u",
                "/home/%u/.ssh/authorized_keys",
                ".ssh//authorized_keys",
                "%%/authorized_keys .ssh/authorized_keys",
                ".ssh/authorized_key?",
                ".ssh/*",
                "%h/.ss[a-h]/authorized_keys",
                "OUT/*/all",
                "\".ssh/authorized_keys",
                "'.ssh/authorized_keys'",
                ".ssh/authorized_keys#x",
                "=.ssh/authorized_keys",
            ])
        )
        .replace("OUT", outside),
        3 => format!("PubkeyAuthentication {}", random.pick(&["yes", "no", "yes"])),
        4 => format!(
            "AllowUsers {}",
            random.pick(&[
                "NAME",
                "*",
                "root",
                "NA?E* NAME",
                "NAME@127.0.0.1",
                "NAME@127.0.0.0/8",
                "!NAME *",
                "* !NAME",
                "NAME@*.9"
            ])
        )
        .replace("NAME", account),
        5 => format!(
            "DenyUsers {}",
            random.pick(&["NAME", "root", "!NAME *", "NAME@127.0.0.9", "nobody", "NAME@192.0.2.1"])
        )
        .replace("NAME", account),
        6 => format!("AllowGroups {}", random.pick(&["NAME", "root", "*", "nogroup NAME", "!NAME *"]))
            .replace("NAME", account),
        7 => format!("DenyGroups {}", random.pick(&["NAME", "root", "nogroup", "!NAME *"])).replace("NAME", account),
        8 => format!(
            "PubkeyAcceptedAlgorithms {}",
            random.pick(&[
                "ssh-ed25519",
                "-ssh-ed25519",
                "+ssh-rsa",
                "rsa-sha2-512,ssh-ed25519",
                "^ecdsa-sha2-nistp256",
                "ecdsa-*",
                "-rsa-*",
                "no-such-name",
                "*"
            ])
        ),
        9 => format!("RequiredRSASize {}", random.pick(&["2048", "3072", "1024", "0"])),
        10 => format!(
            "AuthenticationMethods {}",
            random.pick(&[
                "publickey",
                "any",
                "publickey,password",
                "password",
                "publickey password",
                "publickey,publickey"
            ])
        ),
        11 => format!("MaxAuthTries {}", random.pick(&["6", "1", "2"])),
        15 => random
            .pick(&[
                "PubkeyAcceptedKeyTypes ssh-ed25519,rsa-sha2-256",
                "PubkeyAcceptedKeyTypes +ssh-dss",
                "PubkeyAcceptedKeyTypes *,!ssh-rsa",
                "PerSourcePenalties no",
                "PerSourcePenalties authfail:60 x",
                "RefuseConnection no",
                "PubkeyAuthOptions verify-required",
                "PubkeyAuthOptions none",
                "ChallengeResponseAuthentication no",
                "KbdInteractiveAuthentication no",
                "SkeyAuthentication no",
                "DSAAuthentication no",
                "UnusedConnectionTimeout 5m",
                "ModuliFile /etc/ssh/moduli",
            ])
            .to_owned(),
        16 => random
            .pick(&[
                "Ciphers aes256-ctr",
                "Ciphers aes256-ctr,nosuch",
                "MACs +hmac-md5",
                "KexAlgorithms -nosuch",
                "KexAlgorithms +mlkem768x25519-sha256",
                "KexAlgorithms ^sntrup761x25519-sha512@openssh.com",
                "CASignatureAlgorithms ssh-ed25519",
                "RekeyLimit 1G 1h",
                "RekeyLimit 15",
                "IPQoS af11 0x10",
                "PermitOpen any",
                "PermitOpen lamp:80 none",
                "PermitListen 8080",
                "StreamLocalBindMask 0888",
                "MaxStartups 0",
                "LoginGraceTime 1h1",
            ])
            .to_owned(),
        17 => random
            .pick(&[
                "AllowUsers",
                "AllowUsers \"\"",
                "DenyUsers \"nobody",
                "AcceptEnv",
                "AcceptEnv A=b",
                "SetEnv A=b",
                "SetEnv",
                "StrictModes yes#x",
                "StrictModes \"yes\"",
                "StrictModes 'yes'",
                "StrictModes = yes",
                "StrictModes yes # x",
                "Subsystem x /bin/x",
                "Nonsense yes",
                "Include /no/such/*.conf",
                "Include",
            ])
            .to_owned(),
        18 => format!(
            "AllowUsers {}",
            random.pick(&["NAME@127.1", "NAME@127.0.0.1/33", "NAME@", "NAME@x/33,127.*", "NAME@!127.0.0.9,127.*"])
        )
        .replace("NAME", account),
        12 => format!("PermitUserEnvironment {}", random.pick(&["yes", "no", "A*"])),
        13 => format!("PermitRootLogin {}", random.pick(&["no", "yes", "prohibit-password"])),
        _ => random
            .pick(&["# a note", "", "   ", "PermitTTY no", "X11Forwarding = no", "UseDNS no", "Banner none"])
            .to_owned(),
    };
    let line = match random.below(12) {
        0 => line.replacen(' ', "=", 1),
        1 => line.replacen(' ', " = ", 1),
        2 => line.replacen(' ', "\t", 1),
        3 => format!("  {line}  "),
        4 => line.replacen(|c: char| c.is_ascii_alphabetic(), "X", usize::from(random.once_in(8))),
        5 => format!("{line} # why"),
        6 => format!("{line}\r"),
        _ => line,
    };
    *text += &line;
    text.push('\n');
}
