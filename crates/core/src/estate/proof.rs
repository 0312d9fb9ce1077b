//! Whether a recovery point comes up: what a copy of it answered that was booted alone. And what a machine must answer to be well.

use super::{AnyPoint, Estate, Goal, Job, Machine, PointAt, Series, StoredPoint};
use crate::{
    ids::JobId,
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr};
use uuid::Uuid;

/// What is asked of a guest, inside of it: by its agent, so that it needs no network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Question {
    /// Something listens.
    Tcp { port: u16 },
    /// A page is there, with this status, and this text in it.
    Http {
        port: u16,
        path: String,
        status: u16,
        text: String,
    },
    /// A command ends with exit code 0.
    Run { command: String },
}

/// What a guest said to one question.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reply {
    pub question: Question,
    pub fine: bool,
    pub said: String,
}

/// How far a guest came.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Came {
    /// Its agent answered.
    Up,
    /// Nothing of it answered in time.
    Silent,
    /// It went off.
    Off,
    /// Its host halted it.
    Halted,
}

/// What came of a copy that was booted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proof {
    /// When it was over.
    pub at: Moment,
    /// The host that it ran on, and what it was called there.
    pub host: String,
    pub copy: String,
    /// From when somebody asked for it until its guest had answered, or nobody waited any more.
    pub took: Span,
    /// Of that, since it was powered on.
    pub booted: Span,
    pub came: Came,
    /// In the host's words, where it did not come up.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub said: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub replies: Vec<Reply>,
    /// Whose copies were booted with it, on the same network.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<String>,
    /// What its screen showed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub picture: Option<Uuid>,
}

impl Proof {
    pub fn is_good(&self) -> bool {
        self.came == Came::Up && self.replies.iter().all(|r| r.fine)
    }

    /// What came of it, as a sentence without its end.
    pub fn words(&self) -> String {
        let fine = self.replies.iter().filter(|r| r.fine).count();
        let all = self.replies.len();
        let said = match self.said.as_str() {
            "" => String::new(),
            said => format!(": {said}"),
        };
        match self.came {
            Came::Up if all == 0 => {
                format!("it came up, and its agent answered after {}", self.booted)
            }
            Came::Up if fine == all => format!(
                "it came up and answered all {all} questions after {}",
                self.booted
            ),
            Came::Up => format!(
                "it came up, but {} of {all} questions had no good answer within {}",
                all - fine,
                self.booted
            ),
            Came::Silent => format!("it did not come up within {}{said}", self.booted),
            Came::Off => format!("it went off after {}{said}", self.booted),
            Came::Halted => format!("its host halted it after {}{said}", self.booted),
        }
    }
}

impl fmt::Display for Question {
    /// `tcp 5432`, `http 80 /health 200 is well`, `run pg_isready`
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Question::Tcp { port } => write!(f, "tcp {port}"),
            Question::Http {
                port,
                path,
                status,
                text,
            } => {
                write!(f, "http {port} {path} {status}")?;
                if text.is_empty() {
                    Ok(())
                } else {
                    write!(f, " {text}")
                }
            }
            Question::Run { command } => write!(f, "run {command}"),
        }
    }
}

impl FromStr for Question {
    type Err = String;

    fn from_str(line: &str) -> Result<Question, String> {
        let wrong = || {
            format!(
                "“{line}” is not understood; write: tcp 5432, or http 80 /health 200 is well, or run and a command."
            )
        };
        let (kind, rest) = line
            .trim()
            .split_once(char::is_whitespace)
            .ok_or_else(wrong)?;
        let rest = rest.trim();
        let port = |text: &str| match text.parse::<u16>() {
            Ok(port) if port > 0 => Ok(port),
            _ => Err(format!("“{text}” is no port: 1 to 65535.")),
        };
        match kind.to_lowercase().as_str() {
            "tcp" => Ok(Question::Tcp { port: port(rest)? }),
            "run" if !rest.is_empty() => Ok(Question::Run {
                command: rest.to_owned(),
            }),
            "http" => {
                let mut parts = rest.splitn(4, char::is_whitespace).map(str::trim);
                let number = port(parts.next().unwrap_or_default())?;
                let path = parts.next().unwrap_or("/");
                if !path.starts_with('/') {
                    return Err(format!("“{path}” is no path; it begins with /."));
                }
                let status = match parts.next() {
                    None | Some("") => 200,
                    Some(text) => match text.parse::<u16>() {
                        Ok(status) if (100..600).contains(&status) => status,
                        _ => return Err(format!("“{text}” is no status; write 200.")),
                    },
                };
                let text = parts.next().unwrap_or_default().to_owned();
                Ok(Question::Http {
                    port: number,
                    path: path.to_owned(),
                    status,
                    text,
                })
            }
            _ => Err(wrong()),
        }
    }
}

impl Series {
    /// The newest point of which a copy came up.
    pub fn proven(&self) -> Option<&StoredPoint> {
        self.points
            .iter()
            .rfind(|p| p.proof.as_ref().is_some_and(|f| f.is_good()))
    }
}

impl Estate {
    /// Points that jobs say shall be proven now, with the job that says so: the newest of each machine, where none was tried for as
    /// long as the job says. A point that was tried is not tried again by itself.
    pub fn to_prove(&self, now: Moment) -> Vec<(JobId, AnyPoint)> {
        let live = self.jobs.values().filter(|j| !j.paused);
        let each = live.filter_map(|j| Some((j, j.proves?)));
        each.flat_map(|(job, every)| match job.to {
            Goal::Store(store) => {
                let all = self.series_in(store);
                let owed = all.filter_map(|s| self.owed_in_store(job, every, s, now));
                owed.collect::<Vec<_>>()
            }
            Goal::Over(way) => {
                let all = self.replicas_over(way.pair);
                let owed = all.filter_map(|m| self.owed_of_replica(job, every, m, now));
                owed.collect()
            }
        })
        .collect()
    }

    fn owed_in_store(
        &self,
        job: &Job,
        every: Span,
        series: &Series,
        now: Moment,
    ) -> Option<(JobId, AnyPoint)> {
        let machine = self.whose(&series.machine)?;
        let newest = owed((job, every), machine, series.points.iter(), now)?;
        let at = PointAt {
            store: series.store,
            machine: series.machine,
            session: newest.session,
        };
        Some((job.id, at.into()))
    }

    fn owed_of_replica(
        &self,
        job: &Job,
        every: Span,
        replica: &Machine,
        now: Moment,
    ) -> Option<(JobId, AnyPoint)> {
        let machine = self.original_of(replica.replica.as_ref()?)?;
        let newest = owed((job, every), machine, replica.replicated(), now)?;
        let at = AnyPoint::Replicated {
            replica: replica.id,
            session: newest.session,
        };
        Some((job.id, at))
    }

    /// A point with those of the same instant beside it, in its store or over its pair: what is proven together. Alone where it is of
    /// no group.
    pub fn of_one_instant(&self, at: AnyPoint) -> Vec<AnyPoint> {
        let group = at.found(self).ok().and_then(|p| p.group);
        let Some(group) = group else { return vec![at] };
        let same = |p: &&StoredPoint| p.group == Some(group);
        let mut all: Vec<AnyPoint> = match at {
            AnyPoint::Stored(at) => {
                let each = self.series_in(at.store).flat_map(|s| {
                    let points = s.points.iter().filter(same);
                    points.map(|p| PointAt {
                        store: s.store,
                        machine: s.machine,
                        session: p.session,
                    })
                });
                each.map(AnyPoint::from).collect()
            }
            AnyPoint::Replicated { replica, .. } => {
                let replica = self.machines.get(&replica);
                let pair = replica.and_then(|m| Some(m.replica.as_ref()?.pair));
                let all = pair.into_iter().flat_map(|pair| self.replicas_over(pair));
                let each = all.flat_map(|m| {
                    let points = m.replicated().filter(same);
                    points.map(|p| AnyPoint::Replicated {
                        replica: m.id,
                        session: p.session,
                    })
                });
                each.collect()
            }
        };
        // The one that was named first.
        all.sort_by_key(|other| (*other != at, *other));
        all
    }

    /// Copies that are there to prove a point, or were left by that.
    pub fn proving(&self) -> impl Iterator<Item = &std::sync::Arc<Machine>> {
        self.machines.values().filter(|m| m.proves.is_some())
    }
}

/// The newest of these, the oldest first, if it is the job's own and due to be tried.
fn owed<'a>(
    (job, every): (&Job, Span),
    machine: &Machine,
    points: impl DoubleEndedIterator<Item = &'a StoredPoint> + Clone,
    now: Moment,
) -> Option<&'a StoredPoint> {
    let newest = points.clone().next_back();
    let newest = newest.filter(|p| p.job == Some(job.id) && p.proof.is_none())?;
    let tried = points
        .filter_map(|p| p.proof.as_deref())
        .map(|f| f.at)
        .max();
    let due = tried.is_none_or(|at| at.plus(every) <= now);
    (due && job.covers(machine)).then_some(newest)
}
