//! Many hosts asked from outside whether they take keys. Nobody signs in, except to a host over which others are reached.

use crate::prove::{Heard, NoProof, hear};
use crate::survey::{Jumps, Pace, Stop, SurveyFault, Way};
use lavrin_core::key::PublicKey;
use lavrin_core::key::generate::SystemSource;
use std::sync::Arc;
use tokio::sync::{Semaphore, mpsc};

/// What one host is asked.
#[derive(Debug, Clone)]
pub struct Question {
    /// The host.
    pub stop: Stop,
    /// Keys by account.
    pub accounts: Vec<(String, Vec<PublicKey>)>,
}

/// What it says: for each account its answers, in the order of the keys, or why it was not reached.
pub type Answered = (String, Result<Vec<(String, Vec<Heard>)>, SurveyFault>);

/// Asks every host and hands on what it says, in the order in which that comes.
pub async fn ask(questions: Vec<Question>, jumps: Vec<Stop>, way: Arc<Way>, pace: Pace, done: mpsc::Sender<Answered>) {
    let jumps = Arc::new(Jumps::new(jumps));
    let places = Arc::new(Semaphore::new(pace.parallel.max(1)));
    for question in questions {
        let Ok(place) = places.clone().acquire_owned().await else { return };
        let (jumps, way, done) = (jumps.clone(), way.clone(), done.clone());
        tokio::spawn(async move {
            let host = question.stop.host.clone();
            let seconds = pace.time.as_secs();
            let asked = tokio::time::timeout(pace.time, one(&question, &jumps, &way)).await;
            let _ = done.send((host, asked.unwrap_or(Err(SurveyFault::Timeout { seconds })))).await;
            drop(place);
        });
    }
}

async fn one(question: &Question, jumps: &Jumps, way: &Way) -> Result<Vec<(String, Vec<Heard>)>, SurveyFault> {
    let target = jumps.target(&question.stop, way).await?;
    let mut all = Vec::new();
    for (account, keys) in &question.accounts {
        let heard = hear(&target, account, keys, &SystemSource).await;
        // A host that cannot be reached for one account cannot be reached for the next.
        if let Some(Heard::Nothing(NoProof::NoConnection(fault))) = heard.first() {
            return Err((**fault).clone().into());
        }
        all.push((account.clone(), heard));
    }
    Ok(all)
}
