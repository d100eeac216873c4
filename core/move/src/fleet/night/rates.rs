//! What may be taken from a host each second. All workers together keep to it: each takes its part, by how many of them have machines of
//! that host just then.

use std::{collections::BTreeMap, sync::Arc};

use reformis_wire::steady::Pace;

use crate::fleet::{file::Rules, state::State};

/// The hosts with a rate: bytes a second, and what all tries of this worker from there share.
pub(super) struct Rates(BTreeMap<String, (u64, Arc<Pace>)>);

impl Rates {
    pub(super) fn of(rules: &Rules) -> Self {
        let of_host = |host: &String| {
            let (rate, pace) = (rules.rate(host)?, Pace::default());
            pace.limit(rate);
            Some((host.clone(), (rate, Arc::new(pace))))
        };
        Self(rules.limits.rate.keys().filter_map(of_host).collect())
    }

    pub(super) fn pace(&self, host: &str) -> Option<&Arc<Pace>> {
        self.0.get(host).map(|(_, pace)| pace)
    }

    /// Takes this worker's part. Where the database does not answer, it stays the one that it was.
    pub(super) fn share(&self, state: &State, fleet: &str) {
        if self.0.is_empty() {
            return;
        }
        match state.workers_by_host(fleet) {
            Ok(workers) => {
                for (host, (rate, pace)) in &self.0 {
                    let part = rate / workers.get(host).copied().unwrap_or(1).max(1);
                    pace.limit(part.max(1));
                }
            }
            Err(error) => tracing::debug!(%error, "how many share a host is not known"),
        }
    }
}
