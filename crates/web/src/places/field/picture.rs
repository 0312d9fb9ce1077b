//! One cluster's ridgeline as its template takes it: heights are always-kept memory of what is installed.

use crate::frame::{Glyph, Px, host_state};
use askama::Template;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, FailureStage, Host, Machine},
    placement::{Account, Ledger},
    units::{Bytes, round},
    view::View,
};

/// Pixels of one of the page's twelve columns, of the space between them, and of a column's height.
const COLUMN: f64 = 45.0;
const GUTTER: f64 = 26.0;
const TALL: f64 = 262.0;
const LOW: f64 = 180.0;

/// How large everything is drawn.
#[derive(Clone, Copy)]
pub(super) struct Scale {
    width: f64,
    /// From one host to the next.
    step: f64,
    /// Of a host's column.
    wide: f64,
    tall: f64,
}

impl Scale {
    /// For so many of the page's twelve columns, and so many hosts.
    pub(super) fn of(span: usize, hosts: usize) -> Scale {
        let n = span as f64;
        let width = n * COLUMN + (n - 1.0) * GUTTER;
        let gap = if hosts > 20 { 3.0 } else { 9.0 };
        let step = (width - 6.0 + gap) / hosts.max(1) as f64;
        Scale {
            width,
            step,
            wide: step - gap,
            tall: if span == 12 { TALL } else { LOW },
        }
    }
}

#[derive(Template)]
#[template(path = "places/field/ridge.html")]
pub(super) struct Picture {
    width: Px,
    total: Px,
    tall: Px,
    wide: Px,
    /// Where the bars of what the CPUs do now are.
    cpu: Px,
    columns: Vec<Column>,
    /// Up to where all may be filled, and where that is said.
    line: Option<(Px, Px)>,
}

struct Column {
    id: u64,
    x: Px,
    top: Px,
    reserve: Px,
    reserved: Px,
    boxes: Vec<Stacked>,
    /// The crack through the column of a host that has failed.
    crack: Option<String>,
    used: Px,
    /// 2: above four fifths.
    busy: u8,
    name: Option<Name>,
}

struct Name {
    name: String,
    word: String,
    glyph: Glyph,
    mark: Px,
    x: Px,
    y: Px,
    below: Px,
    memory: String,
}

/// A machine in its host's column, or the smallest of them together.
struct Stacked {
    /// Of one machine.
    id: Option<u64>,
    link: String,
    words: String,
    tone: &'static str,
    dark: bool,
    path: String,
    name: Option<(Px, Px, String)>,
}

type Tone<'a> = &'a dyn Fn(&Machine, &Host) -> (&'static str, &'static str);

impl Picture {
    /// Of each host at most `each` machines have a box of their own.
    pub(super) fn draw(
        view: &View,
        ledger: &Ledger,
        hosts: &[Arc<Host>],
        (scale, each): (Scale, usize),
        line: Option<f64>,
        tone: Tone<'_>,
    ) -> Picture {
        let columns = hosts.iter().enumerate().filter_map(|(i, host)| {
            let x = 6.0 + scale.step * i as f64;
            let row = ledger.row(host.id)?;
            Some(column(view, scale, x, (host, row), each, tone))
        });
        let line = line.map(|l| {
            let y = scale.tall * (1.0 - l.min(1.0));
            (Px(y), Px(y - 4.0))
        });
        Picture {
            width: Px(scale.width),
            total: Px(scale.tall + 40.0),
            tall: Px(scale.tall),
            wide: Px(scale.wide),
            cpu: Px(scale.tall + 3.0),
            columns: columns.collect(),
            line,
        }
    }
}

fn column(
    view: &View,
    scale: Scale,
    x: f64,
    (host, row): (&Host, &Account),
    each: usize,
    tone: Tone<'_>,
) -> Column {
    let tall = scale.tall;
    let taken = row.taken().share_of(host.hardware.memory);
    let load = view.host_uses(host);
    let used = load.map_or(0.0, |l| l.cpu.share_of(host.hardware.cpu_capacity()));
    let reserve = tall - host.reserve().share_of(host.hardware.memory) * tall;
    Column {
        id: host.id.0,
        x: Px(x),
        top: Px(tall * (1.0 - taken).clamp(0.0, 1.0)),
        reserve: Px(reserve),
        reserved: Px(tall - reserve),
        boxes: boxes(view, scale, (x, reserve), host, each, tone),
        crack: has_failed(&view.estate, host).then(|| crack(scale, x)),
        used: Px(scale.wide * used.min(1.0)),
        busy: if used > 0.8 { 2 } else { 1 },
        name: (scale.wide > 60.0).then(|| name(view, scale, x, (host, row))),
    }
}

/// It is taken for dead, or proved to be: not one that is only cut off, or ails.
fn has_failed(estate: &Estate, host: &Host) -> bool {
    let failed = |stage: &FailureStage| match stage {
        FailureStage::Judged(_) | FailureStage::Waits(_) | FailureStage::Fenced => true,
        FailureStage::CutOff | FailureStage::Ails | FailureStage::Over => false,
    };
    let told = estate.failure_of(host.id).is_some_and(|f| failed(&f.stage));
    told && !host.reports() || host.condition.is_fenced()
}

/// A jagged band across the column.
fn crack(scale: Scale, x: f64) -> String {
    const TEETH: usize = 6;
    let (middle, tooth) = (scale.tall * 0.55, scale.wide / TEETH as f64);
    let at = |i: usize, low: f64| {
        let up = if i.is_multiple_of(2) { -6.0 } else { 6.0 };
        format!("{} {}", Px(x + tooth * i as f64), Px(middle + up + low))
    };
    let there = (0..=TEETH).map(|i| at(i, 0.0));
    let back = (0..=TEETH).rev().map(|i| at(i, 8.0));
    let all: Vec<String> = there.chain(back).collect();
    format!("M{}Z", all.join("L"))
}

fn name(view: &View, scale: Scale, x: f64, (host, row): (&Host, &Account)) -> Name {
    let (state, word) = host_state(&view.estate, host);
    let (taken, installed) = (row.taken().in_gib(), host.hardware.memory.in_gib());
    Name {
        name: host.name.clone(),
        word,
        glyph: Glyph::of(state),
        mark: Px(scale.tall + 9.0),
        x: Px(x + 18.0),
        y: Px(scale.tall + 21.0),
        below: Px(scale.tall + 36.0),
        memory: format!("{taken:.0} / {installed:.0} GiB"),
    }
}

fn boxes(
    view: &View,
    scale: Scale,
    (x, ground): (f64, f64),
    host: &Host,
    each: usize,
    tone: Tone<'_>,
) -> Vec<Stacked> {
    let estate = &view.estate;
    let fallen = estate.machines_fallen_from(host.id);
    let mut machines: Vec<_> = estate.machines_on(host.id).chain(fallen).cloned().collect();
    machines.sort_by(|a, b| {
        b.held()
            .cmp(&a.held())
            .then(a.tier.cmp(&b.tier))
            .then_with(|| a.name.cmp(&b.name))
    });
    let small = if machines.len() > each {
        machines.split_off(each - 1)
    } else {
        vec![]
    };
    let mut stack = Stack {
        scale,
        x,
        bottom: ground,
        installed: host.hardware.memory,
        boxes: Vec::with_capacity(machines.len() + 1),
    };
    let last = machines.len().saturating_sub(1);
    for (i, machine) in machines.iter().enumerate() {
        let (tone, state) = if estate.unknown(machine).is_some() {
            ("unk", " · unknown")
        } else if machine.fell.is_some() {
            ("unk", " · off, should be on")
        } else {
            tone(machine, host)
        };
        let held = machine.held();
        let words = format!("{} · {held} · tier {}{state}", machine.name, machine.tier);
        let link = format!("/machines/{}", machine.id.0);
        let is_top = i == last && small.is_empty();
        let id = Some(machine.id.0);
        stack.put(held, is_top, tone, (id, link, words, &machine.name));
    }
    if !small.is_empty() {
        let held = small.iter().fold(Bytes::ZERO, |sum, m| sum + m.held());
        let words = format!("{} smaller machines · {held}", small.len());
        let name = format!("{} smaller", small.len());
        let link = format!("/machines?host={}", host.id.0);
        stack.put(held, true, "arr", (None, link, words, &name));
    }
    stack.boxes
}

struct Stack {
    scale: Scale,
    x: f64,
    bottom: f64,
    installed: Bytes,
    boxes: Vec<Stacked>,
}

impl Stack {
    /// The topmost carries the ridge: gentle on the windward side, steep on the lee.
    fn put(
        &mut self,
        held: Bytes,
        is_top: bool,
        tone: &'static str,
        (id, link, words, name): (Option<u64>, String, String, &str),
    ) {
        let (x, w, bottom) = (self.x, self.scale.wide, self.bottom);
        let tall = (held.share_of(self.installed) * self.scale.tall).max(1.0);
        let top = bottom - tall;
        let ridge = if is_top { tall.min(5.0) } else { 0.0 };
        let side = top + ridge;
        let (left, low, up) = (Px(x), Px(bottom), Px(side));
        let path = if is_top {
            let (peak, right) = (Px(x + w * 0.75), Px(x + w));
            format!("M{left} {low}V{up}L{peak} {} {right} {up}V{low}Z", Px(top))
        } else {
            format!("M{left} {low}V{up}H{}V{low}Z", Px(x + w))
        };
        let most = usize::try_from(round((w - 8.0) / 5.9)).unwrap_or(12);
        let named = tall >= 13.0 && w > 44.0;
        self.boxes.push(Stacked {
            id,
            link,
            words,
            tone,
            dark: matches!(tone, "t1" | "broken" | "risk"),
            path,
            name: named.then(|| {
                let shown = name.chars().take(most).collect();
                (Px(x + 5.0), Px(f64::midpoint(side, bottom) + 4.0), shown)
            }),
        });
        self.bottom = top;
    }
}
