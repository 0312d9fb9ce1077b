//! Looking at a machine in an archive: in one go, with little memory, in words or not at all.

use crate::args::{Ovf, OvfWhat};
use std::{
    fs::File,
    io::{self, BufReader, Read},
    path::Path,
};
use zastrugi_formats::ovf::{Checked, check};

/// # Errors
/// The member of the archive that is wrong, and why.
pub(crate) fn ovf(args: &Ovf) -> Result<String, String> {
    let OvfWhat::Check { file } = &args.what;
    let checked = if file == Path::new("-") {
        read(&mut io::stdin().lock())
    } else {
        let opened = File::open(file).map_err(|e| format!("{}: {e}", file.display()))?;
        read(&mut BufReader::with_capacity(1 << 20, opened))
    };
    checked.map(|c| lines(&c).join("\n"))
}

fn read(from: &mut impl Read) -> Result<Checked, String> {
    check(from).map_err(|wrong| wrong.to_string())
}

fn lines(checked: &Checked) -> Vec<String> {
    let d = &checked.package.descriptor;
    let system = d.system(None);
    let mut all = vec![format!(
        "{}: {} vCPUs, {} of memory",
        d.name, system.vcpus, system.memory
    )];
    all.extend(
        system
            .disks
            .iter()
            .map(|disk| format!("disk {}: {}, {}", disk.id, disk.capacity, disk.format)),
    );
    all.extend(system.cards.iter().map(|(network, mac)| {
        let mac = mac.as_ref().map_or_else(String::new, |m| format!(", {m}"));
        format!("card on {network}{mac}")
    }));
    all.extend(
        d.configurations
            .iter()
            .map(|c| format!("configuration {}: {}", c.id, c.label)),
    );
    all.extend(
        d.properties
            .iter()
            .filter(|p| p.asked)
            .map(|p| format!("asks for {}", p.key)),
    );
    all.extend(
        d.licences
            .iter()
            .map(|l| format!("has a licence of {} characters", l.chars().count())),
    );
    all.extend(checked.sums.iter().map(|(name, sum)| {
        let compared = if checked.package.sum(name).is_some() {
            "as the manifest says"
        } else {
            "not in a manifest"
        };
        format!("{sum}  {name}, {compared}")
    }));
    all.extend(checked.minds.iter().map(|mind| format!("mind: {mind}")));
    all
}
