//! Devices that keep accounts and keys in a data store behind NETCONF (RFC 6241, RFC 6242, RFC 7317).

mod edit;
pub mod framing;
mod keys;
mod session;
pub mod xml;

use crate::reach::Reach;
use crate::ssh::{Connection, ExecFault};
use crate::{Armed, Boxed, CarryFault, TimerKind};
use edit::Made;
use keys::User;
use lavrin_server::abilities::{Abilities, Ability};
use lavrin_server::account::Account;
use lavrin_server::fs::{Fact, Why};
use lavrin_server::server::{Known, Server};
use lavrin_server::steps::{Change, ChangeSubject, Guarded};
use lavrin_server::survey::{KeySlot, Observation, Want, Wanted};
use session::{Session, SessionFault};
use std::time::Duration;
use tokio::sync::Mutex;

/// The subsystem (RFC 6242, section 6).
const SUBSYSTEM: &str = "netconf";

/// How long each answer may take at most.
const ANSWER_TIME: Duration = Duration::from_secs(30);

/// A device behind a session that is open.
pub struct NetconfDevice {
    connection: Connection,
    state: Mutex<NetconfState>,
    limit: Duration,
}

/// The session, and what was done in it.
struct NetconfState {
    session: Session,
    /// Changes that were made together, before each was asked for.
    made: Made,
}

impl NetconfDevice {
    /// Opens a session over a connection on which somebody has signed in. Each answer may take so long.
    ///
    /// # Errors
    /// [`ExecFault`].
    #[must_use]
    pub fn open(connection: Connection, limit: Duration) -> Boxed<'static, Result<Self, ExecFault>> {
        Box::pin(async move {
            let limit = limit.min(ANSWER_TIME);
            let mut session = session(&connection, limit).await?;
            if !session.capabilities.accounts {
                session.capabilities.accounts = edit::library_knows_accounts(&mut session).await.map_err(exec_fault)?;
            }
            if !session.capabilities.accounts {
                let why = "it does not say that it keeps accounts of its own (ietf-system, local-users)".to_owned();
                return Err(ExecFault::Device { why });
            }
            Ok(Self { connection, state: Mutex::new(NetconfState { session, made: Made::default() }), limit })
        })
    }
}

/// The accounts in an answer, with their keys as they are shown; none where it shows none.
#[must_use]
pub fn read_users(answer: &xml::Element) -> Vec<(String, Vec<KeySlot>)> {
    keys::users(answer).into_iter().flatten().map(|user| (user.name, user.keys)).collect()
}

/// A session over a connection: further ones may be opened beside it.
async fn session(connection: &Connection, limit: Duration) -> Result<Session, ExecFault> {
    let stream = connection.subsystem(SUBSYSTEM, limit).await;
    let stream = stream.map_err(|fault| match fault {
        ExecFault::Refused => ExecFault::Device { why: "it has no NETCONF on this port".to_owned() },
        other => other,
    })?;
    Session::open(stream, limit).await.map_err(exec_fault)
}

fn exec_fault(fault: SessionFault) -> ExecFault {
    match fault {
        SessionFault::Timeout { seconds } => ExecFault::Timeout { seconds },
        SessionFault::Ended => ExecFault::Broken,
        other => ExecFault::Device { why: other.to_string() },
    }
}

/// A fault of a request that changes something; `subject` is what was to be changed.
fn carry_fault(fault: &SessionFault, subject: ChangeSubject) -> CarryFault {
    match fault.refusal() {
        Some(_) => CarryFault::Refused { subject, why: fault.to_string() },
        None => CarryFault::Unknown { subject },
    }
}

impl Reach for NetconfDevice {
    fn abilities(&self) -> Abilities {
        use Ability::{Files, Logs, Modes, Options, Owners, Rename, Settings};
        Abilities::without([Files, Modes, Owners, Settings, Logs, Options, Rename])
    }

    fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>> {
        Box::pin(async move {
            seen.found_server(Server::default(), Known::Banner(self.connection.banner().to_owned()));
            let session = &mut self.state.get_mut().session;
            let of_keys: Vec<&Want> =
                wants.iter().filter(|want| matches!(want.what, Wanted::System(_) | Wanted::Slots(_))).collect();
            for other in wants.iter().filter(|want| !of_keys.contains(want)) {
                seen.give_up(other, &Why::WrongKind);
            }
            let Some(first) = of_keys.first() else { return Ok(()) };
            // All of it in one request, unless it is about the keys of one account only.
            let one = match (&first.what, of_keys.len()) {
                (Wanted::Slots(name), 1) => Some(name.as_str()),
                _ => None,
            };
            let users = edit::read(session, one).await.map_err(exec_fault)?;
            // Whoever may not see accounts is shown none, without a word: nothing follows from that.
            if users.is_none() && one.is_none() {
                return Err(ExecFault::Device { why: "it shows no accounts to this login".to_owned() });
            }
            take_in(users.as_deref().unwrap_or_default(), &of_keys, seen);
            Ok(())
        })
    }

    fn begin<'a>(&'a self, changes: &'a [Guarded], after: Duration) -> Boxed<'a, Result<Option<Armed>, CarryFault>> {
        Box::pin(async move {
            let changes: Vec<&Change> = changes.iter().map(Guarded::change).collect();
            let NetconfState { session, made } = &mut *self.state.lock().await;
            let guard = session.capabilities.confirmed_commit.then_some(after);
            match edit::make(session, &changes, guard).await {
                Ok(()) => *made = Made::of(&changes),
                // One of them may be the reason: then each is made by itself, and tells its own.
                Err(fault) if fault.nothing_changed() && changes.len() > 1 => return Ok(None),
                Err(fault) => return Err(fault),
            }
            Ok(guard.map(|after| Armed {
                name: String::new(),
                folder: String::new(),
                kind: TimerKind::Device,
                over_a_restart: true,
                after,
            }))
        })
    }

    fn carry<'a>(
        &'a self,
        change: &'a Guarded,
        _: &'a Account,
        _: &'a Observation,
    ) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move {
            let NetconfState { session, made } = &mut *self.state.lock().await;
            if made.take(change.change()) { Ok(()) } else { edit::make(session, &[change.change()], None).await }
        })
    }

    fn disarm<'a>(&'a self, _: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move { edit::confirm(&mut self.state.lock().await.session).await })
    }

    fn put_back<'a>(&'a self, _: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move {
            let state = &mut *self.state.lock().await;
            if state.session.capabilities.cancels {
                return edit::call_off(&mut state.session).await;
            }
            // A device that cannot be told so does it when the session ends.
            let unknown = |_| CarryFault::Unknown { subject: ChangeSubject::Server };
            let capabilities = state.session.capabilities;
            let new = session(&self.connection, self.limit).await.map_err(unknown)?;
            std::mem::replace(&mut state.session, new).close().await;
            state.session.capabilities = capabilities;
            Ok(())
        })
    }

    fn keep(&self) -> Boxed<'_, Result<(), CarryFault>> {
        Box::pin(async move { edit::keep(&mut self.state.lock().await.session).await })
    }

    fn close(self: Box<Self>) -> Boxed<'static, ()> {
        Box::pin(async move {
            self.state.into_inner().session.close().await;
            self.connection.close().await;
        })
    }
}

/// Writes into the observation what the answer shows.
fn take_in(users: &[User], wants: &[&Want], seen: &mut Observation) {
    let slots = |user: &User| (user.name.clone(), Fact::Known(user.keys.clone()));
    for want in wants {
        if let Wanted::Slots(name) = &want.what {
            let own = users.iter().find(|user| user.name == *name).map(slots);
            // An account that is not shown when it is asked for is not there any more, or not for this login.
            let (name, slots) = own.unwrap_or_else(|| (name.clone(), Fact::Unseen(Why::Permission)));
            seen.slots.insert(name, slots);
            continue;
        }
        let accounts = users.iter().enumerate().map(|(number, user)| keys::account(number, &user.name));
        seen.accounts = accounts.collect::<Vec<_>>().into();
        seen.looked = true;
        seen.slots.extend(users.iter().map(slots));
    }
}
