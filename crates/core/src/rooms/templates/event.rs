//! What happens to templates.

use crate::{
    estate::{Estate, Parent, Pen, Sealed, Template},
    ids::{MachineId, TemplateId},
    moment::Span,
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A version is being made; the template with it alone, where that is new.
    Planned {
        template: Box<Template>,
    },
    Made {
        template: TemplateId,
        version: u32,
        takes: Bytes,
        sealed: Sealed,
        took: Span,
    },
    /// It was given up.
    Dropped {
        template: TemplateId,
        version: u32,
    },
    Removed {
        template: TemplateId,
        version: u32,
    },
    /// A machine lies on no version any more.
    Whole {
        machine: MachineId,
        copied: Bytes,
        took: Span,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Planned { template } => match pen.estate().templates.contains_key(&template.id) {
                true => pen.template(template.id, |t| {
                    t.versions.extend(template.versions.iter().cloned());
                    t.next = t.next.max(template.next);
                }),
                false => pen.add_template(template),
            },
            Event::Made {
                template,
                version,
                takes,
                sealed,
                ..
            } => pen.template(*template, |t| {
                for v in t.versions.iter_mut().filter(|v| v.number == *version) {
                    v.ready = true;
                    v.takes = *takes;
                    v.sealed = sealed.clone();
                }
            }),
            Event::Dropped { template, version } | Event::Removed { template, version } => {
                pen.template(*template, |t| t.versions.retain(|v| v.number != *version));
                let empty = pen.estate().templates.get(template).is_some_and(|t| t.versions.is_empty());
                if empty {
                    pen.drop_template(*template);
                }
            }
            Event::Whole { machine, .. } => pen.machine(*machine, |m| m.parent = None),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let called = |template: &TemplateId, version: &u32| {
            estate.called(Parent {
                template: *template,
                version: *version,
            })
        };
        let about = |template: &TemplateId, text: String| Some(Entry::new("storage", text, vec![template.to_string()]));
        match self {
            Event::Planned { template } => {
                let number = template.versions.first().map_or(0, |v| v.number);
                about(&template.id, format!("{} {number} is being made", template.name))
            }
            Event::Made {
                template,
                version,
                takes,
                sealed,
                took,
            } => {
                let sealed = match sealed {
                    Sealed::Yes(removed) => format!("sealed: {} removed", removed.join(", ")),
                    Sealed::No => "not sealed".to_owned(),
                    Sealed::Unable(why) => format!("not sealed: {why}"),
                };
                let text = format!("{} is there, {takes} in {took}; {sealed}", called(template, version));
                about(template, text)
            }
            Event::Dropped { template, version } => about(template, format!("{} was given up", called(template, version))),
            Event::Removed { template, version } => about(template, format!("{} was removed", called(template, version))),
            Event::Whole { machine, copied, took } => {
                let name = Object::Machine(*machine).name(estate);
                let text = format!("{name} has disks of its own now: {copied} copied in {took}");
                Some(Entry::new("machine", text, vec![machine.to_string()]))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
