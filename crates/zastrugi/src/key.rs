//! The key that seals secrets: in a file of its own, or, at a stand-by, wrapped in the database for the secret in its file.

use std::{fs, path::Path};
use uuid::Uuid;
use zastrugi_engine::{StandByKey, StandBys};

/// What a stand-by's key file holds: who it is, and the secret for which the key was wrapped.
pub(crate) fn of_stand_by(key: &StandByKey) -> String {
    let secret: String = key.secret.iter().map(|b| format!("{b:02x}")).collect();
    format!("stand-by {} {secret}", key.id)
}

pub(crate) fn parse_stand_by(text: &str) -> Option<StandByKey> {
    let mut words = text.split_whitespace();
    let (Some("stand-by"), Some(id), Some(hex)) = (words.next(), words.next(), words.next()) else {
        return None;
    };
    let bytes = (0..64)
        .step_by(2)
        .map(|i| u8::from_str_radix(hex.get(i..i + 2)?, 16).ok());
    let secret: [u8; 32] = bytes.collect::<Option<Vec<u8>>>()?.try_into().ok()?;
    Some(StandByKey {
        id: Uuid::parse_str(id).ok()?,
        secret: secret.into(),
    })
}

/// Who a process is that stands by with this key file.
pub(crate) fn who(file: &Path) -> Option<Uuid> {
    let text = fs::read_to_string(file).ok()?;
    parse_stand_by(&text).map(|key| key.id)
}

/// The key in this file, whichever of the two it is. `joined`: it must be there.
///
/// # Errors
/// What is wrong, in words.
pub(crate) async fn seal_key(
    file: &Path,
    database: &str,
    joined: bool,
) -> Result<[u8; 32], String> {
    let text = fs::read_to_string(file).ok();
    if text.is_none() && joined {
        return Err(format!(
            "{} is not there: “zastrugi stand-by join” writes a stand-by's key file.",
            file.display()
        ));
    }
    let Some(key) = text.as_deref().and_then(parse_stand_by) else {
        return zastrugi_engine::read_key(file).map_err(|e| format!("{}: {e}", file.display()));
    };
    let pool = zastrugi_store::connect(database, 1)
        .await
        .map_err(|e| e.detail())?;
    let opened = StandBys::new(pool).key(&key).await;
    opened.map_err(|e| format!("{}: {e}", file.display()))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a stand-by can't read its own key file, or takes a manager's for one.
    #[test]
    fn a_stand_bys_key_file_is_read_back_and_no_other_is() {
        let key = StandByKey::draw();
        let read = parse_stand_by(&of_stand_by(&key)).unwrap();
        assert_eq!((read.id, *read.secret), (key.id, *key.secret));
        for bad in [
            "",
            "stand-by",
            &"ab".repeat(32),
            "stand-by x y",
            &of_stand_by(&key)[..60],
        ] {
            assert!(parse_stand_by(bad).is_none(), "{bad}");
        }
    }
}
