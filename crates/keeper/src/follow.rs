//! Every host of the cluster is followed: what it reports goes into the ledger and to the guard; its silence too.

use crate::{Posts, book::Book, ledger::Ledger};
use std::{collections::BTreeMap, time::Duration};
use tokio::{
    task::{AbortHandle, JoinSet},
    time::sleep,
};
use zastrugi_core::{
    ids::{ClusterId, HostId},
    papers::heard,
    runs::{Fault, FaultKind},
};

/// Failures in a row before a host counts as lost.
const PATIENCE: u32 = 3;

#[derive(Default)]
pub(crate) struct Followed {
    tasks: JoinSet<()>,
    by_host: BTreeMap<HostId, (String, AbortHandle)>,
}

impl Followed {
    /// Whoever joined is followed, whoever left or has another certificate no longer.
    pub(crate) fn look_around(&mut self, ledger: &Ledger, posts: &Posts, cluster: ClusterId) {
        while self.tasks.try_join_next().is_some() {}
        let view = ledger.view();
        let wanted: BTreeMap<HostId, String> = heard(&view, cluster)
            .into_iter()
            .filter_map(|id| {
                let access = &view.estate.hosts.get(&id)?.access;
                Some((
                    id,
                    format!("{} {} {:?}", access.address, access.pin, access.key),
                ))
            })
            .collect();
        self.by_host.retain(|id, (access, task)| {
            let same = wanted.get(id) == Some(access);
            if !same {
                task.abort();
            }
            same && !task.is_finished()
        });
        for (id, access) in wanted {
            let (ledger, posts) = (ledger.clone(), posts.clone());
            self.by_host
                .entry(id)
                .or_insert_with(|| (access, self.tasks.spawn(follow(ledger, posts, id))));
        }
    }
}

async fn follow(ledger: Ledger, posts: Posts, host: HostId) {
    let mut failures = 0;
    loop {
        let fault = watch(&ledger, &posts, host, &mut failures).await;
        failures += 1;
        if failures >= PATIENCE || fault.kind == FaultKind::Stranger {
            ledger.misses(host, &fault);
        }
        sleep(Duration::from_millis(u64::from(failures.min(6)) * 500)).await;
    }
}

async fn watch(ledger: &Ledger, posts: &Posts, host: HostId, failures: &mut u32) -> Fault {
    let Some(found) = ledger.view().estate.hosts.get(&host).cloned() else {
        return Fault::new(FaultKind::Premise, "The host is gone.", "");
    };
    let mut watch = match ledger.drivers().watch(&found).await {
        Ok(watch) => watch,
        Err(fault) => return fault,
    };
    loop {
        match watch.report().await {
            Ok((report, sample)) => {
                if let Err(why) = ledger.drivers().networks().check(&found.access.address) {
                    return Fault::new(FaultKind::Refused, why.to_string(), "");
                }
                *failures = 0;
                posts.heard(ledger, host, &report, &sample);
                ledger.hears(host, &report, &sample);
            }
            Err(fault) => return fault,
        }
    }
}
