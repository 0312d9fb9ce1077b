//! The sheet for moving machines to other hosts while they run.

use super::{back, chosen, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::rooms::moving;
use zastrugi_core::{
    ids::{HostId, VolumeId},
    rooms::Proposal,
    rooms::moving::{DisksTo, Move},
    view::View,
};

#[derive(Template)]
#[template(
    source = r#"<fieldset><legend class="legend">Machines</legend><div class="field" id="f-machines" data-field="machines"><p>{% for (id, name) in machines %}<input type="hidden" name="ids" value="{{ id }}"><span class="chip">{{ name }}</span>{% endfor %}</p><span class="wrong" role="alert"></span></div></fieldset>
<fieldset><legend class="legend">Where to</legend><div class="row"><div class="field wide" id="f-to" data-field="to"><label for="to">Host</label><select id="to" name="to"><option value="">Best, with reasons</option>{% for (id, words) in hosts %}<option value="{{ id }}"{% if *id == to %} selected{% endif %}>{{ words }}</option>{% endfor %}</select><span class="wrong" role="alert"></span></div></div></fieldset>
<fieldset><legend class="legend">Their disks</legend><div class="row"><div class="field wide" id="f-volume" data-field="volume"><label for="volume">Volume</label><select id="volume" name="volume"><option value="">stay on theirs</option>{% for (id, words) in volumes %}<option value="{{ id }}"{% if *id == volume %} selected{% endif %}>{{ words }}</option>{% endfor %}</select><span class="wrong" role="alert"></span></div></div><div class="field"><label class="check"><input type="checkbox" name="stay"{% if stay %} checked{% endif %}> only the disks go; the machines stay on their hosts</label></div></fieldset>
<fieldset><legend class="legend">If it writes faster than the line carries</legend><div class="field" id="f-slow" data-field="slow"><label class="check"><input type="checkbox" name="slow"{% if slow %} checked{% endif %}> slow it on the way, by at most 70 %</label><span class="wrong" role="alert"></span></div>
<div class="field" id="f-force" data-field="force"><label class="check"><input type="checkbox" name="force"{% if force %} checked{% endif %}> move it all the same, and let it stand still for longer</label><span class="wrong" role="alert"></span></div></fieldset>"#,
    ext = "html"
)]
struct MoveFields {
    machines: Vec<(u64, String)>,
    hosts: Vec<(u64, String)>,
    to: u64,
    volumes: Vec<(u64, String)>,
    volume: u64,
    stay: bool,
    slow: bool,
    force: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let estate = &view.estate;
    let first = ids.first().and_then(|id| estate.machines.get(id));
    let cluster = first.and_then(|m| m.cluster);
    let volume = fields.get("volume").parse().ok().map(VolumeId);
    let stay = fields.ticked("stay", false);
    let ask = Move {
        disks: volume.map(|volume| DisksTo { volume, stay }),
        to: fields.get("to").parse().ok().map(HostId),
        slow: fields.ticked("slow", false),
        force: fields.ticked("force", false),
        machines: ids,
    };
    let shown = MoveFields {
        machines: named.clone(),
        hosts: super::hosts(view, cluster),
        to: ask.to.map_or(0, |h| h.0),
        volumes: super::new::volumes(view, cluster),
        volume: volume.map_or(0, |v| v.0),
        stay,
        slow: ask.slow,
        force: ask.force,
    };
    Filled {
        title: format!("Move {}", what(&named)),
        lead: "To another host, while it runs, or its disks to another volume. What it will be like stands at the right.".into(),
        run: format!("Run: move {}", what(&named)),
        danger: ask.force,
        back: back(&named),
        fields: render(&shown),
        ask: Proposal::Moving(moving::Ask::Move(ask)),
        wrong: vec![],
    }
}
