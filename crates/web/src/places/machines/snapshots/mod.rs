//! Snapshots of machines: the tree on a machine's page, and the sheets that take, keep, delete and go back.

mod back;
mod forget;
mod keep;
mod take;
mod tree;

pub(crate) use back::fill as back;
pub(crate) use forget::fill as forget;
pub(crate) use keep::fill as keep;
pub(crate) use take::fill as take;
pub(super) use tree::Tree;

use crate::frame::{AtDesk, Fields, Page, Problem, Signed, part};
use futures::future::BoxFuture;
use rocket::get;
use zastrugi_core::{ids::MachineId, permits::Act};

/// How long ago, and how long, as people type it.
const DAY: u64 = 86_400_000;

/// The tree by itself: what is not known of its layers is read first.
#[get("/machines/<id>/snapshots")]
pub(crate) async fn tree_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let id = MachineId(id);
    desk.ask_for_layers(&[id]).await;
    let view = desk.look();
    let machine = view.estate.machines.get(&id);
    let machine = machine.ok_or_else(|| Problem::not_found("This machine"))?;
    part(&Tree::of(
        &view,
        machine,
        desk.now(),
        signed.may(Act::Machines),
    ))
}

/// What a sheet is about is read before it says what it costs.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let machines: Vec<MachineId> = fields.ids("ids");
        desk.ask_for_layers(&machines).await;
    })
}

/// Days as typed; none for an empty field.
fn days(
    fields: &Fields,
    name: &str,
    wrong: &mut Vec<crate::frame::consequences::Wrong>,
) -> Option<zastrugi_core::moment::Span> {
    let typed = fields.get(name).trim();
    if typed.is_empty() {
        return None;
    }
    match typed.parse::<u64>() {
        Ok(days) if days <= 3650 => Some(zastrugi_core::moment::Span::millis(days * DAY)),
        _ => {
            let words = "A number of days, at most 3650; empty for none.";
            wrong.push((name.to_owned(), words.to_owned()));
            None
        }
    }
}
