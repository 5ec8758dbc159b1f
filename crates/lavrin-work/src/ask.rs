//! Many hosts asked from outside whether they take keys. Nobody signs in, except to a host over
//! which others are reached, and with keys whose private half is at hand.

use crate::heard::{Heard, Holder, NoProof, hear, log_in};
use crate::pool::{self, Pace, crash_if_told};
use crate::survey::seen;
use crate::ways::{Stop, WayFault, Ways};
use lavrin_keys::key::PublicKey;
use lavrin_keys::key::generate::SystemSource;
use lavrin_reach::Boxed;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

/// What one host is asked.
#[derive(Clone)]
pub struct HostQuestion {
    /// The host.
    pub stop: Stop,
    /// Keys by account.
    pub accounts: Vec<(String, Vec<PublicKey>)>,
    /// Private halves that are at hand: such a key signs in, where the host takes it.
    pub holders: Vec<Holder>,
}

impl HostQuestion {
    /// One without private halves.
    #[must_use]
    pub fn of(stop: Stop, accounts: Vec<(String, Vec<PublicKey>)>) -> Self {
        Self { stop, accounts, holders: Vec::new() }
    }
}

/// What a host says: for each account its answers, in the order of the keys, or why it was not reached.
pub type AnswersOfHost = Result<Vec<(String, Vec<Heard>)>, WayFault>;

/// A question and what became of it.
pub type Answered = (HostQuestion, AnswersOfHost);

/// Asks every host; gives each question with its answer, in their order.
pub fn ask<'a>(questions: Vec<HostQuestion>, ways: &'a Arc<Ways>, pace: &'a Pace) -> Boxed<'a, Vec<Answered>> {
    Box::pin(async move {
        let limit = pace.limit;
        let jobs = questions.iter().map(|question| (question.stop.host.clone(), question.clone())).collect();
        let answers = pool::all(jobs, pace, |question| in_time(question, ways.clone(), limit)).await;
        let mut answers: HashMap<String, AnswersOfHost> =
            answers.into_iter().map(|(host, said)| (host, seen(said))).collect();
        let answer = |question: HostQuestion| {
            let said = answers.remove(&question.stop.host).unwrap_or(Err(WayFault::NotBegun));
            (question, said)
        };
        questions.into_iter().map(answer).collect()
    })
}

async fn in_time(question: HostQuestion, ways: Arc<Ways>, limit: Duration) -> AnswersOfHost {
    crash_if_told(&question.stop.host, "ask");
    let asked = tokio::time::timeout(limit, one(&question, &ways, limit)).await;
    asked.unwrap_or(Err(WayFault::Timeout { seconds: limit.as_secs() }))
}

async fn one(question: &HostQuestion, ways: &Ways, limit: Duration) -> AnswersOfHost {
    let target = ways.target(&question.stop).await?;
    let mut all = Vec::new();
    for (account, keys) in &question.accounts {
        let mut heard = hear(&target, account, keys, &ways.terms(&SystemSource, limit)).await;
        for (key, heard) in keys.iter().zip(&mut heard) {
            let holder = question.holders.iter().find(|holder| holder.key.public() == key);
            if let Some(holder) = holder.filter(|_| heard.leaves_a_login_to_try()) {
                let (said, connection) = log_in(&target, account, holder).await;
                *heard = said;
                if let Some(connection) = connection {
                    connection.close().await;
                }
            }
        }
        // A host that cannot be reached for one account cannot be reached for the next.
        if let Some(Heard::Nothing(NoProof::NoConnection(fault))) = heard.first() {
            return Err((**fault).clone().into());
        }
        all.push((account.clone(), heard));
    }
    Ok(all)
}
