//! A connection that ends after some bytes, as a bad line does.

use crate::world::World;
use std::io::{Error, ErrorKind};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;

/// Ends with a reset once `left` bytes have passed in both directions together; `None`: never.
pub(crate) struct CutStream {
    pub(crate) inner: TcpStream,
    pub(crate) left: Option<u64>,
    /// The host may lose all its lines.
    pub(crate) world: Arc<World>,
}

impl CutStream {
    /// How many of so many bytes may still pass.
    fn allowed(&self, wanted: usize) -> Result<usize, Error> {
        match self.left {
            _ if self.world.is_lost() => Err(Error::from(ErrorKind::ConnectionReset)),
            Some(0) => Err(Error::from(ErrorKind::ConnectionReset)),
            Some(left) => Ok(wanted.min(usize::try_from(left).unwrap_or(usize::MAX))),
            None => Ok(wanted),
        }
    }

    fn passed(&mut self, bytes: usize) {
        self.left = self.left.map(|left| left.saturating_sub(bytes as u64));
    }
}

impl AsyncRead for CutStream {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, out: &mut ReadBuf<'_>) -> Poll<Result<(), Error>> {
        let allowed = self.allowed(out.remaining())?;
        let mut part = vec![0; allowed];
        let mut buffer = ReadBuf::new(&mut part);
        let polled = Pin::new(&mut self.inner).poll_read(cx, &mut buffer);
        let read = buffer.filled().len();
        out.put_slice(&part[..read]);
        self.passed(read);
        polled
    }
}

impl AsyncWrite for CutStream {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<Result<usize, Error>> {
        let allowed = self.allowed(bytes.len())?;
        let polled = Pin::new(&mut self.inner).poll_write(cx, &bytes[..allowed]);
        if let Poll::Ready(Ok(written)) = polled {
            self.passed(written);
        }
        polled
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Result<(), Error>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Result<(), Error>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }
}
