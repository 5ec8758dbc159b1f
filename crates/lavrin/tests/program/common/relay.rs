//! A line to a server of the test that breaks in the middle.

use std::io::{Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::spawn;

/// What a relay does, and what went through it.
struct Line {
    server: u16,
    /// Once so many bytes went out, over all connections from this one on, the line breaks: the number of the connection, counted
    /// from 1, and the bytes.
    breaks: (u64, u64),
    /// Whether nobody gets through any more then.
    stays_broken: bool,
    connections: AtomicU64,
    sent: AtomicU64,
    is_broken: AtomicBool,
}

/// A port of this machine that leads to a server.
pub struct Relay {
    pub port: u16,
    line: Arc<Line>,
}

impl Relay {
    /// A line that breaks in the connection of this number (from 1), after so many bytes to the server.
    pub fn to(server: u16, breaks: (u64, u64), stays_broken: bool) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let line = Arc::new(Line {
            server,
            breaks,
            stays_broken,
            connections: AtomicU64::new(0),
            sent: AtomicU64::new(0),
            is_broken: AtomicBool::new(false),
        });
        let own = line.clone();
        spawn(move || {
            for client in listener.incoming().flatten() {
                own.take(client);
            }
        });
        Self { port, line }
    }

    /// How many bytes went to the server from that connection on.
    pub fn sent(&self) -> u64 {
        self.line.sent.load(Ordering::SeqCst)
    }

    pub fn is_broken(&self) -> bool {
        self.line.is_broken.load(Ordering::SeqCst)
    }
}

impl Line {
    fn take(self: &Arc<Self>, client: TcpStream) {
        if self.stays_broken && self.is_broken.load(Ordering::SeqCst) {
            return;
        }
        let Ok(server) = TcpStream::connect(("127.0.0.1", self.server)) else { return };
        let number = self.connections.fetch_add(1, Ordering::SeqCst) + 1;
        let (back, forth) = ((server.try_clone().unwrap(), client.try_clone().unwrap()), (client, server));
        spawn(move || {
            let (mut from, mut to) = back;
            let _ = std::io::copy(&mut from, &mut to);
            let _ = to.shutdown(Shutdown::Write);
        });
        let line = self.clone();
        spawn(move || line.carry(forth.0, forth.1, number));
    }

    /// What the client says, as far as the line holds.
    fn carry(&self, mut client: TcpStream, mut server: TcpStream, number: u64) {
        let mut buffer = [0; 4096];
        while let Ok(length @ 1..) = client.read(&mut buffer) {
            let before = if number < self.breaks.0 { 0 } else { self.sent.load(Ordering::SeqCst) };
            let left = self.breaks.1.saturating_sub(before);
            let goes = if number < self.breaks.0 || self.is_broken.load(Ordering::SeqCst) {
                length
            } else {
                length.min(usize::try_from(left).unwrap_or(usize::MAX))
            };
            if server.write_all(&buffer[..goes]).is_err() {
                break;
            }
            if number >= self.breaks.0 {
                self.sent.fetch_add(goes as u64, Ordering::SeqCst);
            }
            if goes < length {
                self.is_broken.store(true, Ordering::SeqCst);
                let _ = client.shutdown(Shutdown::Both);
                break;
            }
        }
        let _ = server.shutdown(Shutdown::Both);
    }
}
