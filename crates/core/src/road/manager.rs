//! Who answers at a management address: compared before any password goes there, by every room that signs in somewhere.

use super::{Draft, Work};
use crate::{
    endpoint::{Endpoint, short},
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
};

impl<S: Work> Draft<'_, S> {
    /// The name that it calls itself, if it answered with the certificate that the person was shown; else why not. `known`: it
    /// was compared before, so its silence is no reason to give it up.
    pub fn manager(
        &mut self,
        probe: &Probe,
        at: &Endpoint,
        known: bool,
        field: &str,
    ) -> Option<String> {
        let address = &at.address;
        let mut answers = None;
        let finding = match self.view.evidence.fresh(probe, self.now) {
            Some(Answer::Manager { name, pin }) if *pin == at.pin => {
                answers = Some(name.clone());
                if known {
                    let text = format!("{address} answers, with the certificate that is known.");
                    Finding::clear(Rule::Identity, address, text)
                } else {
                    // Always before the eyes: the password goes to whoever shows this.
                    let text = format!("{name} answers at {address}; compare its fingerprint.");
                    let mind = Finding::mind(Rule::Identity, address, text);
                    mind.because(format!("fingerprint {}", short(pin)))
                }
            }
            Some(Answer::Manager { pin, .. }) => {
                let text =
                    format!("{address} shows another certificate now than when you looked at it.");
                Finding::stop(Rule::Identity, address, text)
                    .because(format!("then {}, now {}", short(&at.pin), short(pin)))
                    .remedy("Open this sheet anew and compare the fingerprint.")
            }
            Some(Answer::Silent { why }) if known => {
                let text = format!("{address} does not answer: {why}. It stays as it is known.");
                Finding::mind(Rule::Reachable, address, text)
            }
            Some(Answer::Silent { why }) => {
                let text = format!("{address} does not answer: {why}.");
                Finding::stop(Rule::Reachable, address, text)
                    .remedy("Check the address, and that its network is a management network.")
            }
            _ => {
                let text = format!("{address} was not asked yet.");
                match known {
                    true => Finding::unchecked(Rule::Reachable, address, text),
                    false => Finding::stop(Rule::Reachable, address, text),
                }
            }
        };
        self.found(finding.at(field));
        answers
    }
}
