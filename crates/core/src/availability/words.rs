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
        let lost = self.lost(table);
        if lost.is_empty() {
            return self.survives(table, "host");
        }
        format!("{lost}; {}", self.survives(table, "more host"))
    }

    /// `has lost eider-05, whose 7 machines fit on the others`, or nothing.
    fn lost(&self, table: &Table) -> String {
        let gone: Vec<&str> = self
            .happened()
            .flat_map(|r| &r.failure.hosts)
            .map(|h| table.hosts[*h].name.as_str())
            .collect();
        let Some(row) = self.happened().next() else {
            return String::new();
        };
        // Every one of them is failed with all that have failed.
        let (fit, left) = (row.failure.restarted.len(), row.failure.not_restarted.len());
        let machines = |n: usize| if n == 1 { "machine" } else { "machines" };
        let fate = match (fit, left) {
            (0, 0) => "which ran nothing".to_owned(),
            (1, 0) => "whose machine fits on the others".to_owned(),
            (n, 0) => format!("whose {n} machines fit on the others"),
            (0, n) => format!("and {n} {} of it fit nowhere", machines(n)),
            (fit, n) => format!(
                "and {n} of its {} {} fit nowhere",
                fit + n,
                machines(fit + n)
            ),
        };
        format!("has lost {}, {fate}", list(&gone))
    }

    fn survives(&self, table: &Table, host: &str) -> String {
        let open = table.hosts.iter().filter(|h| h.closed.is_none()).count();
        if open < 2 {
            return format!("survives no {host} failure: fewer than two hosts take machines");
        }
        let failing: Vec<&str> = self
            .hosts()
            .filter(|r| !r.passes())
            .flat_map(|r| &r.failure.hosts)
            .map(|h| table.hosts[*h].name.as_str())
            .collect();
        let mut words = match (failing.is_empty(), failing.len() < open) {
            (true, _) => format!("survives any one {host}"),
            (false, true) => format!("survives one {host} only if it is not {}", or(&failing)),
            (false, false) => format!("survives no {host} failure"),
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
