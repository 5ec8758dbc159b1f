//! Many hosts looked at at once. Each has one connection; hosts behind another host share the connection to it.

use crate::look_shell;
use lavrin_core::fleet;
use lavrin_core::key::generate::SystemSource;
use lavrin_core::survey::Observation;
use lavrin_reach::shell::{Claims, ShellHost};
use lavrin_reach::ssh::{ConnectFault, Connection, Credential, ExecFault, Rejected, Rise, SignedIn, Target};
use std::collections::HashMap;
use std::pin::Pin;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use thiserror::Error;
use tokio::sync::{OnceCell, Semaphore, mpsc};

/// A host to look at.
#[derive(Debug, Clone)]
pub struct Stop {
    /// Its name in the register.
    pub host: String,
    /// Where it is reached; `through` is filled in on the way.
    pub target: Target,
    /// Who signs in.
    pub login: String,
    /// The host over which it is reached.
    pub through: Option<String>,
}

/// With what to sign in, and how to get root's rights.
pub struct Way {
    /// Tried one after the other.
    pub credentials: Vec<Credential>,
    /// Ways to root's rights for a login other than root, tried one after the other.
    pub rises: Vec<Rise>,
    /// Where homes on a network file system are looked at: what no host has looked at yet.
    pub network_homes: Option<Arc<Claims>>,
}

/// How much at once, and for how long.
#[derive(Debug, Clone, Copy)]
pub struct Pace {
    /// Hosts at once.
    pub parallel: usize,
    /// For each host.
    pub time: Duration,
}

/// Why a host was not seen.
#[derive(Debug, Clone, Error)]
pub enum SurveyFault {
    /// It was not reached.
    #[error(transparent)]
    Connect(#[from] ConnectFault),
    /// It let nobody in.
    #[error("{0}; tried: {tried}", tried = tried(.0))]
    Rejected(#[from] Rejected),
    /// It gave no answer.
    #[error(transparent)]
    Exec(#[from] ExecFault),
    /// The host on the way to it was not passed.
    #[error("{host}, over which it is reached: {fault}")]
    Through {
        /// That host.
        host: String,
        /// Why.
        fault: Box<SurveyFault>,
    },
    /// It took too long.
    #[error("not done within {seconds} s")]
    Timeout {
        /// The limit.
        seconds: u64,
    },
    /// Nothing is known about the host on the way.
    #[error("the way leads over {host}, which cannot be used")]
    NoWay {
        /// That host.
        host: String,
    },
}

fn tried(rejected: &Rejected) -> String {
    let list: Vec<String> = rejected.tried.iter().map(|tried| format!("{} ({})", tried.method, tried.detail)).collect();
    if list.is_empty() { "nothing; give --identity FILE or start an agent".to_owned() } else { list.join(", ") }
}

/// What came of one host.
pub type Looked = (String, Result<Box<Observation>, SurveyFault>);

/// A connection that several use, or why there is none.
type Shared = Result<Arc<Connection>, SurveyFault>;

/// Connections to hosts over which others are reached, each made once.
pub(crate) struct Jumps {
    stops: HashMap<String, Stop>,
    open: Mutex<HashMap<String, Arc<OnceCell<Shared>>>>,
}

/// Looks at every host and hands on what was seen, in the order in which it comes. `jumps` holds the hosts over which
/// others are reached. The receiver sets the pace: what it has not taken is not let pile up.
pub async fn survey(stops: Vec<Stop>, jumps: Vec<Stop>, way: Arc<Way>, pace: Pace, done: mpsc::Sender<Looked>) {
    let jumps = Arc::new(Jumps::new(jumps));
    let places = Arc::new(Semaphore::new(pace.parallel.max(1)));
    for stop in stops {
        let Ok(place) = places.clone().acquire_owned().await else { return };
        let (jumps, way, done) = (jumps.clone(), way.clone(), done.clone());
        tokio::spawn(async move {
            let host = stop.host.clone();
            let seconds = pace.time.as_secs();
            let looked = tokio::time::timeout(pace.time, one(&stop, &jumps, &way)).await;
            let looked = looked.unwrap_or(Err(SurveyFault::Timeout { seconds }));
            let _ = done.send((host, looked)).await;
            drop(place);
        });
    }
}

async fn one(stop: &Stop, jumps: &Jumps, way: &Way) -> Result<Box<Observation>, SurveyFault> {
    let mut host = jumps.open(stop, way).await?.shell;
    host.network_homes.clone_from(&way.network_homes);
    let mut seen = Box::<Observation>::default();
    let looked = look_shell(&mut host, &mut seen, fleet::wants).await;
    host.connection.close().await;
    looked.map(|()| seen).map_err(Into::into)
}

/// Root's rights where there is a way to them. Without any, what may not be read is "not checked".
async fn rise(host: &mut ShellHost, rises: &[Rise]) -> Result<(), SurveyFault> {
    for rise in rises {
        host.rise = rise.clone();
        match host.check_rights().await {
            Ok(Some(0)) => return Ok(()),
            Ok(_) | Err(ExecFault::RiseRefused { .. } | ExecFault::NoShell { .. }) => {}
            Err(fault) => return Err(fault.into()),
        }
    }
    host.rise = Rise::No;
    Ok(())
}

/// A connection, how the login on it was opened, and where the host is for further ones.
type SignedInto = (Connection, SignedIn, Target);

/// A host on which somebody has signed in.
pub(crate) struct Open {
    /// With root's rights, where there is a way to them.
    pub(crate) shell: ShellHost,
    /// How the login was opened.
    pub(crate) signed: SignedIn,
    /// For further connections.
    pub(crate) target: Target,
}

impl Jumps {
    /// Over these hosts others are reached.
    pub(crate) fn new(jumps: Vec<Stop>) -> Self {
        let stops = jumps.into_iter().map(|stop| (stop.host.clone(), stop)).collect();
        Self { stops, open: Mutex::default() }
    }

    /// Signs in and gets root's rights where there is a way to them.
    pub(crate) async fn open(&self, stop: &Stop, way: &Way) -> Result<Open, SurveyFault> {
        let (connection, signed, target) = self.sign_in(stop, way).await?;
        let mut shell = ShellHost::new(connection, &stop.login, Rise::No, Box::new(SystemSource));
        if stop.login != "root" {
            rise(&mut shell, &way.rises).await?;
        }
        Ok(Open { shell, signed, target })
    }

    /// Where a host is reached, the way to it open.
    pub(crate) async fn target(&self, stop: &Stop, way: &Way) -> Result<Target, SurveyFault> {
        let mut target = stop.target.clone();
        if let Some(name) = &stop.through {
            target.through = Some(self.over(name, way).await?);
        }
        Ok(target)
    }

    /// A connection to this host on which somebody has signed in.
    pub(crate) fn sign_in<'a>(
        &'a self,
        stop: &'a Stop,
        way: &'a Way,
    ) -> Pin<Box<dyn Future<Output = Result<SignedInto, SurveyFault>> + Send + 'a>> {
        Box::pin(async move {
            let target = self.target(stop, way).await?;
            let mut connection = target.connect().await?;
            let signed = connection.sign_in(&stop.login, &way.credentials).await?;
            Ok((connection, signed, target))
        })
    }

    /// The shared connection to a host over which others are reached.
    async fn over(&self, name: &str, way: &Way) -> Result<Arc<Connection>, SurveyFault> {
        let Some(stop) = self.stops.get(name) else { return Err(SurveyFault::NoWay { host: name.to_owned() }) };
        let cell = self.open.lock().expect("nobody panics holding this").entry(name.to_owned()).or_default().clone();
        let connect = async { self.sign_in(stop, way).await.map(|(connection, ..)| Arc::new(connection)) };
        let connection = cell.get_or_init(|| connect).await;
        connection.clone().map_err(|fault| SurveyFault::Through { host: name.to_owned(), fault: Box::new(fault) })
    }
}
