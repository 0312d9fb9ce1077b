//! A bare host installs itself: its controller mounts what it starts from, it is started once, and awaited until its agent
//! proves that it came from what it was given.

use crate::{
    Drivers, Outcome, Turn,
    agent::{Installed, greet_installed},
    perform::{done, premise},
    redfish::{Controller, Switch, Telling},
};
use hmac::{Hmac, Mac};
use rand::{Rng, distr::Alphanumeric};
use sha2::{Digest, Sha256};
use zastrugi_core::{
    estate::{Estate, Host, Installing},
    moment::Span,
    rooms::installing::{self, Step},
    runs::{Fault, FaultKind},
};

/// Starts that an installation takes: from the medium, and from its own disks.
const STARTS: u32 = 2;
/// A controller that was told and has not switched its host on within so long has not heard it.
const HEARS: Span = Span::secs(15);
/// A host that was told to start and doesn't begin within so long has not heard it.
const BEGINS: Span = Span::secs(90);

impl Drivers {
    pub(super) async fn at_installing(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, step.host())?;
        let Some(installing) = host.installing.as_deref() else {
            return Err(premise("It is installed already."));
        };
        match step {
            Step::Insert { .. } => self.insert(host, installing).await,
            Step::Install { limit, .. } => self.install(host, installing, *limit, turn).await,
            Step::TakeOver { host: id } => {
                let (password, _) = self.given(installing).await?;
                self.claim_with(estate, *id, host, &password, turn).await
            }
            Step::Withdraw { .. } => self.withdraw(host, installing, turn).await,
        }
    }

    /// Its agent's first password, and the secret by which it proves where it came from.
    async fn given(&self, installing: &Installing) -> Result<(String, String), Fault> {
        let secret = installing
            .given
            .ok_or_else(|| premise("Nothing was mounted for it yet."))?;
        let plain = self.secrets.open(secret).await?;
        let (password, proof) = plain.split_once(' ').unwrap_or((&plain, ""));
        Ok((password.to_owned(), proof.to_owned()))
    }

    /// Everything is drawn anew at every attempt: nothing has started from it yet.
    async fn insert(&self, host: &Host, installing: &Installing) -> Result<Outcome, Fault> {
        let base = self.media.url.as_deref().ok_or_else(|| {
            let said = "This manager does not know under which address devices reach it.";
            Fault::new(
                FaultKind::Ours,
                said,
                "Start it with that address (--media-url), then retry.",
            )
        })?;
        let controller = self.controller(host).await?;
        let found = controller.system().await?.serial_number;
        if found != host.hardware.serial {
            let said = format!(
                "The controller shows the serial {found}, not {}.",
                host.hardware.serial
            );
            let remedy = "It is another host's. Look at its address, and build the sheet anew.";
            return Err(Fault::new(FaultKind::Refused, said, remedy));
        }
        let (word, password, proof) = (draw(), draw(), draw());
        let given = self.secrets.keep(format!("{password} {proof}")).await?;
        let images = ["image", "seed"]
            .map(|what| format!("{}/media/{word}/{what}", base.trim_end_matches('/')));
        controller.mount(&images).await?;
        controller.start_once().await?;
        let word = Sha256::digest(word.as_bytes());
        let event = installing::Event::Inserted {
            host: host.id,
            word: word.iter().map(|b| format!("{b:02x}")).collect(),
            given,
        };
        Ok(done(
            vec![event.into()],
            format!("{} mounted", installing.image),
        ))
    }

    /// As it was before anybody came: nothing mounted, its own disks first, and off. One that was found on is left on.
    async fn withdraw(
        &self,
        host: &Host,
        installing: &Installing,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let controller = self.controller(host).await?;
        controller.unmount().await?;
        controller.start_as_ever().await?;
        let on = controller.standing().await?.on;
        if !on || installing.was_on {
            let event = installing::Event::Withdrawn {
                host: host.id,
                clean: true,
            };
            let said = match on {
                true => "nothing is mounted; it is on, as it was found",
                false => "nothing is mounted, and it is off",
            };
            return Ok(done(vec![event.into()], said));
        }
        if turn.waited > BEGINS {
            controller.resets.answered(controller.address, false);
            let said = format!(
                "The controller of {} took the order to switch it off and has not done it for {BEGINS}.",
                host.name
            );
            let remedy = "Look at the controller, or switch the host off by hand, then retry.";
            return Err(Fault::new(FaultKind::Refused, said, remedy));
        }
        let told = controller
            .resets
            .begin(controller.address, Switch::Off, turn.key);
        if told == Telling::Now {
            controller.reset(Switch::Off).await?;
            controller.resets.answered(controller.address, true);
        }
        Ok(Outcome::NotYet {
            said: "is switched off".into(),
        })
    }

    async fn install(
        &self,
        host: &Host,
        installing: &Installing,
        limit: Span,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let controller = self.controller(host).await?;
        let standing = controller.standing().await?;
        if let Some(trouble) = standing.trouble {
            // Whoever retries lets it start once more, from the same media.
            if controller
                .resets
                .begin(controller.address, Switch::On, turn.key)
                == Telling::Already
            {
                controller.resets.answered(controller.address, false);
                return Err(stuck(trouble));
            }
            controller.start_once().await?;
            return start(&controller, standing.on).await;
        }
        if standing.awaits {
            let told = controller
                .resets
                .begin(controller.address, Switch::On, turn.key);
            // One that is still off has not heard it: to be told again harms nothing.
            let deaf = told == Telling::Already && !standing.on && turn.waited > HEARS;
            if told == Telling::Now || deaf {
                return start(&controller, standing.on).await;
            }
            if turn.waited > BEGINS && standing.progress != "checks its hardware" {
                controller.resets.answered(controller.address, false);
                return Err(stuck(
                    "it was started, and did not start from the medium".into(),
                ));
            }
        } else if let Ok(installed) = greet_installed(&self.http, &host.access.address).await {
            return self.came_up(host, installing, installed, &controller).await;
        }
        if turn.waited < limit {
            let said = if standing.progress.is_empty() {
                "starts".into()
            } else {
                standing.progress
            };
            return Ok(Outcome::NotYet { said });
        }
        controller.resets.answered(controller.address, false);
        Err(stuck(format!(
            "it has not come up for {}; last: {}",
            turn.waited, standing.progress
        )))
    }

    /// Somebody answers at its address: the one that was installed, and no other.
    async fn came_up(
        &self,
        host: &Host,
        installing: &Installing,
        installed: Installed,
        controller: &Controller<'_>,
    ) -> Result<Outcome, Fault> {
        let (_, secret) = self.given(installing).await?;
        let greeting = installed.greeting;
        let proof = Hmac::<Sha256>::new_from_slice(secret.as_bytes())
            .ok()
            .is_some_and(|mut mac| {
                mac.update(greeting.pin.as_bytes());
                let bytes: Option<Vec<u8>> = (0..installed.proof.len() / 2)
                    .map(|i| u8::from_str_radix(installed.proof.get(2 * i..2 * i + 2)?, 16).ok())
                    .collect();
                bytes.is_some_and(|bytes| mac.verify_slice(&bytes).is_ok())
            });
        let refuse = |said: String| {
            let remedy = "Somebody else has its address. Find out who, give one of them another, then retry.";
            Err(Fault::new(FaultKind::Refused, said, remedy))
        };
        if !proof {
            return refuse(format!(
                "{} answers at {}, and can't prove that it was installed from what this host was given.",
                greeting.name, host.access.address
            ));
        }
        if greeting.hardware.serial != host.hardware.serial {
            return refuse(format!(
                "{} answers at {} with the serial {}, not {}.",
                greeting.name, host.access.address, greeting.hardware.serial, host.hardware.serial
            ));
        }
        // It needs them no more; one that can't be taken out now harms nobody.
        drop(controller.unmount().await);
        let more = installed.starts.saturating_sub(STARTS);
        let software = greeting.software.clone();
        let event = installing::Event::Installed {
            host: host.id,
            pin: greeting.pin,
            hardware: Box::new(greeting.hardware),
            software: greeting.software,
            more,
        };
        let said = match more {
            0 => format!("{software}, answers"),
            1 => format!("{software}, answers; it restarted once more than it should"),
            n => format!("{software}, answers; it restarted {n} times more than it should"),
        };
        Ok(done(vec![event.into()], said))
    }
}

/// On, or off and on again.
async fn start(controller: &Controller<'_>, on: bool) -> Result<Outcome, Fault> {
    let told = if on {
        controller.restart().await
    } else {
        controller.reset(Switch::On).await
    };
    match told {
        Ok(()) => controller.resets.answered(controller.address, true),
        // Nobody knows whether it heard; what is read decides.
        Err(fault) if fault.leaves_open() => {}
        Err(fault) => {
            controller.resets.answered(controller.address, false);
            return Err(fault);
        }
    }
    Ok(Outcome::NotYet {
        said: "starts".into(),
    })
}

fn stuck(words: String) -> Fault {
    let said = format!("The host says: {}", words.trim_end_matches('.')) + ".";
    let remedy = "Look at its console. Retry starts it once more from the same medium; what it was given can be corrected below.";
    Fault::new(FaultKind::Refused, said, remedy)
}

/// A word that nobody guesses.
fn draw() -> String {
    rand::rng()
        .sample_iter(Alphanumeric)
        .take(43)
        .map(char::from)
        .collect()
}
