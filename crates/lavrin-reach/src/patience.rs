//! How long one step may take: nothing is waited for without an end.

use std::time::Duration;

/// How long one step of reaching a host or an agent may take: name, connection, key exchange, sign-in, question each.
pub(crate) const STEP_TIMEOUT: Duration = Duration::from_secs(20);

/// Waits for one step, but not for ever.
pub(crate) async fn timed<T>(step: impl Future<Output = T>) -> Option<T> {
    tokio::time::timeout(STEP_TIMEOUT, step).await.ok()
}
