//! The SSH side of the stand-in.

use crate::Behaviour;
use crate::console::{Console, ConsoleSession};
use crate::cut::CutStream;
use crate::file_host::{FileHost, FileHostSession};
use crate::inside::{self, Incoming};
use crate::key_device::{KeyDevice, KeyDeviceSession};
use crate::netconf::{Router, RouterSession};
use crate::world::{Device, World};
use russh::server::{Auth, ChannelOpenHandle, Config, Handler, Msg, PublicKeyOffer, Session, VerifiedPublicKey};
use russh::{Channel, ChannelId, MethodSet, SshId};
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;
use std::process::Stdio;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;
use tokio::process::ChildStdin;

/// The one subsystem that it has: it says again what it hears.
const ECHO: &str = "echo@lavrin";

/// How long a silent stand-in keeps a connection.
const SILENCE: Duration = Duration::from_mins(5);

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
            routed: HashMap::new(),
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
    routed: HashMap<ChannelId, DeviceSession>,
}

impl Drop for Client {
    fn drop(&mut self) {
        for (_, session) in self.routed.drain() {
            session.end();
        }
    }
}

/// A session with a device.
enum DeviceSession {
    Router(RouterSession, Arc<Router>),
    Keys(KeyDeviceSession, Arc<KeyDevice>),
    Files(FileHostSession, Arc<FileHost>),
    Console(ConsoleSession, Arc<Console>),
}

/// What a device says now.
#[derive(Default)]
struct DeviceSays {
    bytes: Vec<u8>,
    ends: bool,
    endless: bool,
    after: Duration,
    /// A few bytes at a time.
    in_pieces: bool,
}

impl DeviceSession {
    /// Begins, where the device has a subsystem of this name; gives the greeting.
    fn begin(device: &Device, subsystem: &str, account: &str) -> Option<(Self, Vec<u8>)> {
        match (device, subsystem) {
            (Device::Router(router), "netconf") => {
                let (session, hello) = RouterSession::begin(router);
                Some((Self::Router(session, router.clone()), hello))
            }
            (Device::Keys(device), "publickey") => {
                let (session, hello) = KeyDeviceSession::begin(device);
                Some((Self::Keys(session, device.clone()), hello))
            }
            (Device::Files(host), "sftp") => {
                Some((Self::Files(FileHostSession::begin(account), host.clone()), Vec::new()))
            }
            (Device::Console(console), "sftp") if console.takes_files() => {
                Some((Self::Files(FileHostSession::begin(account), console.files.clone()), Vec::new()))
            }
            _ => None,
        }
    }

    fn take(&mut self, data: &[u8]) -> DeviceSays {
        match self {
            Self::Router(session, router) => {
                let said = session.take(data, router);
                DeviceSays {
                    bytes: said.bytes,
                    ends: said.ends,
                    endless: said.endless,
                    after: said.after,
                    in_pieces: false,
                }
            }
            Self::Keys(session, device) => {
                let said = session.take(data, device);
                let after = device.knobs.slow;
                DeviceSays { bytes: said.bytes, ends: said.ends, after, ..DeviceSays::default() }
            }
            Self::Files(session, host) => {
                let said = session.take(data, host);
                DeviceSays { bytes: said.bytes, ends: said.ends, after: host.knobs.slow, ..DeviceSays::default() }
            }
            Self::Console(session, console) => {
                let said = session.take(data, console);
                let knobs = &console.knobs;
                DeviceSays {
                    bytes: said.bytes,
                    ends: said.ends,
                    endless: said.endless,
                    after: knobs.slow,
                    in_pieces: knobs.in_pieces,
                }
            }
        }
    }

    fn end(&self) {
        if let Self::Router(session, router) = self {
            session.end(router);
        }
    }
}

/// A script on its way in, for a stand-in that gives answers again.
struct Script {
    bytes: Vec<u8>,
    /// How many there will be; `None`: until the other side has no more.
    length: Option<usize>,
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
        let right = match &self.world.device {
            Some(Device::Router(router)) => router.takes(user, password),
            Some(Device::Keys(device)) => device.takes(user, password),
            Some(Device::Files(host)) => host.takes(user, password),
            Some(Device::Console(console)) => console.takes(user, password),
            None => self.world.passwords.get(user).is_some_and(|own| own == password) && self.world.takes_passwords(),
        };
        self.account = user.to_owned();
        Ok(if right { Auth::Accept } else { self.world.refuse() })
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
        if behaviour.refuses_commands || self.world.device.is_some() {
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
            let length = lavrin_reach::reads_exactly(&command);
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
        let begun = self.world.device.as_ref().and_then(|device| DeviceSession::begin(device, name, &self.account));
        if let Some((routed, hello)) = begun {
            session.channel_success(channel)?;
            self.routed.insert(channel, routed);
            return session.data(channel, hello);
        }
        if name != ECHO {
            return session.channel_failure(channel);
        }
        self.echoes.insert(channel);
        session.channel_success(channel)
    }

    async fn pty_request(
        &mut self,
        channel: ChannelId,
        _: &str,
        _: u32,
        _: u32,
        _: u32,
        _: u32,
        _: &[(russh::Pty, u32)],
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        session.channel_success(channel)
    }

    async fn shell_request(&mut self, channel: ChannelId, session: &mut Session) -> Result<(), russh::Error> {
        let Some(Device::Console(console)) = self.world.device.clone() else {
            return session.channel_failure(channel);
        };
        let (begun, hello) = ConsoleSession::begin();
        session.channel_success(channel)?;
        self.routed.insert(channel, DeviceSession::Console(begun, console));
        session.data(channel, hello)
    }

    async fn data(&mut self, channel: ChannelId, data: &[u8], session: &mut Session) -> Result<(), russh::Error> {
        if let Some(script) = self.scripts.get_mut(&channel) {
            script.bytes.extend_from_slice(data);
            if script.length.is_some_and(|length| script.bytes.len() >= length) {
                self.replay(channel, session).await;
            }
        }
        if let Some(routed) = self.routed.get_mut(&channel) {
            let said = routed.take(data);
            tokio::time::sleep(said.after).await;
            if said.endless {
                let handle = session.handle();
                tokio::spawn(async move { while handle.data(channel, vec![b' '; 1 << 16]).await.is_ok() {} });
                return Ok(());
            }
            if said.in_pieces {
                let handle = session.handle();
                tokio::spawn(async move {
                    for piece in said.bytes.chunks(7) {
                        let _ = handle.data(channel, piece.to_vec()).await;
                        tokio::time::sleep(Duration::from_millis(1)).await;
                    }
                });
                return Ok(());
            }
            session.data(channel, said.bytes)?;
            if said.ends {
                if let Some(ended) = self.routed.remove(&channel) {
                    ended.end();
                }
                let _ = (session.eof(channel), session.close(channel));
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
        if let Some(ended) = self.routed.remove(&channel) {
            ended.end();
        }
        Ok(())
    }
}
