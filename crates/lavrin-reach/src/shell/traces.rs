//! What somebody leaves behind on a host: sessions that are open, copies of their keys, what runs in their name.

use super::frames::{by_id, frames, of_account};
use super::{ShellHost, quoted};
use crate::Boxed;
use crate::ssh::ExecFault;
use lavrin_server::fs::Fact;
use lavrin_server::survey::Observation;
use lavrin_server::survey::traces::{FoundTraces, KeyCopy, RawTraces, TracesQuestion};
use std::time::Duration;

const TRACES: &str = include_str!("scripts/traces.sh");

/// How long that may take.
const TRACES_TIMEOUT: Duration = Duration::from_mins(2);

impl ShellHost {
    /// Looks for them.
    pub(super) fn look_for_traces<'a>(
        &'a self,
        question: &'a TracesQuestion,
        seen: &'a mut Observation,
    ) -> Boxed<'a, Result<(), ExecFault>> {
        Box::pin(async move {
            let nonce = self.nonce();
            let body = format!("QR=\"'$R'\"\nKEYS={}\n{TRACES}", quoted(&question.keys.join("\n")));
            let answer = self.run(&body, &nonce, TRACES_TIMEOUT).await?;
            let all = frames(&answer, &nonce);
            let map = by_id(&all);
            let bytes = |id: &str| map.get(id.as_bytes()).map(|frame| frame.bytes).unwrap_or_default();
            let raw = RawTraces {
                processes: bytes("processes"),
                mine: bytes("mine"),
                open: bytes("open"),
                agents: bytes("agents"),
                clock: bytes("clock"),
                accepted: bytes("accepted"),
                crontabs: bytes("crontabs"),
                lingering: bytes("lingering"),
                cron: bytes("cron"),
            };
            let mut traces = FoundTraces::read(&raw);
            for (name, said) in all.iter().filter_map(of_account) {
                let Some(account) = seen.account(name) else { continue };
                let copies = said
                    .iter()
                    .filter(|frame| frame.id == b"copies")
                    .flat_map(|frame| frame.bytes.split(|byte| *byte == b'\n'));
                traces.copies.extend(copies.filter(|name| !name.is_empty()).map(|file| KeyCopy {
                    account: account.name.clone(),
                    path: account.home.join(b".ssh").join(file),
                }));
            }
            seen.traces = Some(Fact::Known(traces));
            Ok(())
        })
    }
}
