//! Service fronts at their load balancers; and members that are taken out before they stop or move.

use crate::{
    Drivers, Outcome, Turn,
    perform::{done, premise},
};
use zastrugi_core::{
    estate::{Balancer, Estate, Front, Machine, MemberState},
    fronts::of_machine,
    ids::{BalancerId, FrontId},
    moment::Span,
    rooms::{
        Event,
        fronts::{self, Step},
    },
    runs::{Fault, FaultKind},
};

/// How much longer than a front's own limit open connections may seem to take.
const SLACK: Span = Span::secs(5);

fn balancer(estate: &Estate, id: BalancerId) -> Result<&Balancer, Fault> {
    let gone = || premise("The load balancer is gone.");
    estate.balancers.get(&id).map(|b| &**b).ok_or_else(gone)
}

fn front(estate: &Estate, id: FrontId) -> Result<&Front, Fault> {
    estate
        .fronts
        .get(&id)
        .map(|f| &**f)
        .ok_or_else(|| premise("The front is gone."))
}

impl Drivers {
    pub(crate) async fn at_front(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::ReadBalancer { balancer: id } => {
                let held = balancer(estate, *id)?;
                let read = self.read_balancer(held).await?;
                let said = format!("software {}", read.software);
                let turn = fronts::Turn::between(held, &read);
                let seen = fronts::Event::BalancerSeen {
                    balancer: Box::new(read),
                    turn,
                };
                Ok(done(vec![Event::Fronts(seen)], said))
            }
            Step::Set { front: id } => {
                let front = front(estate, *id)?;
                let balancer = balancer(estate, front.balancer)?;
                self.not_taken(estate, balancer, front).await?;
                self.set_front(estate, balancer, front, turn).await?;
                let seen = self.front_on(balancer, *id).await?;
                let n = seen.as_ref().map_or(0, |s| s.members.len());
                let told = fronts::Event::seen(front, seen.map(|s| s.members), str::to_owned);
                Ok(done(vec![Event::Fronts(told)], format!("{n} members")))
            }
            Step::Drop { front: id } => {
                let balancer = balancer(estate, front(estate, *id)?.balancer)?;
                self.drop_front(balancer, *id, turn).await?;
                Ok(done(vec![], "taken away"))
            }
            Step::Ready { .. } | Step::Gone { .. } | Step::Forget { .. } => {
                Err(premise("There is no device for this."))
            }
        }
    }

    /// Nobody has the address of a front that is new; two who do would each get half of what comes.
    async fn not_taken(
        &self,
        estate: &Estate,
        balancer: &Balancer,
        front: &Front,
    ) -> Result<(), Fault> {
        let shared = estate
            .fronts
            .values()
            .any(|f| f.id != front.id && f.address == front.address && f.seen.is_some());
        if shared || front.seen.is_some() || self.front_on(balancer, front.id).await?.is_some() {
            return Ok(());
        }
        let network = estate.networks.get(&front.network);
        let Some((network, host)) = network.and_then(|n| Some((n, n.looker(estate)?))) else {
            return Ok(());
        };
        let key = self.key_of(host).await?;
        let heard = self
            .agent(host, &key)
            .neighbours(&network.name, &[front.address])
            .await?;
        let Some(mac) = heard.get(&front.address) else {
            return Ok(());
        };
        let said = format!(
            "{mac} has {} on {} already, says {}.",
            front.address, network.name, host.name
        );
        Err(Fault::new(
            FaultKind::Refused,
            said,
            "Find out who that is, or give the front another address.",
        ))
    }

    /// Before a machine stops or moves: it is taken out of every front, and its open connections may end. Answers what is waited
    /// for; none where nothing is, or no longer.
    pub(crate) async fn drained(
        &self,
        estate: &Estate,
        machine: &Machine,
        turn: Turn<'_>,
    ) -> Result<Option<Outcome>, Fault> {
        for (front, at) in of_machine(estate, machine) {
            let balancer = balancer(estate, front.balancer)?;
            let Some(seen) = self
                .front_on(balancer, front.id)
                .await
                .map_err(|f| kept(f, machine, front))?
            else {
                continue;
            };
            let key = at.to_string();
            let Some(member) = seen.members.get(&key) else {
                continue;
            };
            let open = match member.state {
                MemberState::Out => continue,
                MemberState::Drains => seen.open.get(&key).copied().unwrap_or(0),
                MemberState::Serves | MemberState::Fails(_) => {
                    self.take_out(balancer, front.id, at, turn).await?
                }
            };
            if open > 0 && turn.waited < front.manner.drain.plus(SLACK) {
                let said = match open {
                    1 => format!("out of {}; one connection is open", front.name),
                    n => format!("out of {}; {n} connections are open", front.name),
                };
                return Ok(Some(Outcome::NotYet { said }));
            }
        }
        Ok(None)
    }
}

/// It stays where it is, and on.
fn kept(fault: Fault, machine: &Machine, front: &Front) -> Fault {
    let said = format!(
        "{} stands behind {} and can't be taken out of it: {}",
        machine.name, front.name, fault.said
    );
    let remedy = "Nothing was done to the machine. Bring the load balancer back, or remove the front; then retry.";
    Fault::new(
        if fault.kind == FaultKind::Refused {
            FaultKind::Refused
        } else {
            fault.kind
        },
        said,
        remedy,
    )
}
