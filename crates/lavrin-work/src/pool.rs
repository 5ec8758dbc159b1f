//! Work on many hosts at once. Each host that was asked has exactly one result, also one whose work crashed, was cut off or
//! was never begun: nothing is ever inferred from silence.

use crate::interrupt::{Interrupt, Stage};
use std::collections::HashMap;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::task::{Id, JoinError, JoinSet};

/// How much at once, and for how long.
#[derive(Debug, Clone)]
pub struct Pace {
    /// Hosts at once.
    pub parallel: usize,
    /// For each look at a host, and for each step of a change.
    pub limit: Duration,
    /// Whether somebody wants the run to end.
    pub interrupt: Interrupt,
}

/// What came of the work on one host.
#[derive(Debug)]
pub enum Finished<T> {
    /// It came to its end.
    Ended(T),
    /// It crashed: a fault of the program, in its words.
    Crashed(String),
    /// It was cut off in this stage, since somebody did not want to wait for its end.
    CutOff(Option<Stage>),
    /// It was not begun, since somebody asked for an end.
    NotBegun,
}

/// Does the work for each host and hands on what came of it, in the order in which that comes. The receiver sets the pace:
/// what it has not taken is not let pile up.
pub async fn each<J, T, W>(
    jobs: Vec<(String, J)>,
    pace: &Pace,
    work: impl Fn(J) -> W,
    done: mpsc::Sender<(String, Finished<T>)>,
) where
    T: Send + 'static,
    W: Future<Output = T> + Send + 'static,
{
    let mut run = pace.interrupt.run();
    let mut waiting = jobs.into_iter();
    let mut names: HashMap<Id, String> = HashMap::new();
    let mut tasks: JoinSet<T> = JoinSet::new();
    loop {
        while tasks.len() < pace.parallel.max(1) && run.asked() == 0 {
            let Some((host, job)) = waiting.next() else { break };
            names.insert(tasks.spawn(work(job)).id(), host);
        }
        if tasks.is_empty() {
            break;
        }
        tokio::select! {
            Some(joined) = tasks.join_next_with_id() => {
                let (id, finished) = match joined {
                    Ok((id, value)) => (id, Finished::Ended(value)),
                    Err(error) => (error.id(), failed(error)),
                };
                let host = names.remove(&id).expect("each task has a name");
                let stage = pace.interrupt.end_stage(&host);
                let finished = if let Finished::CutOff(_) = finished { Finished::CutOff(stage) } else { finished };
                // Nobody listens any more where the run itself was given up; the work goes on to its end all the same.
                let _ = done.send((host, finished)).await;
            }
            () = run.asked_again() => {
                if run.asked() > 1 {
                    tasks.abort_all();
                }
            }
        }
    }
    for (host, _) in waiting {
        let _ = done.send((host, Finished::NotBegun)).await;
    }
}

/// Does the work for all of them and gives every result.
pub async fn all<J, T, W>(jobs: Vec<(String, J)>, pace: &Pace, work: impl Fn(J) -> W) -> Vec<(String, Finished<T>)>
where
    T: Send + 'static,
    W: Future<Output = T> + Send + 'static,
{
    let (done, mut finished) = mpsc::channel(jobs.len().max(1));
    each(jobs, pace, work, done).await;
    let mut results = Vec::new();
    while let Ok(one) = finished.try_recv() {
        results.push(one);
    }
    results
}

/// A task that did not come to its end.
fn failed<T>(error: JoinError) -> Finished<T> {
    let Ok(panic) = error.try_into_panic() else { return Finished::CutOff(None) };
    let said = panic.downcast_ref::<&str>().map(|said| (*said).to_owned());
    let said = said.or_else(|| panic.downcast_ref::<String>().cloned());
    Finished::Crashed(said.unwrap_or_default())
}

/// For tests: where the variable names this host, its work crashes in this stage. No other build has it.
pub(crate) fn crash_if_told(host: &str, stage: &str) {
    #[cfg(feature = "knobs")]
    assert!(std::env::var("LAVRIN_TEST_CRASH") != Ok(format!("{stage}:{host}")), "told to crash");
    #[cfg(not(feature = "knobs"))]
    let _ = (host, stage);
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeMap;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    fn pace(parallel: usize) -> Pace {
        Pace { parallel, limit: Duration::from_secs(5), interrupt: Interrupt::default() }
    }

    fn jobs(number: usize) -> Vec<(String, usize)> {
        (0..number).map(|number| (format!("h{number}"), number)).collect()
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn each_host_has_exactly_one_result_and_never_too_many_are_at_work() {
        let (now, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let results = all(jobs(40), &pace(3), |number| {
            let (now, most) = (now.clone(), most.clone());
            async move {
                most.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                tokio::task::yield_now().await;
                now.fetch_sub(1, Ordering::SeqCst);
                assert!(number % 10 != 7, "number {number}");
                number
            }
        })
        .await;
        let by_host: BTreeMap<_, _> = results.iter().map(|(host, finished)| (host.clone(), finished)).collect();
        assert_eq!((results.len(), by_host.len()), (40, 40));
        for (host, number) in jobs(40) {
            match by_host[&host] {
                Finished::Ended(own) => assert_eq!(*own, number),
                Finished::Crashed(said) => assert_eq!(*said, format!("number {number}")),
                other => panic!("{host}: {other:?}"),
            }
        }
        assert_eq!(results.iter().filter(|(_, one)| matches!(one, Finished::Crashed(_))).count(), 4);
        assert!(most.load(Ordering::SeqCst) <= 3);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn the_first_signal_begins_no_further_host_and_the_second_does_not_wait() {
        let pace = pace(2);
        let interrupt = pace.interrupt.clone();
        let (done, mut finished) = mpsc::channel(8);
        let work = {
            let interrupt = interrupt.clone();
            move |number: usize| {
                let interrupt = interrupt.clone();
                async move {
                    interrupt.stage(&format!("h{number}"), Stage::Changing("edda".to_owned()));
                    if number == 1 {
                        std::future::pending::<()>().await;
                    }
                    // The first ends on its own, and only after somebody asked for an end.
                    while !interrupt.is_asked() {
                        tokio::time::sleep(Duration::from_millis(1)).await;
                    }
                    number
                }
            }
        };
        let run = tokio::spawn(async move { each(jobs(5), &pace, work, done).await });
        while interrupt.inner_runs() == 0 {
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        interrupt.ask();
        let (host, first) = finished.recv().await.unwrap();
        assert!(host == "h0" && matches!(first, Finished::Ended(0)), "{host} {first:?}");
        interrupt.ask();
        let (host, second) = finished.recv().await.unwrap();
        let changing = Stage::Changing("edda".to_owned());
        assert!(host == "h1" && matches!(&second, Finished::CutOff(Some(stage)) if *stage == changing), "{second:?}");
        let mut rest = Vec::new();
        while let Some((host, finished)) = finished.recv().await {
            assert!(matches!(finished, Finished::NotBegun), "{host} {finished:?}");
            rest.push(host);
        }
        assert_eq!(rest, ["h2", "h3", "h4"]);
        run.await.unwrap();
    }
}
