//! A run that somebody wants to end: the first signal begins no further host, the second one does not wait any longer.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::watch;

/// How a process ends that nobody kept from ending: 128 and the number of SIGINT.
const ENDED_BY_SIGNAL: i32 = 130;

/// What is being done on a host at this moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stage {
    /// Somebody signs in, or looks; nothing is changed yet.
    Looking,
    /// An account is being changed.
    Changing(String),
    /// What was changed is being proven.
    Proving,
    /// What was changed is being taken back, or looked at over a new connection.
    Settling,
}

/// How often somebody asked for an end, and what is going on meanwhile. Without [`Interrupt::listen`] nobody can.
#[derive(Debug, Clone)]
pub struct Interrupt {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    asked: watch::Sender<u32>,
    /// Runs that finish their safety steps before they end.
    runs: AtomicUsize,
    stages: Mutex<BTreeMap<String, Stage>>,
}

impl Default for Interrupt {
    fn default() -> Self {
        let inner = Inner { asked: watch::channel(0).0, runs: AtomicUsize::new(0), stages: Mutex::default() };
        Self { inner: Arc::new(inner) }
    }
}

impl Interrupt {
    /// Listens to Ctrl-C, and to the signals by which a terminal or a service manager ends a program. While no run is
    /// under way they end the process at once, as they do without this; else `heard` is told of the first one. Has to be
    /// called inside a runtime.
    ///
    /// # Errors
    /// Those of the system, where it lets nobody listen.
    pub fn listen(&self, heard: fn()) -> Result<(), std::io::Error> {
        use tokio::signal::unix::{SignalKind, signal};
        let mut all = Vec::new();
        for kind in [SignalKind::interrupt(), SignalKind::terminate(), SignalKind::hangup()] {
            all.push(signal(kind)?);
        }
        for mut one in all {
            let interrupt = self.clone();
            tokio::spawn(async move {
                while one.recv().await.is_some() {
                    let is_first = !interrupt.is_asked();
                    interrupt.ask();
                    if is_first {
                        heard();
                    }
                }
            });
        }
        Ok(())
    }

    /// Somebody asks for an end.
    pub fn ask(&self) {
        if self.inner.runs.load(Ordering::SeqCst) == 0 {
            std::process::exit(ENDED_BY_SIGNAL);
        }
        self.inner.asked.send_modify(|asked| *asked += 1);
    }

    /// A run begins; it lasts until this is dropped.
    pub(crate) fn run(&self) -> Run {
        self.inner.runs.fetch_add(1, Ordering::SeqCst);
        Run { asked: self.inner.asked.subscribe(), interrupt: self.clone() }
    }

    /// Whether somebody asked for an end.
    #[must_use]
    pub fn is_asked(&self) -> bool {
        *self.inner.asked.borrow() > 0
    }

    /// Says what is being done on a host.
    pub(crate) fn stage(&self, host: &str, stage: Stage) {
        self.stages().insert(host.to_owned(), stage);
    }

    /// What was being done on a host.
    pub(crate) fn end_stage(&self, host: &str) -> Option<Stage> {
        self.stages().remove(host)
    }

    fn stages(&self) -> MutexGuard<'_, BTreeMap<String, Stage>> {
        self.inner.stages.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A run that is under way.
pub(crate) struct Run {
    asked: watch::Receiver<u32>,
    interrupt: Interrupt,
}

impl Run {
    /// How often somebody has asked for an end.
    pub(crate) fn asked(&self) -> u32 {
        *self.asked.borrow()
    }

    /// Waits until somebody asks once more.
    pub(crate) async fn asked_again(&mut self) {
        if self.asked.changed().await.is_err() {
            std::future::pending::<()>().await;
        }
    }
}

impl Drop for Run {
    fn drop(&mut self) {
        self.interrupt.inner.runs.fetch_sub(1, Ordering::SeqCst);
    }
}

#[cfg(test)]
impl Interrupt {
    /// How many runs are under way.
    pub(crate) fn inner_runs(&self) -> usize {
        self.inner.runs.load(Ordering::SeqCst)
    }
}
