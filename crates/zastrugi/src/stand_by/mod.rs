//! A second manager at another site: one command at the manager invites it, one at the other site copies the database and
//! lets it follow. Then `zastrugi serve --stand-by` runs there.

mod postgres;

use crate::args::{Invite, Join, StandBy as Args, StandByWhat};
use postgres::Copy;
use serde::{Deserialize, Serialize};
use std::{
    fs,
    io::Write,
    os::unix::fs::OpenOptionsExt,
    path::Path,
    time::{Duration, Instant},
};
use url::Url;
use zastrugi_engine::{StandByKey, StandBys};
use zastrugi_store::{Wanted, prepare};

/// What a stand-by is given, in a file that is as secret as the manager's key.
#[derive(Serialize, Deserialize)]
struct Invitation {
    name: String,
    /// What its key file will hold.
    key: String,
    slot: String,
    host: String,
    port: u16,
    role: String,
    password: String,
    /// The manager's own address of the database: at the other site, host and port are others.
    database: String,
    /// What the copy needs as much of as the server has.
    settings: Vec<(String, String)>,
}

/// # Errors
/// What is wrong, in words.
pub(crate) async fn stand_by(args: &Args) -> Result<String, String> {
    match &args.what {
        StandByWhat::Invite(args) => invite(args).await,
        StandByWhat::Join(args) => join(args).await,
    }
}

fn draw() -> String {
    format!("{:032x}", rand::random::<u128>())
}

/// What the server calls the slot, and the role that follows by it: each stand-by has its own. None for a name that can't be one.
fn slot(name: &str) -> Option<String> {
    let fine = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    let fits = !name.is_empty() && name.len() <= 40 && name.chars().all(fine);
    fits.then(|| format!("zastrugi_{}", name.replace('-', "_")))
}

async fn invite(args: &Invite) -> Result<String, String> {
    let slot = slot(&args.name).ok_or(
        "A stand-by's name has small letters, digits and hyphens, at most 40: such as hilltop.",
    )?;
    if args.out.exists() {
        return Err(format!("{} is there already.", args.out.display()));
    }
    let database = &args.database.database;
    let mut url = address(database)?;
    let (host, port) = match &args.reach {
        Some(reach) => (reach.ip().to_string(), reach.port()),
        None => (
            url.host_str().unwrap_or("127.0.0.1").to_owned(),
            url.port().unwrap_or(5432),
        ),
    };
    let seal = crate::key::seal_key(&args.key_file, database, false).await?;
    let pool = zastrugi_store::connect(database, 2)
        .await
        .map_err(|e| e.detail())?;
    zastrugi_store::migrate(&pool)
        .await
        .map_err(|e| e.detail())?;
    let password = draw();
    let manager = percent_encoding::percent_decode_str(url.username())
        .decode_utf8_lossy()
        .into_owned();
    let wanted = Wanted {
        manager: &manager,
        role: &slot,
        password: &password,
        slot: &slot,
    };
    let admin = args.admin_database.as_deref().unwrap_or(database);
    let ready = prepare(admin, wanted).await.map_err(|e| e.detail())?;
    let key = StandByKey::draw();
    let stand_bys = StandBys::new(pool);
    let written = stand_bys.invite(&args.name, &slot, &key, &seal);
    written.await.map_err(|e| e.to_string())?;
    // What only this machine reaches is of no use there.
    url.set_host(Some("127.0.0.1")).map_err(|e| e.to_string())?;
    let invitation = Invitation {
        name: args.name.clone(),
        key: crate::key::of_stand_by(&key),
        role: slot.clone(),
        slot,
        host,
        port,
        password,
        database: url.into(),
        settings: ready.settings,
    };
    let text = serde_json::to_string_pretty(&invitation).map_err(|e| e.to_string())?;
    write_private(&args.out, &text)?;
    let (name, file) = (&args.name, args.out.display());
    let mut told = vec![format!(
        "{name} is invited. Bring {file} to it by a safe way, run “zastrugi stand-by join --invitation {file}” there, and \
         delete the file: whoever has it can copy the database and open its secrets."
    )];
    told.extend(ready.notes);
    Ok(told.join("\n"))
}

async fn join(args: &Join) -> Result<String, String> {
    let text = fs::read_to_string(&args.invitation)
        .map_err(|e| format!("{}: {e}", args.invitation.display()))?;
    let invitation: Invitation = serde_json::from_str(&text)
        .map_err(|e| format!("{} is no invitation: {e}", args.invitation.display()))?;
    for file in [&args.key_file, &args.env_file] {
        if file.exists() {
            return Err(format!("{} is there already.", file.display()));
        }
    }
    let copy = Copy {
        bin: args.bin.clone(),
        dir: args.data.clone(),
        port: args.port,
    };
    copy.make(&invitation)?;
    copy.start()?;
    let mut url = address(&invitation.database)?;
    if url.set_port(Some(args.port)).is_err() {
        return Err("The database's address takes no port.".into());
    }
    let database = String::from(url);
    let key = crate::key::parse_stand_by(&invitation.key).ok_or("The invitation holds no key.")?;
    follows(&database, &key).await?;
    write_private(&args.key_file, &invitation.key)?;
    write_private(&args.env_file, &format!("DATABASE_URL={database}\n"))?;
    Ok(format!(
        "The database here follows. With the environment of {}, start:\n  zastrugi serve --stand-by --key-file {}\nDelete the \
         invitation.",
        args.env_file.display(),
        args.key_file.display()
    ))
}

fn address(database: &str) -> Result<Url, String> {
    Url::parse(database).map_err(|e| format!("The database's address can't be read: {e}."))
}

/// Until the copy follows and holds the key for us.
async fn follows(database: &str, key: &StandByKey) -> Result<(), String> {
    let began = Instant::now();
    loop {
        let problem = match looked(database, key).await {
            Ok(()) => return Ok(()),
            Err(problem) => problem,
        };
        if began.elapsed() > Duration::from_secs(60) {
            return Err(format!("The copy does not follow: {problem}."));
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}

async fn looked(database: &str, key: &StandByKey) -> Result<(), String> {
    let pool = zastrugi_store::connect(database, 1)
        .await
        .map_err(|e| e.detail())?;
    if !zastrugi_store::follows(&pool)
        .await
        .map_err(|e| e.detail())?
    {
        return Err("it leads".into());
    }
    StandBys::new(pool)
        .key(key)
        .await
        .map(drop)
        .map_err(|e| e.to_string())
}

fn write_private(path: &Path, text: &str) -> Result<(), String> {
    let file = fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(path);
    file.and_then(|mut f| f.write_all(text.as_bytes()))
        .map_err(|e| format!("{}: {e}", path.display()))
}

#[cfg(test)]
mod tests {
    use super::slot;

    /// If this fails, the server refuses a slot in words that nobody here chose.
    #[test]
    fn a_name_makes_a_slot_or_is_refused() {
        assert_eq!(slot("hill-top2").as_deref(), Some("zastrugi_hill_top2"));
        for bad in ["", "Hilltop", "hill top", "hill'top", &"a".repeat(41)] {
            assert_eq!(slot(bad), None, "{bad}");
        }
    }
}
