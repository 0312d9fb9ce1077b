//! What goes wrong when many copies are wished for: a name that is taken.

use crate::{
    lab::Lab,
    templates::{copies, make, of},
};
use sqlx::PgPool;
use zastrugi_core::{finding::Severity, rooms::Proposal};
use zastrugi_store::testkit::url;

fn stops(lab: &Lab, ask: &Proposal) -> Vec<String> {
    let said = lab.desk.assess(&lab.admin, ask);
    let all = said.findings().iter();
    all.filter(|f| f.severity == Severity::Stop)
        .map(|f| f.text.clone())
        .collect()
}

/// If this fails, a hundred copies begin and the thirty-seventh finds out that its name is taken.
#[sqlx::test(migrations = false)]
async fn a_name_that_is_taken_is_named_before_anything_is_made(pool: PgPool) {
    let lab = Lab::at_speed(&url(&pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, false)).await;
    lab.done(make(lab.machine("m"), "base", None)).await;
    lab.done(lab.create("berth-037", 1, false)).await;
    let ask = copies(&lab, "berth-{001}", 100, of(&lab, "base"), true);
    let refused = stops(&lab, &ask);
    assert!(
        refused.iter().any(|t| t.contains("berth-037")),
        "{refused:?}"
    );
    let begun = lab
        .desk
        .start(&lab.admin, ask, None, uuid::Uuid::new_v4())
        .await;
    assert!(begun.is_err());
    let made = |name: &str| lab.estate().machine_named(name).is_some();
    assert!(!made("berth-001") && !made("berth-036"), "nothing is made");
}
