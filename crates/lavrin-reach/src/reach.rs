//! What every reach can do. What a host cannot do or show, its [`Abilities`] say.

use crate::shell::Claims;
use crate::ssh::{ExecFault, RootBy};
use crate::{Armed, Boxed, CarryFault};
use lavrin_server::abilities::Abilities;
use lavrin_server::account::Account;
use lavrin_server::steps::Guarded;
use lavrin_server::survey::{Observation, Want};
use std::sync::Arc;
use std::time::Duration;

/// A host or tree that is open: it is looked at, and changes are carried out there.
pub trait Reach: Send + Sync {
    /// What cannot be done or seen there.
    fn abilities(&self) -> Abilities {
        Abilities::default()
    }

    /// Gets root's rights in one of these ways, where there is one; gives why the first was refused, where none worked.
    ///
    /// # Errors
    /// [`ExecFault`] where the host gives no answer.
    fn get_root<'a>(&'a mut self, _ways: &'a [RootBy]) -> Boxed<'a, Result<Option<ExecFault>, ExecFault>> {
        Box::pin(async { Ok(None) })
    }

    /// Where homes on a network file system are looked at: what nobody has looked at yet.
    fn share_network_homes(&mut self, _claims: Option<Arc<Claims>>) {}

    /// Looks at everything that is wanted and writes it into the observation: each want is answered, well or badly.
    ///
    /// # Errors
    /// [`ExecFault`] where no whole answer came.
    fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>>;

    /// Makes one change. What was looked at before must still hold, else nothing is changed.
    ///
    /// # Errors
    /// [`CarryFault`].
    fn carry<'a>(
        &'a self,
        change: &'a Guarded,
        account: &'a Account,
        seen: &'a Observation,
    ) -> Boxed<'a, Result<(), CarryFault>>;

    /// Told of all changes before the first of them: a device that makes them together does so now, and [`Reach::carry`] then says how
    /// it went with each. Gives how it takes them back by itself after this time, where it does.
    ///
    /// # Errors
    /// [`CarryFault`]; whatever is certain from it holds for all of them.
    fn begin<'a>(&'a self, _: &'a [Guarded], _after: Duration) -> Boxed<'a, Result<Option<Armed>, CarryFault>> {
        Box::pin(async { Ok(None) })
    }

    /// What was done is proven: it is there after a restart too.
    ///
    /// # Errors
    /// [`CarryFault`].
    fn keep(&self) -> Boxed<'_, Result<(), CarryFault>> {
        Box::pin(async { Ok(()) })
    }

    /// Has the host put back what these changes will write, after this time, unless it is disarmed before.
    ///
    /// # Errors
    /// [`CarryFault`] where it has no means for that; nothing was changed then.
    fn arm<'a>(&'a self, changes: &'a [Guarded], _after: Duration) -> Boxed<'a, Result<Armed, CarryFault>> {
        Box::pin(async move {
            let change = changes.first().map(Guarded::change);
            Err(change.map_or(CarryFault::PutBack, CarryFault::not_there))
        })
    }

    /// The changes are proven: the host keeps them.
    ///
    /// # Errors
    /// [`CarryFault::PutBack`] where it was too late.
    fn disarm<'a>(&'a self, _armed: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async { Err(CarryFault::PutBack) })
    }

    /// The changes are not proven: the host puts everything back at once.
    ///
    /// # Errors
    /// [`CarryFault`].
    fn put_back<'a>(&'a self, _armed: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async { Err(CarryFault::PutBack) })
    }

    /// Writes a line into the host's own log, where it has the means. Whether it worked is not known.
    fn note<'a>(&'a self, _text: &'a str) -> Boxed<'a, ()> {
        Box::pin(async {})
    }

    /// Ends the connection.
    #[must_use]
    fn close(self: Box<Self>) -> Boxed<'static, ()> {
        Box::pin(async {})
    }
}
