//! What is what at the two sites, a line each: `servers = servers`; `>` and `<` where it holds one way only.

use crate::limits;
use std::collections::BTreeMap;

/// By what is at the first site, and by what is at the second.
pub(super) type Maps<T> = (BTreeMap<T, T>, BTreeMap<T, T>);

/// # Errors
/// The first line that can't be read, in words.
pub(super) fn read<T: Ord + Copy>(
    text: &str,
    find: impl Fn(usize, &str) -> Result<T, String>,
) -> Result<Maps<T>, String> {
    let lines = text.lines().map(str::trim).filter(|l| !l.is_empty());
    let lines: Vec<&str> = lines.collect();
    limits::MAPS.check(lines.len())?;
    let mut maps: Maps<T> = Default::default();
    for line in lines {
        let shown: String = line.chars().take(60).collect();
        let at = line.find(['=', '>', '<']);
        let Some((left, rest)) = at.map(|at| line.split_at(at)) else {
            return Err(format!("“{shown}”: write one line for each, as left = right."));
        };
        let (sign, right) = rest.split_at(1);
        let (left, right) = (find(0, left.trim())?, find(1, right.trim())?);
        let there = sign != "<" && maps.0.insert(left, right).is_some();
        let back = sign != ">" && maps.1.insert(right, left).is_some();
        if there || back {
            return Err(format!("“{shown}”: it is said twice what that is at the other site."));
        }
    }
    Ok(maps)
}

/// As it is written, from both maps.
pub fn write<T: Ord + Copy>(there: &BTreeMap<T, T>, back: &BTreeMap<T, T>, name: impl Fn(T) -> String) -> String {
    let mut lines = Vec::new();
    for (left, right) in there {
        let sign = if back.get(right) == Some(left) { "=" } else { ">" };
        lines.push(format!("{} {sign} {}", name(*left), name(*right)));
    }
    for (right, left) in back {
        if there.get(left) != Some(right) {
            lines.push(format!("{} < {}", name(*left), name(*right)));
        }
    }
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn number(_: usize, name: &str) -> Result<u32, String> {
        name.parse().map_err(|_| format!("no {name}"))
    }

    /// If this fails, machines land on networks that nobody meant.
    #[test]
    fn each_line_holds_both_ways_or_as_its_sign_says() {
        let text = "1 = 11\n 2 > 12 \n\n3 < 12";
        let (there, back) = read(text, number).unwrap();
        assert_eq!(there, BTreeMap::from([(1, 11), (2, 12)]));
        assert_eq!(back, BTreeMap::from([(11, 1), (12, 3)]));
        assert_eq!(read(&write(&there, &back, |n| n.to_string()), number), Ok((there, back)));
    }

    #[test]
    fn what_is_said_twice_or_not_at_all_is_refused() {
        assert!(read("1 = 2\n1 > 3", number).unwrap_err().contains("twice"));
        assert!(read("1 = 2\n3 < 2", number).unwrap_err().contains("twice"));
        assert!(read("1", number).unwrap_err().contains("left = right"));
        assert_eq!(read("x = 2", number), Err("no x".to_owned()));
    }
}
