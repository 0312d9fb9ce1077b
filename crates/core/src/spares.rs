//! What a pool has and what is due (rules, section 14): spares that are missing, of an older version, or given back.

use crate::{
    estate::{Estate, Machine, MachineState, SparePool, Wanted},
    ids::MachineId,
    limits,
    names::spread,
};
use std::sync::Arc;

/// The members of a pool by what they are.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Stand {
    /// Spares of the newest version whose guests answer.
    pub ready: Vec<MachineId>,
    /// Those that are being made, or boot.
    pub coming: Vec<MachineId>,
    /// Spares of older versions, and those that somebody switched off.
    pub stale: Vec<MachineId>,
    /// Handed out.
    pub held: Vec<MachineId>,
    /// Given back, or off where that ends them.
    pub back: Vec<MachineId>,
}

/// What is to be done.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Due {
    pub make: u32,
    pub away: Vec<MachineId>,
    /// No room for new ones before old ones are gone.
    pub away_first: bool,
}

impl Due {
    pub fn is_nothing(&self) -> bool {
        self.make == 0 && self.away.is_empty()
    }
}

fn is_off(m: &Machine) -> bool {
    m.state == MachineState::Off && m.wanted == Wanted::Off
}

impl Stand {
    pub fn of(estate: &Estate, pool: &SparePool) -> Stand {
        let newest = newest(estate, pool);
        let mut stand = Stand::default();
        for m in estate.pool_members(pool.id) {
            let Some(of) = m.of_pool.as_deref() else {
                continue;
            };
            let list = match &of.held {
                _ if of.back => &mut stand.back,
                Some(_) if pool.ends_off && is_off(m) => &mut stand.back,
                Some(_) => &mut stand.held,
                None if Some(of.version) != newest || is_off(m) => &mut stand.stale,
                None if m.state == MachineState::Running { guest: true } => &mut stand.ready,
                None => &mut stand.coming,
            };
            list.push(m.id);
        }
        stand
    }
}

/// The version that new ones are made from.
pub fn newest(estate: &Estate, pool: &SparePool) -> Option<u32> {
    let template = estate.templates.get(&pool.template)?;
    template.newest().map(|v| v.number)
}

/// What a pool needs now. New spares come first, and old ones go when those are there; where there is no room for both, old ones
/// go first.
pub fn due(estate: &Estate, pool: &SparePool) -> Due {
    let stand = Stand::of(estate, pool);
    let count = |list: &[MachineId]| u32::try_from(list.len()).unwrap_or(u32::MAX);
    let fresh = count(&stand.ready) + count(&stand.coming);
    let held = count(&stand.held);
    // Of what may be, those that are handed out have theirs.
    let wanted = pool.spare.min(pool.most.saturating_sub(held));
    let short = wanted.saturating_sub(fresh);
    let mut away = stand.back;
    // More than are wanted: those that came last go.
    let over = usize::try_from(fresh.saturating_sub(wanted)).unwrap_or(0);
    let spares: Vec<MachineId> = stand.ready.iter().chain(&stand.coming).copied().collect();
    let coming = |id: &MachineId| {
        stand.coming.contains(id)
            && estate
                .machines
                .get(id)
                .is_some_and(|m| m.state == MachineState::Planned)
    };
    away.extend(spares.into_iter().rev().filter(|id| !coming(id)).take(over));
    let most = u32::try_from(limits::AT_ONCE.most).unwrap_or(u32::MAX);
    if newest(estate, pool).is_none() {
        return Due {
            make: 0,
            away,
            away_first: false,
        };
    }
    let room = pool.most.saturating_sub(held + fresh + count(&stand.stale));
    let make = short.min(room).min(most);
    let away_first = short > 0 && make == 0 && !stand.stale.is_empty();
    // Old ones stay until new ones are there.
    if make == 0 || away_first || short == make {
        away.extend(stand.stale);
    }
    Due {
        make: if away_first { short.min(most) } else { make },
        away,
        away_first,
    }
}

/// The first so many names in a row that nobody has, as a pattern that begins with them.
///
/// # Errors
/// What is wrong with the pattern, in words.
pub fn names(estate: &Estate, pattern: &str, count: u32) -> Result<String, String> {
    let (Some(open), Some(close)) = (pattern.find('{'), pattern.find('}')) else {
        return Err("The names need a running number, such as {01}.".into());
    };
    // What is wrong with it is said by whoever spreads it.
    spread(pattern, count.max(1))?;
    let number = &pattern[open + 1..close];
    let (width, mut first) = (
        number.len(),
        number
            .parse::<u32>()
            .map_err(|_| "Between the braces stands the first number, such as {01}.".to_owned())?,
    );
    loop {
        let with = format!(
            "{}{{{first:0width$}}}{}",
            &pattern[..open],
            &pattern[close + 1..]
        );
        let all = spread(&with, count.max(1))?;
        let taken = (first..)
            .zip(&all)
            .filter(|(_, name)| estate.machine_named(name).is_some())
            .last();
        match taken {
            None => return Ok(with),
            Some((n, _)) => first = n.saturating_add(1),
        }
    }
}

/// The oldest spares that can be handed out, so many at most.
pub fn ready(estate: &Estate, pool: &SparePool, count: usize) -> Vec<Arc<Machine>> {
    let stand = Stand::of(estate, pool);
    let mut all: Vec<Arc<Machine>> = stand
        .ready
        .iter()
        .filter_map(|id| estate.machines.get(id))
        .cloned()
        .collect();
    all.sort_by_key(|m| (m.created, m.id));
    all.truncate(count);
    all
}
