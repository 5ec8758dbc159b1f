//! The SSH side of the stand-in.

use crate::Behaviour;
use crate::cut::CutStream;
use crate::inside::{self, Incoming};
use crate::settings::LostLine;
use lavrin_keys::key::PublicKey;
use lavrin_server::account::{read_groups, read_passwd};
use lavrin_server::fs::{BytePath, Fact, Node, NodeKind, Why};
use lavrin_server::login::{self, Outcome, Question};
use lavrin_server::survey::LoginAttempt;
use lavrin_server::survey::{Observation, Want, Wanted};
use lavrin_server::system::System;
use russh::keys::ssh_key;
use russh::server::{Auth, ChannelOpenHandle, Config, Handler, Msg, PublicKeyOffer, Session, VerifiedPublicKey};
use russh::{Channel, ChannelId, MethodSet, SshId};
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;
use tokio::process::{ChildStdin, Command};

/// Rounds of looking before a verdict.
const ROUNDS_MAX: usize = 20;

/// The one subsystem that it has: it says again what it hears.
const ECHO: &str = "echo@lavrin";

/// How long a silent stand-in keeps a connection.
const SILENCE: Duration = Duration::from_mins(5);

/// What the stand-in stands for.
pub(crate) struct World {
    pub(crate) root: PathBuf,
    pub(crate) passwords: HashMap<String, String>,
    pub(crate) behaviour: Behaviour,
    pub(crate) lost_line: LostLine,
}

/// Takes connections until it is told to stop.
pub(crate) async fn serve(socket: TcpListener, keys: [russh::keys::PrivateKey; 2], world: Arc<World>) {
    let banner = world.behaviour.banner.clone().map_or(Cow::Borrowed("SSH-2.0-lavrin-standin"), Cow::Owned);
    let config = |key: russh::keys::PrivateKey, methods: MethodSet| {
        Arc::new(Config {
            server_id: SshId::Standard(banner.clone()),
            methods,
            auth_rejection_time: Duration::ZERO,
            auth_rejection_time_initial: Some(Duration::ZERO),
            keys: vec![key],
            nodelay: true,
            inactivity_timeout: Some(Duration::from_mins(10)),
            ..Config::default()
        })
    };
    let [own, other] = keys;
    let mut connections = 0;
    while let Ok((stream, peer)) = socket.accept().await {
        let _ = stream.set_nodelay(true);
        connections += 1;
        let behaviour = world.behaviour.on(connections);
        if behaviour.silent {
            tokio::spawn(async move {
                tokio::time::sleep(SILENCE).await;
                drop(stream);
            });
            continue;
        }
        let key = if behaviour.other_host_key { &other } else { &own };
        let config = config(key.clone(), world.methods());
        let stream = CutStream { inner: stream, left: behaviour.cut_after, world: world.clone() };
        let client = Client {
            world: world.clone(),
            behaviour,
            account: String::new(),
            address: peer.ip(),
            inputs: HashMap::new(),
            scripts: HashMap::new(),
            echoes: HashSet::new(),
        };
        tokio::spawn(async move {
            if let Ok(session) = russh::server::run_stream(config, stream, client).await {
                let _ = session.await;
            }
        });
    }
}

/// One connection.
struct Client {
    world: Arc<World>,
    behaviour: Behaviour,
    account: String,
    address: std::net::IpAddr,
    inputs: HashMap<ChannelId, (Incoming, ChildStdin)>,
    scripts: HashMap<ChannelId, Script>,
    echoes: HashSet<ChannelId>,
}

/// A script on its way in, for a stand-in that gives answers again.
struct Script {
    bytes: Vec<u8>,
    /// How many there will be; `None`: until the other side has no more.
    length: Option<usize>,
}

impl World {
    /// Whether the tree lets this key into the account, by the same verdict that `lavrin why` gives.
    fn lets_in(&self, account: &str, key: &ssh_key::PublicKey, from: std::net::IpAddr) -> bool {
        let Some(key) = key.to_bytes().ok().and_then(|blob| PublicKey::from_blob(&blob).ok()) else { return false };
        let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        let question = Question::plain(account, &key, i64::try_from(now).unwrap_or(i64::MAX));
        let connection = LoginAttempt { from: Some(from), ..LoginAttempt::default() };
        let mut seen = Observation { connection, ..Observation::default() };
        for _ in 0..ROUNDS_MAX {
            let wants = login::wants(account, &System::of(&seen));
            if wants.is_empty() {
                break;
            }
            self.look(&wants, &mut seen);
        }
        login::judge(&question, &System::of(&seen)).outcome == Outcome::Accepted
    }

    /// Runs a script in the tree and gives what it printed.
    async fn run(&self, script: &str) -> String {
        let script = String::from_utf8_lossy(&inside::script(script.as_bytes(), self.tree())).into_owned();
        let output = Command::new("/bin/sh")
            .args(["-c", &script])
            .env_clear()
            .env("LAVRIN_STANDIN_ROOT", &self.root)
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .stdin(Stdio::null())
            .output()
            .await;
        output.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default()
    }

    pub(crate) fn look(&self, wants: &[Want], seen: &mut Observation) {
        for want in wants {
            match &want.what {
                Wanted::System(_) => {
                    let read = |path: &str| std::fs::read(self.root.join(path)).unwrap_or_default();
                    seen.accounts = Arc::new(read_passwd(&read("etc/passwd")));
                    seen.groups = Arc::new(read_groups(&read("etc/group")));
                    seen.looked = true;
                }
                Wanted::Node(path) => drop(seen.nodes.insert(path.clone(), self.node(path))),
                Wanted::Bytes(path, _) => {
                    let bytes = std::fs::read(self.inside(path)).map_or(Fact::Absent, Fact::Known);
                    seen.bytes.insert(path.clone(), bytes);
                }
                Wanted::Names(path) => {
                    let names = std::fs::read_dir(self.inside(path)).map_or(Fact::Absent, |entries| {
                        Fact::Known(entries.flatten().map(|entry| entry.file_name().into_vec()).collect())
                    });
                    seen.names.insert(path.clone(), names);
                }
                Wanted::PrivateKeys(_) | Wanted::Slots(_) | Wanted::Traces(_) => {
                    seen.give_up(want, &Why::NotReached);
                }
            }
        }
    }

    /// What is there. To whoever is root in the tree its owner is root.
    fn node(&self, path: &BytePath) -> Fact<Node> {
        let mut found = node(&self.inside(path));
        if let Fact::Known(node) = &mut found
            && self.behaviour.is_roots
            && std::fs::metadata(&self.root).is_ok_and(|root| root.uid() == node.uid)
        {
            (node.uid, node.gid) = (0, 0);
        }
        found
    }

    fn inside(&self, path: &BytePath) -> PathBuf {
        let inner = path.as_bytes().strip_prefix(b"/").unwrap_or(path.as_bytes());
        self.root.join(Path::new(std::ffi::OsStr::from_bytes(inner)))
    }
}

fn node(path: &Path) -> Fact<Node> {
    let Ok(meta) = path.symlink_metadata() else { return Fact::Absent };
    let kind = if meta.is_symlink() {
        NodeKind::Link(std::fs::read_link(path).map(|target| target.into_os_string().into_vec()).unwrap_or_default())
    } else if meta.is_file() {
        NodeKind::File
    } else if meta.is_dir() {
        NodeKind::Folder
    } else {
        NodeKind::Special
    };
    let mode = meta.permissions().mode() & 0o7777;
    Fact::Known(Node { kind, mode, uid: meta.uid(), gid: meta.gid(), access_list: false })
}

impl Client {
    /// Answers a script that is here as a whole: from memory, or by running it this once.
    async fn replay(&mut self, channel: ChannelId, session: &mut Session) {
        let (Some(script), Some(replay)) = (self.scripts.remove(&channel), &self.behaviour.replays) else {
            return;
        };
        let text = String::from_utf8_lossy(&script.bytes).into_owned();
        let answer = if let Some(answer) = replay.answer(&text) {
            answer
        } else {
            let answer = self.world.run(&text).await;
            replay.keep(&text, &answer);
            answer
        };
        let _ = (session.data(channel, answer.into_bytes()), session.exit_status_request(channel, 0));
        let _ = (session.eof(channel), session.close(channel));
    }
}

/// A device that answers every command with its menu, once or for ever.
async fn babble(handle: russh::server::Handle, channel: ChannelId, endless: bool) {
    let menu = b"  1) status of the lamp\r\n  2) exit\r\n".to_vec();
    while handle.data(channel, menu.repeat(if endless { 256 } else { 1 })).await.is_ok() && endless {}
    let _ = handle.exit_status_request(channel, 0).await;
    let _ = handle.eof(channel).await;
    let _ = handle.close(channel).await;
}

impl Handler for Client {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        let right = self.world.passwords.get(user).is_some_and(|own| own == password);
        self.account = user.to_owned();
        Ok(if right && self.world.takes_passwords() { Auth::Accept } else { self.world.refuse() })
    }

    async fn auth_publickey_offered(&mut self, user: &str, offer: PublicKeyOffer<'_>) -> Result<Auth, russh::Error> {
        let lets_in = self.world.lets_in(user, offer.public_key, self.address);
        Ok(if lets_in { Auth::Accept } else { self.world.refuse() })
    }

    async fn auth_publickey(&mut self, user: &str, key: VerifiedPublicKey<'_>) -> Result<Auth, russh::Error> {
        let lets_in = self.world.lets_in(user, key.public_key, self.address);
        self.account = user.to_owned();
        Ok(if lets_in { Auth::Accept } else { self.world.refuse() })
    }

    async fn channel_open_session(
        &mut self,
        _: Channel<Msg>,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), russh::Error> {
        reply.accept().await;
        Ok(())
    }

    async fn channel_open_direct_tcpip(
        &mut self,
        channel: Channel<Msg>,
        host: &str,
        port: u32,
        _: &str,
        _: u32,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), russh::Error> {
        // Nowhere but to this machine: the stand-in is for tests and the demo.
        let port = u16::try_from(port).ok().filter(|_| self.behaviour.forwards && host == "127.0.0.1");
        let Some(port) = port else { return Ok(()) };
        let Ok(mut stream) = tokio::net::TcpStream::connect(("127.0.0.1", port)).await else { return Ok(()) };
        reply.accept().await;
        tokio::spawn(async move {
            let _ = tokio::io::copy_bidirectional(&mut channel.into_stream(), &mut stream).await;
        });
        Ok(())
    }

    async fn exec_request(
        &mut self,
        channel: ChannelId,
        command: &[u8],
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        let behaviour = &self.behaviour;
        if behaviour.refuses_commands {
            return session.channel_failure(channel);
        }
        if behaviour.endless || behaviour.menu {
            session.channel_success(channel)?;
            let (handle, endless) = (session.handle(), behaviour.endless);
            tokio::spawn(babble(handle, channel, endless));
            return Ok(());
        }
        if behaviour.replays.is_some() {
            session.channel_success(channel)?;
            let command = String::from_utf8_lossy(command).into_owned();
            let digits = command.split_once("count=").map(|(_, rest)| rest.split(' ').next().unwrap_or_default());
            let length = digits.and_then(|digits| digits.parse().ok());
            if length.is_some() {
                session.data(channel, b"lavrin-hello\n".to_vec())?;
            }
            self.scripts.insert(channel, Script { bytes: Vec::new(), length });
            return Ok(());
        }
        let noise = behaviour.noise.clone();
        let (command, script) = inside::command(command, self.world.tree());
        let started = self
            .world
            .program(behaviour.shell.as_deref().unwrap_or(Path::new("/bin/sh")))
            .arg("-c")
            .arg(std::ffi::OsStr::from_bytes(&command))
            .env_clear()
            .env("LAVRIN_STANDIN_ROOT", &self.world.root)
            .env("HOME", self.world.root.join("home").join(&self.account))
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .current_dir(&self.world.root)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn();
        let Ok(mut child) = started else {
            return session.channel_failure(channel);
        };
        session.channel_success(channel)?;
        if let Some(input) = child.stdin.take() {
            self.inputs.insert(channel, (Incoming::of(script), input));
        }
        let handle = session.handle();
        tokio::spawn(async move {
            if !noise.is_empty() {
                let _ = handle.data(channel, noise).await;
            }
            let mut errors = child.stderr.take();
            let drained = tokio::spawn(async move {
                let mut text = Vec::new();
                if let Some(errors) = &mut errors {
                    let _ = errors.read_to_end(&mut text).await;
                }
                text
            });
            if let Some(mut output) = child.stdout.take() {
                let mut buffer = vec![0; 32 << 10];
                while let Ok(length @ 1..) = output.read(&mut buffer).await {
                    if handle.data(channel, buffer[..length].to_vec()).await.is_err() {
                        break;
                    }
                }
            }
            if let Ok(text) = drained.await
                && !text.is_empty()
            {
                let _ = handle.extended_data(channel, 1, text).await;
            }
            let status = child.wait().await.ok().and_then(|status| status.code()).unwrap_or(255);
            let _ = handle.exit_status_request(channel, u32::try_from(status).unwrap_or(255)).await;
            let _ = handle.eof(channel).await;
            let _ = handle.close(channel).await;
        });
        Ok(())
    }

    async fn subsystem_request(
        &mut self,
        channel: ChannelId,
        name: &str,
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        if name != ECHO {
            return session.channel_failure(channel);
        }
        self.echoes.insert(channel);
        session.channel_success(channel)
    }

    async fn data(&mut self, channel: ChannelId, data: &[u8], session: &mut Session) -> Result<(), russh::Error> {
        if let Some(script) = self.scripts.get_mut(&channel) {
            script.bytes.extend_from_slice(data);
            if script.length.is_some_and(|length| script.bytes.len() >= length) {
                self.replay(channel, session).await;
            }
        }
        if self.echoes.contains(&channel) {
            session.data(channel, data.to_vec())?;
        }
        if let Some((incoming, input)) = self.inputs.get_mut(&channel) {
            let _ = input.write_all(&incoming.take(data, self.world.tree())).await;
        }
        Ok(())
    }

    async fn channel_eof(&mut self, channel: ChannelId, session: &mut Session) -> Result<(), russh::Error> {
        self.replay(channel, session).await;
        self.inputs.remove(&channel);
        Ok(())
    }

    async fn channel_close(&mut self, channel: ChannelId, _: &mut Session) -> Result<(), russh::Error> {
        self.inputs.remove(&channel);
        Ok(())
    }
}
