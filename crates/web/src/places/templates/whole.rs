//! The sheet that gives machines disks of their own, which lay on a version.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::MachineId,
    rooms::{Proposal, templates::Ask},
    view::View,
};

#[derive(Template)]
#[template(
    source = r#"{% import "frame/forms.html" as forms %}{% call forms::machines(machines) %}{% endcall %}"#,
    ext = "html"
)]
struct WholeFields {
    machines: Vec<(u64, String)>,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<MachineId> = fields.ids("ids");
    let named = |id: &MachineId| {
        let machine = view.estate.machines.get(id);
        (
            id.0,
            machine.map_or_else(|| id.to_string(), |m| m.name.clone()),
        )
    };
    let machines: Vec<_> = ids.iter().map(named).collect();
    let (what, back) = match machines.as_slice() {
        [(id, one)] => (one.clone(), format!("/machines/{id}")),
        many => (format!("{} machines", many.len()), "/machines".into()),
    };
    Filled {
        title: format!("Make {what} whole"),
        lead: "What their disks have of a template is copied into their own while they run.".into(),
        run: "Run: copy it".into(),
        danger: false,
        back,
        fields: render(&WholeFields { machines }),
        ask: Proposal::Templates(Ask::Whole { machines: ids }),
        wrong: vec![],
    }
}
