//! What comes after the first day: edit, restart, power off, removal for good, a host handed back, people, CSV.

use crate::{browser::Browser, road::sign_in, world::World};

/// Presses the sheet's button and waits for its run.
async fn run(b: &Browser, done: &str) {
    b.press("form#sheet button[type=submit]").await;
    b.says(done).await;
}

async fn open(b: &Browser, base: &str, machine: &str) {
    b.go(&format!("{base}/machines?q={machine}")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.says("Who it is").await;
}

/// gate-02 is changed, restarted, powered off, deleted and removed for good.
pub(crate) async fn machine(b: &Browser, base: &str) {
    open(b, base, "gate-02").await;
    b.press(".acts a[href*='edit-machines']").await;
    b.fill("#labels", "app=gate owner=cargo").await;
    b.fill("#note", "kept until the new pier opens").await;
    run(b, "it was recorded at once").await;
    b.go(&format!("{base}/machines?label=owner%3Dcargo")).await;
    b.says("gate-02").await;

    open(b, base, "gate-02").await;
    b.says("kept until the new pier opens").await;
    b.deed("restart").await;
    b.says("guest answers").await;
    run(b, "4 of 4 steps are done").await;

    // What its guest was not started to take waits for its next start, and the sheet says so.
    open(b, base, "gate-02").await;
    b.press(".acts a[href*='edit-machines']").await;
    b.fill("#vcpus", "3").await;
    b.says("when gate-02 starts next").await;
    open(b, base, "gate-02").await;
    b.deed("power off").await;
    run(b, "1 of 1 steps are done").await;
    open(b, base, "gate-02").await;
    b.press(".acts a[href*='edit-machines']").await;
    b.fill("#vcpus", "3").await;
    run(b, "1 of 1 steps are done").await;
    open(b, base, "gate-02").await;
    b.says("3 vCPUs").await;

    b.deed("delete").await;
    run(b, "1 of 1 steps are done").await;
    b.go(&format!("{base}/machines?state=deleted")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.press(".acts a[href*='/sheet/purge']").await;
    b.fill("#typed", "gate-01").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("Nothing was started").await;
    b.fill("#typed", "gate-02").await;
    run(b, "1 of 1 steps are done").await;
    b.go(&format!("{base}/machines?state=deleted")).await;
    b.says("No machine fits").await;
}

/// eider-04 leaves the cluster and is nobody's again.
pub(crate) async fn hand_back(b: &Browser, world: &World, base: &str) {
    b.go(&format!("{base}/hosts?q=eider-04")).await;
    b.press("tbody a[href^='/hosts/']").await;
    b.press(".acts a[href*='/sheet/leave-cluster']").await;
    b.says("leave the cluster").await;
    run(b, "4 of 4 steps are done").await;
    b.go(&format!("{base}/hosts")).await;
    b.says("3 hosts").await;
    // It takes its first password again: a scan finds it without an owner.
    b.go(&format!("{base}/hosts/look")).await;
    b.fill("#range", &format!("{}.1.14", world.net)).await;
    b.press("main button.primary").await;
    b.says("1 hosts answered").await;
    b.says("nobody").await;
}

/// A new operator signs in, may change machines, and is offered neither hosts nor people.
pub(crate) async fn people(b: &Browser, base: &str) {
    b.go(&format!("{base}/settings/people")).await;
    b.fill("#name", "shift.operator").await;
    b.fill("#password", "short").await;
    b.press("form[action='/settings/people'] option:nth-of-type(2)")
        .await;
    b.press("form[action='/settings/people'] button").await;
    b.says("at least").await;
    b.fill("#password", "mooring-lines").await;
    b.press("form[action='/settings/people'] button").await;
    b.says("shift.operator").await;
    let saved = b.page.execute_async(
        "const done = arguments[arguments.length - 1]; fetch('/logbook/events.csv').then(r => r.text().then(t => done([r.headers.get('content-type'), t])))",
        vec![],
    );
    let saved = saved.await.unwrap();
    assert!(saved[0].as_str().unwrap().starts_with("text/csv"));
    let text = saved[1].as_str().unwrap();
    assert!(text.contains("duty.admin") && text.contains("gate-02"));

    b.go(&format!("{base}/settings")).await;
    b.press("form[action='/sign-out'] button").await;
    sign_in(b, base, "shift.operator", "mooring-lines").await;
    b.says("Eider").await;
    b.go(&format!("{base}/machines")).await;
    b.says("New machines").await;
    b.go(&format!("{base}/hosts")).await;
    b.says("3 hosts").await;
    let hosts = b.text().await;
    assert!(!hosts.contains("Look for hosts"), "{hosts}");
    b.go(&format!("{base}/settings/people")).await;
    b.says("Your role does not allow this").await;
}
