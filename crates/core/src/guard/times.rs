//! How long a guard waits for what (rules, section 4). All of it can be made shorter alike, for tests.

use crate::moment::Span;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Times {
    /// An agent that is not heard for so long is silent.
    pub silent: Span,
    /// A lease whose counter changed within so long is alive: a renewal, and some time to read it.
    pub alive: Span,
    /// A host that has power is switched off only when its lease stands still for so long.
    pub patience: Span,
    /// At two thirds of it without renewal a host freezes its guests, at its end its watchdog resets it.
    pub lease: Span,
    /// So long after the end of a lease an armed watchdog has done its work, whatever the clocks.
    pub margin: Span,
    /// Leases that were read within so long, and some other one of which changed, are readable.
    pub readable: Span,
    /// Between two reads that prove a host off.
    pub apart: Span,
    /// Between other reads of a controller.
    pub again: Span,
    /// A controller that gives no answer for so long is silent.
    pub controller: Span,
    /// A host that is told to switch off and hasn't after so long is stuck.
    pub stuck: Span,
    /// No host is switched off twice within so long.
    pub rest: Span,
    /// Within so long at most a quarter of the hosts are fenced on their controllers' word alone.
    pub wave: Span,
    /// A record or a start that was not answered within so long is asked for again.
    pub answer: Span,
    /// A guest that showed no sign of life for so long may hang.
    pub hangs: Span,
    /// A volume whose target answers and offers it no more is awaited for so long.
    pub gone: Span,
    /// How long an array takes to fail over, where nobody knows: half as long again nothing is made of its silence.
    pub failover: Span,
    /// How long a tier waits for machines of which nobody knows how long they boot.
    pub boot: Span,
}

impl Default for Times {
    fn default() -> Self {
        Times {
            silent: Span::secs(15),
            alive: Span::secs(15),
            patience: Span::secs(25),
            lease: Span::secs(60),
            margin: Span::secs(30),
            readable: Span::secs(20),
            apart: Span::secs(3),
            again: Span::secs(2),
            controller: Span::secs(6),
            stuck: Span::secs(30),
            rest: Span::mins(10),
            wave: Span::secs(60),
            answer: Span::secs(20),
            hangs: Span::secs(45),
            gone: Span::secs(10),
            failover: Span::secs(60),
            boot: Span::mins(5),
        }
    }
}

impl Times {
    /// Everything so many times as fast.
    #[must_use]
    pub fn faster(self, by: u64) -> Self {
        let faster = |span: Span| Span((span.0 / by.max(1)).max(1));
        Times {
            silent: faster(self.silent),
            alive: faster(self.alive),
            patience: faster(self.patience),
            lease: faster(self.lease),
            margin: faster(self.margin),
            readable: faster(self.readable),
            apart: faster(self.apart),
            again: faster(self.again),
            controller: faster(self.controller),
            stuck: faster(self.stuck),
            rest: faster(self.rest),
            wave: faster(self.wave),
            answer: faster(self.answer),
            hangs: faster(self.hangs),
            gone: faster(self.gone),
            failover: faster(self.failover),
            boot: faster(self.boot),
        }
    }
}
