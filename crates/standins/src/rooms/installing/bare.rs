//! What a host is beneath its agent: its disks, what is mounted for it, and the installation that is going on.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How a bare host deceives whoever installs it; for tests and the demo.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Quirk {
    #[default]
    None,
    /// Its firmware boots from its disks, whatever it is told.
    BootOrder,
    /// The installation stands still while it copies.
    Stuck,
    /// It restarts once more than it should.
    RestartsTwice,
    /// What is mounted over the network comes at a tenth of the usual rate.
    SlowMedia,
}

/// What is mounted for a host over the network, by the number of the slot.
pub(crate) type Media = BTreeMap<u8, String>;

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Bare {
    /// Nothing is installed.
    pub(crate) empty: bool,
    #[serde(default)]
    pub(crate) media: Media,
    /// It starts from what is mounted, the next time and only then.
    #[serde(default)]
    pub(crate) once: bool,
    #[serde(default)]
    pub(crate) going: Option<Going>,
    /// Why it doesn't go on, in the words of its firmware or of the installation.
    #[serde(default)]
    pub(crate) trouble: Option<String>,
    /// What its disks hold.
    #[serde(default)]
    pub(crate) leftovers: Vec<String>,
    #[serde(default)]
    pub(crate) quirk: Quirk,
    /// Starts since the installation began.
    #[serde(default)]
    pub(crate) starts: u32,
    /// When its power was last switched on, in virtual milliseconds.
    #[serde(default)]
    pub(crate) reset_at: i64,
    /// How often somebody changed how it starts, and whether somebody does so just before the next change.
    #[serde(default)]
    pub(crate) changes: u32,
    #[serde(skip)]
    pub(crate) meddled: bool,
    /// What it proves with that it was installed from what it was given.
    #[serde(default)]
    pub(crate) secret: String,
    /// What its screen shows of it.
    #[serde(default)]
    pub(crate) lines: Vec<String>,
}

/// An installation under way.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Going {
    pub(crate) phase: Phase,
    /// When the phase began, in virtual milliseconds.
    pub(crate) since: i64,
    #[serde(default)]
    pub(crate) image: Option<Image>,
    #[serde(default)]
    pub(crate) seed: Option<Seed>,
    /// What is mounted is being read.
    #[serde(skip)]
    pub(crate) reads: bool,
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Phase {
    #[default]
    Firmware,
    Loads,
    Disks,
    Copies,
    Restarts,
    FirstStart,
}

impl Phase {
    /// Its length when nothing is in the way, in virtual milliseconds.
    pub(crate) fn length(self) -> i64 {
        match self {
            Phase::Firmware => 15_000,
            Phase::Loads | Phase::Disks => 10_000,
            Phase::Copies => 75_000,
            Phase::Restarts => 30_000,
            Phase::FirstStart => 20_000,
        }
    }
    pub(crate) fn words(self) -> &'static str {
        match self {
            Phase::Firmware => "checks its hardware",
            Phase::Loads => "loads the installation",
            Phase::Disks => "prepares its disks",
            Phase::Copies => "copies the software",
            Phase::Restarts => "restarts",
            Phase::FirstStart => "starts for the first time",
        }
    }
}

/// What an installation medium says of itself.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Image {
    pub(crate) version: String,
    /// Made for hosts of this maker; none: for all.
    #[serde(default)]
    pub(crate) maker: Option<String>,
}

/// What a host is told to become.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Seed {
    pub(crate) name: String,
    /// With its prefix length.
    pub(crate) address: String,
    /// The first password of its agent.
    pub(crate) password: String,
    pub(crate) secret: String,
    #[serde(default)]
    pub(crate) overwrite: bool,
    /// Whom it asks for the time: `ip:port`.
    #[serde(default)]
    pub(crate) time: Vec<String>,
}

impl Bare {
    /// Whether its agent is there.
    pub(crate) fn is_installed(&self) -> bool {
        !self.empty && self.going.is_none()
    }
    fn begins(&mut self, phase: Phase, now: i64) {
        if let Some(going) = &mut self.going {
            (going.phase, going.since) = (phase, now);
        }
        self.lines.push(phase.words().to_owned());
    }
    /// Its power came: what has nothing on its disks looks for something to start from, and what shall start from a medium does.
    pub(crate) fn powered(&mut self, now: i64) {
        self.reset_at = now;
        self.trouble = None;
        self.going = None;
        if self.empty || self.once {
            self.starts = 0;
            self.going = Some(Going::default());
            self.begins(Phase::Firmware, now);
        }
    }
    pub(crate) fn lost_power(&mut self) {
        self.going = None;
        self.trouble = None;
    }
    pub(crate) fn fails(&mut self, why: impl Into<String>) {
        let why = why.into();
        self.lines.push(why.clone());
        self.trouble = Some(why);
        self.going = None;
    }
    /// What has to be fetched now: image and seed.
    pub(crate) fn fetches(&self) -> Option<(String, String)> {
        let going = self.going.as_ref().filter(|g| g.phase == Phase::Loads)?;
        if going.image.is_some() || going.reads {
            return None;
        }
        let slot = |n: u8| self.media.get(&n).cloned();
        Some((slot(1)?, slot(2).unwrap_or_default()))
    }

    /// What time brings. Answers the seed once it is installed.
    pub(crate) fn advance(&mut self, maker: &str, now: i64) -> Option<(Image, Seed)> {
        let going = self.going.clone()?;
        let pace = match (self.quirk, going.phase) {
            (Quirk::SlowMedia, Phase::Loads | Phase::Copies) => 10,
            _ => 1,
        };
        if now - going.since < going.phase.length() * pace {
            return None;
        }
        match going.phase {
            Phase::Firmware => self.boots(now),
            Phase::Loads => self.loaded(&going, maker, now),
            Phase::Disks => {
                self.empty = true;
                self.leftovers.clear();
                self.begins(Phase::Copies, now);
            }
            Phase::Copies if self.quirk == Quirk::Stuck => {}
            Phase::Copies => {
                self.starts += 1;
                self.begins(Phase::Restarts, now);
            }
            Phase::Restarts if self.quirk == Quirk::RestartsTwice && self.starts == 2 => {
                self.starts += 1;
                self.begins(Phase::Restarts, now);
            }
            Phase::Restarts => self.begins(Phase::FirstStart, now),
            Phase::FirstStart => {
                self.going = None;
                self.empty = false;
                return going.image.zip(going.seed);
            }
        }
        None
    }

    fn boots(&mut self, now: i64) {
        let medium = self.once && self.media.contains_key(&1) && self.quirk != Quirk::BootOrder;
        if medium {
            self.once = false;
            self.starts += 1;
            self.begins(Phase::Loads, now);
        } else if self.empty {
            self.fails("No bootable device was found.");
        } else {
            self.going = None;
        }
    }

    fn loaded(&mut self, going: &Going, maker: &str, now: i64) {
        let Some((image, seed)) = going.image.as_ref().zip(going.seed.as_ref()) else {
            return;
        };
        if let Some(other) = image.maker.as_deref().filter(|m| *m != maker) {
            return self.fails(format!(
                "This installation is made for hardware of {other}; this is {maker}. Nothing was written."
            ));
        }
        if !self.leftovers.is_empty() && !seed.overwrite {
            return self.fails(format!(
                "The disks are not empty ({}), and nobody said that they may be overwritten. Nothing was written.",
                self.leftovers.join(", ")
            ));
        }
        self.begins(Phase::Disks, now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(quirk: Quirk) -> Bare {
        let mut bare = Bare {
            empty: true,
            once: true,
            quirk,
            media: Media::from([(1, "http://a/i".into()), (2, "http://a/s".into())]),
            ..Bare::default()
        };
        bare.powered(0);
        bare
    }
    fn read(bare: &mut Bare, maker: Option<&str>, overwrite: bool) {
        if bare.fetches().is_none() {
            return;
        }
        let going = bare.going.as_mut().unwrap();
        going.image = Some(Image {
            version: "5".into(),
            maker: maker.map(str::to_owned),
        });
        going.seed = Some(Seed {
            name: "n".into(),
            address: "10.0.0.1/24".into(),
            password: "p".into(),
            secret: "s".into(),
            overwrite,
            time: vec![],
        });
    }
    fn runs(bare: &mut Bare, maker: Option<&str>) -> Option<i64> {
        (0..4000).map(|n| n * 500).find(|now| {
            let done = bare.advance("Brattholm", *now).is_some();
            read(bare, maker, false);
            done
        })
    }

    #[test]
    fn it_is_installed_after_its_phases_with_one_restart() {
        let mut bare = told(Quirk::None);
        let took = runs(&mut bare, None).unwrap();
        assert!((160_000..165_000).contains(&took), "{took}");
        assert!(bare.is_installed() && bare.starts == 2);
    }

    #[test]
    fn each_quirk_does_what_it_says() {
        let mut bare = told(Quirk::BootOrder);
        assert_eq!(runs(&mut bare, None), None);
        assert_eq!(
            bare.trouble.as_deref(),
            Some("No bootable device was found.")
        );
        assert!(bare.once, "it was never used");
        let mut bare = told(Quirk::Stuck);
        assert_eq!(runs(&mut bare, None), None);
        assert_eq!(bare.going.unwrap().phase, Phase::Copies);
        let mut bare = told(Quirk::RestartsTwice);
        assert!(runs(&mut bare, None).is_some() && bare.starts == 3);
        let mut bare = told(Quirk::SlowMedia);
        assert!(runs(&mut bare, None).unwrap() > 900_000);
    }

    #[test]
    fn nothing_is_written_where_it_may_not() {
        let mut bare = told(Quirk::None);
        assert_eq!(runs(&mut bare, Some("Korund")), None);
        assert!(
            bare.trouble
                .unwrap()
                .contains("made for hardware of Korund")
        );
        let mut bare = told(Quirk::None);
        bare.leftovers = vec!["a pool of somebody".into()];
        assert_eq!(runs(&mut bare, None), None);
        assert_eq!(bare.leftovers.len(), 1);
    }
}
