//! What else a connection opens: a command of the user's own, a subsystem.

use super::Connection;
use super::exec::{ExecFault, NOISE_BYTES_MAX};
use crate::Boxed;
use russh::client::Msg;
use russh::{Channel, ChannelMsg};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::time::Instant;

/// The size of a terminal: wider than any line of keys, and as high as no list is.
const COLUMNS: u32 = 32_000;
const ROWS: u32 = 0;

/// What goes both ways.
pub trait Duplex: AsyncRead + AsyncWrite + Send + Unpin {}

impl<T: AsyncRead + AsyncWrite + Send + Unpin> Duplex for T {}

/// A subsystem that is open: what is written goes to it, what it says is read.
pub type Subsystem = Box<dyn Duplex>;

impl Connection {
    /// Opens a subsystem (RFC 4254, section 6.5).
    ///
    /// # Errors
    /// [`ExecFault::Refused`] where the server has none of this name, [`ExecFault::Timeout`].
    #[must_use]
    pub fn subsystem<'a>(&'a self, name: &'a str, time: Duration) -> Boxed<'a, Result<Subsystem, ExecFault>> {
        Box::pin(async move {
            let seconds = time.as_secs();
            let open = async {
                let mut channel = self.handle.channel_open_session().await.map_err(|_| ExecFault::Refused)?;
                channel.request_subsystem(true, name).await.map_err(|_| ExecFault::Refused)?;
                answered(&mut channel).await?;
                tracing::debug!("{}: the subsystem {name} is open", self.host);
                Ok(Box::new(channel.into_stream()) as Subsystem)
            };
            tokio::time::timeout(time, open).await.unwrap_or(Err(ExecFault::Timeout { seconds }))
        })
    }
}

impl Connection {
    /// Opens a login session on a terminal (RFC 4254, sections 6.2 and 6.5), as wide as lines get, so that none is broken.
    ///
    /// # Errors
    /// [`ExecFault::Refused`] where the server gives none, [`ExecFault::Timeout`].
    #[must_use]
    pub fn terminal(&self, time: Duration) -> Boxed<'_, Result<Subsystem, ExecFault>> {
        Box::pin(async move {
            let seconds = time.as_secs();
            let open = async {
                let mut channel = self.handle.channel_open_session().await.map_err(|_| ExecFault::Refused)?;
                let asked = channel.request_pty(true, "dumb", COLUMNS, ROWS, 0, 0, &[]).await;
                asked.map_err(|_| ExecFault::Refused)?;
                answered(&mut channel).await?;
                channel.request_shell(true).await.map_err(|_| ExecFault::Refused)?;
                answered(&mut channel).await?;
                Ok(Box::new(channel.into_stream()) as Subsystem)
            };
            tokio::time::timeout(time, open).await.unwrap_or(Err(ExecFault::Timeout { seconds }))
        })
    }
}

/// Waits until a request on a channel is granted.
async fn answered(channel: &mut Channel<Msg>) -> Result<(), ExecFault> {
    loop {
        match channel.wait().await {
            Some(ChannelMsg::Success) => return Ok(()),
            Some(ChannelMsg::WindowAdjusted { .. }) => {}
            _ => return Err(ExecFault::Refused),
        }
    }
}

/// What a command of the user's own printed.
#[derive(Debug)]
pub struct Ran {
    /// Its output.
    pub output: Vec<u8>,
    /// Its errors.
    pub errors: Vec<u8>,
    /// Its exit status, where it gave one.
    pub status: Option<u32>,
}

impl Connection {
    /// Runs one command of the user's own, as it is.
    ///
    /// # Errors
    /// [`ExecFault`].
    #[must_use]
    pub fn run<'a>(&'a self, command: &'a str, time: Duration) -> Boxed<'a, Result<Ran, ExecFault>> {
        Box::pin(async move {
            let deadline = Instant::now() + time;
            let seconds = time.as_secs();
            let open = tokio::time::timeout_at(deadline, self.handle.channel_open_session()).await;
            let mut channel = open.map_err(|_| ExecFault::Timeout { seconds })?.map_err(|_| ExecFault::Refused)?;
            channel.exec(true, command).await.map_err(|_| ExecFault::Refused)?;
            // It gets no input, so that a program that waits for some ends.
            let _ = channel.eof().await;
            let mut ran = Ran { output: Vec::new(), errors: Vec::new(), status: None };
            loop {
                let message = tokio::time::timeout_at(deadline, channel.wait()).await;
                match message.map_err(|_| ExecFault::Timeout { seconds })? {
                    Some(ChannelMsg::Data { data }) => ran.output.extend_from_slice(&data),
                    Some(ChannelMsg::ExtendedData { data, .. }) => ran.errors.extend_from_slice(&data),
                    Some(ChannelMsg::ExitStatus { exit_status }) => ran.status = Some(exit_status),
                    Some(ChannelMsg::Failure) => return Err(ExecFault::Refused),
                    Some(ChannelMsg::Close) | None => return Ok(ran),
                    Some(_) => {}
                }
                if ran.output.len().max(ran.errors.len()) > NOISE_BYTES_MAX {
                    return Err(ExecFault::TooLarge { limit: NOISE_BYTES_MAX });
                }
            }
        })
    }
}
