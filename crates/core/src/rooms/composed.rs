//! Rooms whose steps are steps of other rooms, in one run: here is what they delegate, once.

/// `Step` and `Event` over those of the named rooms; of those behind the second semicolon only the events. `urgency` is the least of
/// any of them. `leaves`: a person may go on without what failed, where the step itself allows that.
macro_rules! composed {
    (urgency: $urgency:expr $(, leaves: $leaves:expr)?; $($Room:ident $room:ident),* $(,)? $(; $($Told:ident $told:ident),* $(,)?)?) => {
        #[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize, strum::VariantNames)]
        #[strum(serialize_all = "snake_case")]
        #[serde(rename_all = "snake_case")]
        pub enum Step {
            $($Room($crate::rooms::$room::Step)),*
        }

        /// What happens in the rooms that it passes through.
        #[derive(Debug, Clone, PartialEq)]
        pub enum Event {
            $($Room($crate::rooms::$room::Event),)*
            $($($Told($crate::rooms::$told::Event),)*)?
        }

        impl $crate::road::Work for Step {
            type Event = Event;

            fn group(&self) -> &'static str {
                match self { $(Step::$Room(step) => step.group()),* }
            }
            fn length(&self) -> $crate::road::Length {
                match self { $(Step::$Room(step) => step.length()),* }
            }
            fn may_be_left(&self) -> bool {
                // In most of these rooms what comes later rests on what was before.
                let here = false $(|| $leaves)?;
                here && match self { $(Step::$Room(step) => step.may_be_left()),* }
            }
            fn pause(&self) -> $crate::moment::Span {
                match self { $(Step::$Room(step) => step.pause()),* }
            }
            fn carried_at(&self, estate: &$crate::estate::Estate) -> Vec<$crate::ids::SiteId> {
                match self { $(Step::$Room(step) => step.carried_at(estate)),* }
            }
            fn goes_on(&self) -> bool {
                match self { $(Step::$Room(step) => step.goes_on()),* }
            }
            fn device(&self, estate: &$crate::estate::Estate) -> Option<$crate::runs::Object> {
                match self { $(Step::$Room(step) => step.device(estate)),* }
            }
            fn urgency(&self) -> $crate::road::Urgency {
                let own = match self { $(Step::$Room(step) => step.urgency()),* };
                own.min($urgency)
            }
            fn about(&self) -> Vec<$crate::runs::Object> {
                match self { $(Step::$Room(step) => step.about()),* }
            }
            fn locks(&self) -> Vec<$crate::runs::Lock> {
                match self { $(Step::$Room(step) => step.locks()),* }
            }
            fn premise(&self, view: &$crate::view::View) -> $crate::road::Premise {
                match self { $(Step::$Room(step) => step.premise(view)),* }
            }
            fn record(&self) -> Option<Event> {
                match self { $(Step::$Room(step) => step.record().map(Event::$Room)),* }
            }
            fn undo(&self, estate: &$crate::estate::Estate, left: $crate::road::Left) -> Option<Event> {
                match self { $(Step::$Room(step) => step.undo(estate, left).map(Event::$Room)),* }
            }
            fn given(&self, estate: &$crate::estate::Estate) -> Vec<$crate::road::Given> {
                match self { $(Step::$Room(step) => step.given(estate)),* }
            }
            fn correct(
                &self,
                view: &$crate::view::View,
                now: $crate::moment::Moment,
                typed: &$crate::road::Typed,
            ) -> Result<Event, Vec<$crate::finding::Finding>> {
                match self { $(Step::$Room(step) => step.correct(view, now, typed).map(Event::$Room)),* }
            }
            fn rests_on(&self, correction: &Event) -> bool {
                $(if let (Step::$Room(step), Event::$Room(event)) = (self, correction) {
                    return step.rests_on(event);
                })*
                false
            }
        }

        impl $crate::road::Tale for Event {
            fn absorb(&self, pen: &mut $crate::estate::Pen<'_>) {
                match self { $(Event::$Room(event) => event.absorb(pen),)* $($(Event::$Told(event) => event.absorb(pen),)*)? }
            }
            fn tell(&self, estate: &$crate::estate::Estate) -> Option<$crate::road::Entry> {
                match self { $(Event::$Room(event) => event.tell(estate),)* $($(Event::$Told(event) => event.tell(estate),)*)? }
            }
            fn is_sighting(&self) -> bool {
                match self { $(Event::$Room(event) => event.is_sighting(),)* $($(Event::$Told(event) => event.is_sighting(),)*)? }
            }
        }
    };
}

pub(crate) use composed;
