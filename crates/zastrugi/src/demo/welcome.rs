//! What whoever started the demo reads when it is ready.

use super::{FIRST_PASSWORD, PEOPLE};
use crate::{args::Demo, serve::Failed};
use std::{io::Write, time::Duration};

pub(super) fn say(
    args: &Demo,
    took: Duration,
    standins: &zastrugi_standins::Standins,
) -> Result<(), Failed> {
    let mut out = std::io::stdout().lock();
    writeln!(
        out,
        "\n  Zastrugi at http://127.0.0.1:{}   (ready in {:.1} s)\n",
        args.port,
        took.as_secs_f64()
    )?;
    if args.stand_by_database.is_some() {
        let port = args.port + 1;
        writeln!(
            out,
            "  A second manager stands by at http://127.0.0.2:{port}\n"
        )?;
    }
    for (name, role, password) in PEOPLE {
        writeln!(out, "  {name:<16} {password:<16} {role}")?;
    }
    if args.empty {
        writeln!(
            out,
            "\n  Nothing is claimed. The hosts are in {}.1.0/24 to {}.3.0/24; their first password is {FIRST_PASSWORD}.",
            args.net, args.net
        )?;
    }
    writeln!(
        out,
        "  The devices' control socket is at http://{}.",
        standins.control
    )?;
    writeln!(
        out,
        "  Ctrl-C stops everything; the state stays for the next start.\n"
    )?;
    Ok(out.flush()?)
}
