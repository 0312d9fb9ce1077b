//! The answer in words.

use super::{
    matrix::Matrix,
    table::{CPU, MEMORY, SIZES, Table, VCPUS},
};

pub(super) fn dimension(dimension: usize) -> &'static str {
    match dimension {
        MEMORY => "memory",
        SIZES => "memory sizes",
        VCPUS => "vCPUs",
        CPU => "CPU",
        _ => "active memory",
    }
}

/// `a`, `a and b`, `a, b and c`, `a, b, c and 4 more`.
pub(super) fn list(names: &[&str]) -> String {
    const SHOWN: usize = 3;
    match names {
        [] => String::new(),
        [one] => (*one).to_owned(),
        many if many.len() <= SHOWN => {
            let (last, first) = (many[many.len() - 1], &many[..many.len() - 1]);
            format!("{} and {last}", first.join(", "))
        }
        many => format!(
            "{} and {} more",
            many[..SHOWN].join(", "),
            many.len() - SHOWN
        ),
    }
}

impl Matrix {
    /// `survives any one host; two only if eider-03 is not among them; limited by memory`
    pub fn sentence(&self, table: &Table) -> String {
        let open = table.hosts.iter().filter(|h| h.closed.is_none()).count();
        if open < 2 {
            return "survives no host failure: fewer than two hosts take machines".into();
        }
        let failing: Vec<&str> = self
            .hosts()
            .filter(|r| !r.passes())
            .flat_map(|r| &r.failure.hosts)
            .map(|h| table.hosts[*h].name.as_str())
            .collect();
        let mut words = match (failing.is_empty(), failing.len() < open) {
            (true, _) => "survives any one host".to_owned(),
            (false, true) => format!("survives one host only if it is not {}", or(&failing)),
            (false, false) => "survives no host failure".to_owned(),
        };
        if failing.is_empty()
            && let Some(pairs) = &self.pairs
        {
            words.push_str(&pairs.words(table));
        }
        let limit = self.limit();
        words.push_str(&format!("; limited by {}", dimension(limit)));
        words
    }
}

fn or(names: &[&str]) -> String {
    list(names).replace(" and ", " or ")
}
