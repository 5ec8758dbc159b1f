//! The one conductor of changes at one place.

use super::first_key::without_private_half;
use super::held::HeldPlace;
use super::journal::{Open, Record};
use super::running::{Begun, Proof, Running};
use super::{End, Ended, Task, Terms, Trouble};
use crate::interrupt::Stage;
use crate::pool::crash_if_told;
use crate::site::Site;
use lavrin_reach::CarryFault;
use lavrin_server::steps::{Around, LockOut, Steps, guard, guard_around};
use lavrin_store::ChangeOutcome;
use std::sync::Arc;

/// Carries the tasks out, each account as a whole; proves the place; takes back what does not prove itself.
pub(super) async fn run(site: &mut Site, tasks: Vec<Task>, proof: &Proof, terms: &Terms) -> Ended {
    let accounts: Vec<String> = tasks.iter().map(|task| task.steps.account.name.clone()).collect();
    let not_begun = |why: Trouble| Ended::all(accounts.clone(), &End::NotBegun(Arc::new(why)));
    crash_if_told(site.name(), "open");
    terms.stage(site.name(), Stage::Looking);
    let _held = match HeldPlace::take(site.on_record(), terms).await {
        Ok(held) => held,
        Err(why) => return not_begun(why),
    };
    if let Err(fault) = site.open().await {
        return not_begun(fault.into());
    }
    site.own_network_homes();
    if let Some(why) = without_private_half(&tasks, site, proof) {
        return not_begun(why);
    }
    // All accounts, before the first change: a stop in the middle would leave those before it changed.
    let all = match guarded(tasks, site, terms) {
        Ok(all) => all,
        Err(lock_out) => return not_begun(Trouble::LockOut(lock_out)),
    };
    let login = site.login().map(|login| login.account);
    let intents: Vec<_> = all
        .iter()
        .map(|begun| {
            let record = Record::of(&begun.task, site.on_record(), login.as_deref(), terms);
            (record, &begun.task.steps.account, begun.changes.as_slice())
        })
        .collect();
    let open = match Open::write(&terms.keeper, &intents) {
        Ok(open) => open,
        Err(fault) => return not_begun(fault.into()),
    };
    drop(intents);
    let mut running = Running { site, all, proof, terms, armed: None };
    match running.arm().await {
        Ok(()) => running.carry_all().await,
        Err(fault) if fault.nothing_changed() => running.all_end(&End::NotBegun(Arc::new(fault.into()))),
        Err(fault) => running.settle_all(&Arc::new(fault.into())).await,
    }
    let armed = running.armed.clone();
    let (asked, after) = running.prove().await;
    running.end_timer().await;
    running.keep().await;
    let is_host = running.site.is_host();
    let ended: Vec<(ChangeOutcome, String)> =
        running.all.iter().map(|begun| outcome(begun, &asked, proof, is_host)).collect();
    let not_shown = after.as_ref().map(|after| running.not_shown(after)).unwrap_or_default();
    let accounts = running.all.into_iter().map(|begun| (begun.task.steps.account.name, begun.end)).collect();
    let mut ended_all = Ended { accounts, asked, not_shown, armed, after };
    if let Err(fault) = open.close(|number| ended[number].clone()) {
        let why = Arc::new(Trouble::Store(fault));
        ended_all.accounts.iter_mut().for_each(|(_, end)| *end = End::Unknown(why.clone()));
    }
    ended_all
}

fn guarded(tasks: Vec<Task>, site: &Site, terms: &Terms) -> Result<Vec<Begun>, LockOut> {
    let login = site.login();
    let mut places: Vec<&Arc<Around>> = tasks.iter().map(|task| &task.around).collect();
    places.dedup_by(|one, other| Arc::ptr_eq(one, other));
    let all: Vec<&Steps> = tasks.iter().map(|task| &task.steps).collect();
    for around in places {
        guard_around(&all, around, login.as_ref(), terms.now, terms.accept_lockout)?;
    }
    let not_yet = Arc::new(Trouble::Lost);
    let begin = |task: Task| {
        let changes = guard(&task.steps, login.as_ref(), terms.accept_lockout)?;
        Ok(Begun { task, changes, end: End::NotBegun(not_yet.clone()) })
    };
    tasks.into_iter().map(begin).collect()
}

impl Running<'_> {
    pub(super) fn all_end(&mut self, end: &End) {
        self.all.iter_mut().for_each(|begun| begun.end = end.clone());
    }

    /// Each account in turn. One that fails is taken back and leaves the others going; a line that was lost is opened again.
    async fn carry_all(&mut self) {
        for number in 0..self.all.len() {
            let account = self.all[number].task.steps.account.name.clone();
            self.terms.stage(self.site.name(), Stage::Changing(account));
            crash_if_told(self.site.name(), "change");
            let Err((done, fault)) = self.carry_out(number).await else {
                self.all[number].end = End::Done;
                continue;
            };
            let certain = fault.nothing_changed() || matches!(fault, CarryFault::ModeDidNotHold { .. });
            let is_understood = !matches!(fault, CarryFault::NotUnderstood { .. });
            let why = Arc::new(Trouble::Carry(fault));
            if let Some(armed) = self.armed.clone() {
                self.all[number].end = self.back_by_host(number, &armed, why).await;
                return;
            }
            self.all[number].end = if certain && self.take_back(number, done).await {
                End::AsBefore(why)
            } else if is_understood {
                self.settle(number, why).await
            } else {
                self.back_anew(number, why).await
            };
            if self.is_lost() {
                return;
            }
        }
    }
}

/// How one account's work ended, for the journal.
fn outcome(begun: &Begun, asked: &[super::Asked], proof: &Proof, is_host: bool) -> (ChangeOutcome, String) {
    match &begun.end {
        End::Done if proof.put_back.is_some() => (ChangeOutcome::Done, super::put_back::PROVEN.to_owned()),
        End::Done => (ChangeOutcome::Done, super::prove::detail(asked, &begun.task.steps.account.name, is_host)),
        End::NotBegun(why) | End::AsBefore(why) => (ChangeOutcome::AsBefore, why.to_string()),
        End::Unknown(why) => (ChangeOutcome::Unknown, why.to_string()),
    }
}
