//! Passwords of consoles: what must be typed, what is said before, and what becomes of it.

use crate::{put, worse};
use zastrugi_core::{
    endpoint::Password,
    ids::{MachineId, SecretRef},
    rooms::{Assessment, Proposal, console_locks::Ask},
    testkit::{Small, read},
};

const KEPT: SecretRef = SecretRef(uuid::Uuid::from_u128(7));

fn fixture() -> Small {
    read("cluster eider careless\nhost 1 512\nmachine 7 db 16 on 1\nmachine 8 web 16 off")
}

fn ask(small: &Small, ids: &[u64], password: Password, open: bool) -> Assessment {
    let machines = ids.iter().map(|id| MachineId(*id)).collect();
    let ask = Ask::Lock {
        machines,
        password,
        open,
    };
    put(small, &Proposal::ConsoleLocks(ask))
}

/// If this fails, a console that should be kept to its team is open to all, or one is locked that nobody has the password of.
#[test]
fn a_password_is_given_to_all_that_are_selected_or_to_none() {
    let small = fixture();
    assert_eq!(
        worse(&ask(&small, &[], Password::Typed, false)),
        ["stop: No machine is selected."]
    );
    assert_eq!(
        worse(&ask(&small, &[7], Password::Missing, false)),
        ["stop: Type the password."]
    );
    let both = ask(&small, &[7, 8], Password::Typed, true);
    assert!(worse(&both)[0].starts_with("stop: A password is typed"));
    let none = ask(&small, &[7, 8], Password::Missing, true);
    assert_eq!(
        worse(&none),
        ["stop: There is no password on the consoles of 2 machines."]
    );

    let said = ask(&small, &[7, 8], Password::Kept(KEPT), false);
    assert!(said.steps().is_empty(), "no device is told");
    assert_eq!(said.title(), "Give the consoles of 2 machines a password");
    let mut small = small;
    small.begin(said.accept().unwrap());
    let kept = small
        .view
        .estate
        .machines
        .values()
        .map(|m| (m.id.0, m.console_lock));
    assert_eq!(kept.collect::<Vec<_>>(), [(7, Some(KEPT)), (8, Some(KEPT))]);
}

#[test]
fn it_is_taken_from_one_that_has_it() {
    let mut small = fixture();
    let given = ask(&small, &[7], Password::Kept(KEPT), false);
    small.begin(given.accept().unwrap());
    let said = ask(&small, &[7], Password::Missing, true);
    assert_eq!(said.title(), "Take the password from the console of db");
    small.begin(said.accept().unwrap());
    assert_eq!(small.view.estate.machines[&MachineId(7)].console_lock, None);
}
