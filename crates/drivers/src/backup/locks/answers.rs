//! What a server says of versions and locks: XML of the S3 protocol, of which only what is needed is read.

use super::super::StoreFault;
use jiff::{Timestamp, fmt::rfc2822};
use reqwest::{
    StatusCode,
    header::{DATE, HeaderMap},
};
use serde::{Deserialize, de::DeserializeOwned};

#[derive(Debug, Default, Deserialize)]
#[serde(default, rename_all = "PascalCase")]
pub(super) struct Versions {
    pub(super) is_truncated: bool,
    pub(super) next_key_marker: Option<String>,
    pub(super) next_version_id_marker: Option<String>,
    #[serde(rename = "Version")]
    pub(super) versions: Vec<Version>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(super) struct Version {
    pub(super) key: String,
    pub(super) version_id: String,
    #[serde(default)]
    pub(super) last_modified: String,
    #[serde(default)]
    pub(super) size: u64,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default, rename_all = "PascalCase")]
pub(super) struct Configuration {
    pub(super) object_lock_enabled: Option<String>,
    pub(super) rule: Option<Rule>,
}

#[derive(Debug, Deserialize)]
pub(super) struct Rule {}

#[derive(Debug, Default, Deserialize)]
#[serde(default, rename_all = "PascalCase")]
struct Refusal {
    code: String,
    message: String,
}

/// # Errors
/// [`StoreFault::Silent`]: this is no such answer.
pub(super) fn read<T: DeserializeOwned>(body: &[u8]) -> Result<T, StoreFault> {
    let odd = || StoreFault::Silent("its answer can't be read".into());
    let text = std::str::from_utf8(body).map_err(|_| odd())?;
    quick_xml::de::from_str(text).map_err(|_| odd())
}

/// Of a call that did not succeed.
pub(super) fn fault(name: &str, status: StatusCode, body: &[u8]) -> StoreFault {
    let refusal: Refusal = read(body).unwrap_or_default();
    let said = match (refusal.code.as_str(), refusal.message.as_str()) {
        ("", _) => status.to_string(),
        (code, "") => code.to_owned(),
        (_, message) => message.to_owned(),
    };
    let said = said.chars().filter(|c| !c.is_control()).take(200).collect();
    match (status, refusal.code.as_str()) {
        (StatusCode::NOT_FOUND, "NoSuchBucket") => StoreFault::Refused(said),
        (StatusCode::NOT_FOUND, _) => StoreFault::Gone(name.to_owned()),
        (StatusCode::INSUFFICIENT_STORAGE, _) | (_, "QuotaExceeded") => StoreFault::Full(said),
        (StatusCode::TOO_MANY_REQUESTS, _) => StoreFault::Silent(said),
        (StatusCode::NOT_IMPLEMENTED, _) => StoreFault::Refused(said),
        (status, _) if status.is_server_error() => StoreFault::Silent(said),
        _ => StoreFault::Refused(said),
    }
}

/// What time it is at the server: milliseconds since 1970.
///
/// # Errors
/// [`StoreFault::Silent`] where it does not say so.
pub(super) fn date(headers: &HeaderMap) -> Result<u64, StoreFault> {
    let said = headers.get(DATE).and_then(|d| d.to_str().ok());
    let at = said.and_then(|d| rfc2822::DateTimeParser::new().parse_timestamp(d).ok());
    at.and_then(|at| u64::try_from(at.as_millisecond()).ok())
        .ok_or_else(|| StoreFault::Silent("it does not say what time it is there".into()))
}

/// A moment as the protocol writes it (RFC 3339), in whole seconds, and never earlier than it is.
pub(super) fn written(at: u64) -> String {
    let seconds = i64::try_from(at.div_ceil(1_000)).unwrap_or(i64::MAX);
    Timestamp::from_second(seconds)
        .unwrap_or(Timestamp::MAX)
        .to_string()
}

/// The same read; none: it is no moment.
pub(super) fn moment(text: &str) -> Option<u64> {
    let at: Timestamp = text.parse().ok()?;
    u64::try_from(at.as_millisecond()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, something is locked for less than was said, or what a server says of it is misread.
    #[test]
    fn moments_are_never_written_earlier_than_they_are() {
        assert_eq!(written(1_999), "1970-01-01T00:00:02Z");
        assert_eq!(moment(&written(2_000)), Some(2_000));
        assert_eq!(moment("2026-12-01T00:00:00.500Z"), Some(1_796_083_200_500));
        assert_eq!(moment("soon"), None);
    }

    /// If this fails, versions beside markers are missed, and what somebody hid stays hidden.
    #[test]
    fn versions_are_read_with_markers_between_them() {
        let text = "<?xml version=\"1.0\"?><ListVersionsResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><Name>b</Name><IsTruncated>true</IsTruncated><NextKeyMarker>k</NextKeyMarker><NextVersionIdMarker>2</NextVersionIdMarker>\
            <Version><Key>a</Key><VersionId>2</VersionId><IsLatest>false</IsLatest><Size>5</Size><LastModified>2026-12-01T00:00:00Z</LastModified><Owner><ID>x</ID></Owner></Version>\
            <DeleteMarker><Key>a</Key><VersionId>3</VersionId></DeleteMarker>\
            <Version><Key>b</Key><VersionId>1</VersionId><Size>7</Size></Version></ListVersionsResult>";
        let read: Versions = read(text.as_bytes()).unwrap();
        let all: Vec<_> = read
            .versions
            .iter()
            .map(|v| (v.key.as_str(), v.size))
            .collect();
        assert_eq!(all, [("a", 5), ("b", 7)]);
        assert!(read.is_truncated && read.next_key_marker.as_deref() == Some("k"));
        assert!(super::read::<Versions>(b"no").is_err());
    }
}
