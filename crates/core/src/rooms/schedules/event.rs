//! What happens to schedules.

use crate::{
    estate::{Estate, Pen, Schedule},
    ids::ScheduleId,
    moment::Moment,
    road::{Entry, Tale},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Kept(Box<Schedule>),
    Paused { schedule: ScheduleId, paused: bool },
    /// Its snapshots were begun.
    Begun { schedule: ScheduleId, at: Moment },
    Removed { schedule: ScheduleId, name: String },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Kept(schedule) => match pen.estate().schedules.contains_key(&schedule.id) {
                true => pen.schedule(schedule.id, |s| s.clone_from(schedule)),
                false => pen.add_schedule(schedule),
            },
            Event::Paused { schedule, paused } => pen.schedule(*schedule, |s| s.paused = *paused),
            Event::Begun { schedule, at } => pen.schedule(*schedule, |s| s.last = Some(*at)),
            Event::Removed { schedule, .. } => pen.drop_schedule(*schedule),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let name = |id: &ScheduleId| estate.schedules.get(id).map_or_else(|| id.to_string(), |s| s.name.clone());
        let (id, text) = match self {
            Event::Kept(s) => (s.id, format!("Snapshots {} of machines with {} are taken every {}", s.name, s.label, s.every)),
            Event::Paused { schedule, paused: true } => (*schedule, format!("Snapshots {} are not taken until somebody says so", name(schedule))),
            Event::Paused { schedule, paused: false } => (*schedule, format!("Snapshots {} are taken again", name(schedule))),
            Event::Begun { .. } => return None,
            Event::Removed { schedule, name } => (*schedule, format!("Snapshots {name} are taken no more")),
        };
        Some(Entry::new("machine", text, vec![id.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
