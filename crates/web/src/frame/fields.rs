//! Form fields as they were typed: a body is read once, checked for its CSRF token, and kept whole, so that a page can
//! show again what a person typed.

use super::viewer::{Signed, from_here};
use rocket::{
    Request,
    data::{Data, FromData, Outcome, ToByteUnit},
    http::Status,
    request::{self, FromRequest},
};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::{Ipv6Addr, SocketAddrV6},
    sync::{Arc, Mutex, PoisonError},
};
use zastrugi_core::{
    ids::HostId,
    limits::{self, Limit},
    moment::Span,
    text,
};

/// Where the management of arrays and switches listens if nobody says otherwise.
const MANAGER_PORT: u16 = 8443;

/// A management address that was typed, with the usual port where none is given; a bare IPv6 address gets brackets.
pub(crate) fn at_manager(typed: &str) -> String {
    match typed.parse::<Ipv6Addr>() {
        Ok(bare) => SocketAddrV6::new(bare, MANAGER_PORT, 0, 0).to_string(),
        Err(_) if typed.contains(':') => typed.to_owned(),
        Err(_) => format!("{typed}:{MANAGER_PORT}"),
    }
}

/// Fields of many lines, or of many chosen things. What is not named here is one line.
const LISTS: &[&str] = &[
    "a_carriers",
    "addresses",
    "at",
    "b_carriers",
    "certificate",
    "clusters",
    "commands",
    "drills",
    "file",
    "guests",
    "head",
    "hosts",
    "keys",
    "labels",
    "lines",
    "machines",
    "named",
    "networks",
    "points",
    "qualities",
    "questions",
    "range",
    "reserved",
    "rows",
    "start",
    "then",
    "unlabel",
    "volumes",
];
/// What a page made for itself: identifiers and what was before one's eyes, read by parsers that take nothing else.
const OURS: &[&str] = &["ids", "inside", "seen", "shown", "request", "_csrf"];
/// Secrets are taken as they are: they are hashed or sealed, and shown to nobody.
const SECRETS: &[&str] = &["password", "store_key", "current", "fresh", "again"];

/// What may stand in a field of this name: how long it is, and whether it has several lines. None: anything.
fn rule(name: &str) -> Option<(&'static Limit, bool)> {
    // One of several rows, by its number.
    let row = name
        .rsplit_once('-')
        .filter(|(_, n)| n.parse::<usize>().is_ok());
    let name = row.map_or(name, |(name, _)| name);
    match name {
        "note" => Some((&limits::NOTE, true)),
        name if LISTS.contains(&name) => Some((&limits::LIST, true)),
        name if SECRETS.contains(&name) || OURS.contains(&name) => None,
        _ => Some((&limits::LINE, false)),
    }
}

/// Reads a whole number that counts something.
///
/// # Errors
/// Words for the person who typed it.
pub(crate) fn whole(text: &str) -> Result<u32, String> {
    let below = text
        .strip_prefix(['-', '−'])
        .is_some_and(|rest| rest.trim().parse::<u64>().is_ok());
    match text.parse() {
        Ok(number) => Ok(number),
        Err(_) if below => Err(format!("“{text}” is negative.")),
        Err(_) if text.parse::<u128>().is_ok() => Err(format!("{text} is more than there can be.")),
        Err(_) => Err(format!("“{text}” is not a whole number.")),
    }
}

/// Labels as typed, `app=stowage owner=cargo`: each with what stands before and behind its sign.
fn labels(text: &str) -> impl Iterator<Item = (&str, &str)> {
    let words = text.split(|c: char| c == ',' || c.is_whitespace());
    let words = words.filter(|w| !w.is_empty());
    words.map(|w| w.split_once('=').unwrap_or((w, "")))
}
/// Labels as typed; of one that stands twice, which is refused, the last.
pub(crate) fn read_labels(text: &str) -> BTreeMap<String, String> {
    let owned = |(key, value): (&str, &str)| (key.to_owned(), value.to_owned());
    labels(text).map(owned).collect()
}
/// Why a field can't hold what was sent: too long, or with characters that nobody can type or see.
fn unfit(name: &str, value: &str) -> Option<String> {
    let (limit, lines) = rule(name)?;
    text::check(value.trim(), limit, lines).err()
}

/// A label that stands twice: which of the two was meant, nobody can know.
fn same_twice(text: &str) -> Option<String> {
    let mut seen: BTreeMap<&str, &str> = BTreeMap::new();
    labels(text).find_map(|(key, value)| {
        let before = seen.insert(key, value)?;
        Some(format!(
            "{key} stands twice: “{key}={before}” and “{key}={value}”. A label has one value."
        ))
    })
}

/// Lengths of time that can be chosen, in minutes, with what was chosen among them.
pub(crate) fn minutes_to_choose(minutes: &[u64], chosen: u64) -> Vec<(u64, String)> {
    let mut all = minutes.to_vec();
    if !all.contains(&chosen) {
        all.push(chosen);
        all.sort_unstable();
    }
    let words = |m: u64| (m, Span::mins(m).to_string());
    all.into_iter().map(words).collect()
}

/// Identifiers as they stand in an address.
pub(crate) fn joined(ids: impl IntoIterator<Item = u64>) -> String {
    let all: Vec<String> = ids.into_iter().map(|id| id.to_string()).collect();
    all.join(",")
}

#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Fields(Vec<(String, String)>, Notes);

impl Fields {
    pub(crate) fn parse(text: &str) -> Self {
        form_urlencoded::parse(text.as_bytes())
            .into_owned()
            .collect::<Vec<_>>()
            .into()
    }
    /// What a person typed and chose, without secrets and what the page made for itself.
    pub(crate) fn typed(&self) -> Self {
        let made = |name: &str| matches!(name, "_csrf" | "seen" | "request" | "shown");
        let all = self
            .0
            .iter()
            .filter(|(n, _)| !made(n) && !SECRETS.contains(&n.as_str()));
        all.cloned().collect::<Vec<_>>().into()
    }
    /// As a form is before anybody has typed: only what names the thing that it is about. Notes what it is filled with.
    pub(crate) fn untouched(&self) -> Self {
        let names = |(name, _): &&(String, String)| matches!(name.as_str(), "ids" | "was");
        let all = self.0.iter().filter(names).cloned().collect();
        Fields(all, Notes(Some(Arc::default())))
    }
    /// What a form was filled with, by field, in its order.
    pub(crate) fn filled_with(self) -> Vec<(String, String)> {
        self.1.taken()
    }
    #[cfg(test)]
    pub(crate) fn pairs(&self) -> impl Iterator<Item = &(String, String)> {
        self.0.iter()
    }
    /// The same fields, one of them with another value; none: it isn't there.
    pub(crate) fn set(&mut self, name: &str, value: Option<String>) {
        self.0.retain(|(n, _)| n != name);
        self.0.extend(value.map(|v| (name.to_owned(), v)));
    }
    /// One more of a field that may stand several times.
    pub(crate) fn add(&mut self, name: &str, value: &str) {
        self.0.push((name.to_owned(), value.to_owned()));
    }
    /// Fields that hold what can't stand there, with words for each: nothing can be begun with them.
    pub(crate) fn flaws(&self) -> Vec<(String, String)> {
        let flaw = |(name, value): &(String, String)| {
            let twice = || (name == "labels").then(|| same_twice(value)).flatten();
            Some((name.clone(), unfit(name, value).or_else(twice)?))
        };
        self.0.iter().filter_map(flaw).collect()
    }
    /// What is wrong with a password that people type again, in a guest or at a console: what can't be typed or seen locks them out.
    pub(crate) fn unfit_password(&self) -> Option<(String, String)> {
        let unfit = text::check(self.secret("password"), &limits::PASSWORD, false).err();
        unfit.map(|words| ("password".to_owned(), words))
    }
    /// A secret, letter by letter: blanks at its ends are part of it.
    pub(crate) fn secret(&self, name: &str) -> &str {
        let found = self.0.iter().rev().find(|(n, _)| n == name);
        found.map_or("", |(_, v)| v)
    }
    /// The same without what can't stand in a field: for looking things up, where nothing has such a name.
    fn cleaned(self) -> Self {
        let clean = |(name, value): (String, String)| match rule(&name) {
            Some((limit, lines)) => (name, text::cleaned(&value, limit, lines)),
            None => (name, value),
        };
        self.0.into_iter().map(clean).collect::<Vec<_>>().into()
    }
    /// The field's value, trimmed; empty when it isn't there.
    pub(crate) fn get(&self, name: &str) -> &str {
        self.0
            .iter()
            .rev()
            .find(|(n, _)| n == name)
            .map_or("", |(_, v)| v.trim())
    }
    pub(crate) fn has(&self, name: &str) -> bool {
        self.0.iter().any(|(n, _)| n == name)
    }
    /// What was typed, or a sensible value in a form that nobody has filled in yet.
    pub(crate) fn or(&self, name: &str, otherwise: &str) -> String {
        if self.has(name) {
            self.get(name).to_owned()
        } else {
            self.1.note(name, otherwise);
            otherwise.to_owned()
        }
    }
    /// Hosts that are chosen by check boxes of one name, or `otherwise` before the form was ever sent.
    pub(crate) fn picked(&self, name: &str, otherwise: &BTreeSet<HostId>) -> BTreeSet<HostId> {
        if self.has("sent") {
            return self.ids(name).into_iter().collect();
        }
        self.1.note(name, &joined(otherwise.iter().map(|id| id.0)));
        otherwise.clone()
    }
    pub(crate) fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.0
            .iter()
            .filter(move |(n, _)| n == name)
            .map(|(_, v)| v.trim())
    }
    /// Fields whose names begin so: each with the rest of its name.
    pub(crate) fn under<'a>(&'a self, prefix: &'a str) -> impl Iterator<Item = (&'a str, &'a str)> {
        let all = self.0.iter();
        all.filter_map(move |(n, v)| Some((n.strip_prefix(prefix)?, v.trim())))
    }
    /// A check box: whether it is ticked, or `otherwise` before the form was ever sent.
    pub(crate) fn ticked(&self, name: &str, otherwise: bool) -> bool {
        if self.has("sent") {
            self.has(name)
        } else {
            let ticked = otherwise || self.has(name);
            self.1.note(name, if ticked { TICKED } else { "" });
            ticked
        }
    }
    /// Identifiers from `ids=1,2,3`, repeated or not.
    pub(crate) fn ids<T: std::str::FromStr>(&self, name: &str) -> Vec<T> {
        self.all(name)
            .flat_map(|v| v.split(','))
            .filter_map(|v| v.trim().parse().ok())
            .collect()
    }
    /// The same fields with one of them set, as a query.
    pub(crate) fn with(&self, name: &str, value: &str) -> String {
        let mut out = form_urlencoded::Serializer::new(String::new());
        for (n, v) in self.0.iter().filter(|(n, v)| n != name && !v.is_empty()) {
            out.append_pair(n, v);
        }
        if !value.is_empty() {
            out.append_pair(name, value);
        }
        out.finish()
    }
}

/// What a ticked box says.
pub(crate) const TICKED: &str = "on";

impl From<Vec<(String, String)>> for Fields {
    fn from(all: Vec<(String, String)>) -> Self {
        Fields(all, Notes::default())
    }
}

/// What a form was filled with, where somebody wants to know.
#[derive(Debug, Clone, Default)]
struct Notes(Option<Arc<Noted>>);

type Noted = Mutex<Vec<(String, String)>>;

impl Notes {
    fn note(&self, name: &str, value: &str) {
        if let Some(all) = &self.0 {
            let mut all = all.lock().unwrap_or_else(PoisonError::into_inner);
            all.push((name.to_owned(), value.to_owned()));
        }
    }
    fn taken(&self) -> Vec<(String, String)> {
        let all = self.0.as_ref();
        all.map(|a| a.lock().unwrap_or_else(PoisonError::into_inner).clone())
            .unwrap_or_default()
    }
}

/// Two forms with the same fields are the same.
impl PartialEq for Notes {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}
impl Eq for Notes {}

#[rocket::async_trait]
impl<'r> FromData<'r> for Fields {
    type Error = &'static str;

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> Outcome<'r, Self> {
        if !from_here(request) {
            return Outcome::Error((Status::Forbidden, "foreign"));
        }
        // Signing in has no session yet; everything else shows the session's token. Nothing of a stranger's is read.
        let door = request.uri().path() == "/sign-in";
        let signed = if door {
            None
        } else {
            match Signed::from_request(request).await {
                request::Outcome::Success(signed) => Some(signed),
                request::Outcome::Error((status, why)) => return Outcome::Error((status, why)),
                request::Outcome::Forward(status) => return Outcome::Error((status, "nobody")),
            }
        };
        let most = if door { limits::DOOR } else { limits::FORM };
        let Ok(text) = data.open(most.most.bytes()).into_string().await else {
            return Outcome::Error((Status::BadRequest, "unreadable"));
        };
        if !text.is_complete() {
            return Outcome::Error((Status::PayloadTooLarge, "too large"));
        }
        let fields = Fields::parse(&text);
        let Some(signed) = signed else {
            return Outcome::Success(fields);
        };
        let shown = request
            .headers()
            .get_one("X-CSRF-Token")
            .unwrap_or_else(|| fields.get("_csrf"));
        if shown == signed.csrf {
            Outcome::Success(fields)
        } else {
            Outcome::Error((Status::Forbidden, "token"))
        }
    }
}

/// The query of a page.
pub(crate) struct Query(pub(crate) Fields);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Query {
    type Error = &'static str;

    async fn from_request(request: &'r Request<'_>) -> request::Outcome<Self, Self::Error> {
        let text = request.uri().query().map_or("", |q| q.as_str());
        // Nobody types what can't be typed: an address with such a thing in it is broken.
        if text.contains("%00") {
            return request::Outcome::Error((
                Status::BadRequest,
                "a character that can't be typed",
            ));
        }
        request::Outcome::Success(Query(Fields::parse(text).cleaned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_typed_stays_and_an_unticked_box_is_told_from_an_unsent_form() {
        let empty = Fields::default();
        assert_eq!(empty.or("vcpus", "4"), "4");
        assert!(empty.ticked("start", true));
        let sent = Fields::parse("sent=1&vcpus=&ids=1,2&ids=9&name=+a+");
        assert_eq!(sent.or("vcpus", "4"), "");
        assert!(!sent.ticked("start", true));
        assert_eq!(sent.ids::<u64>("ids"), [1, 2, 9]);
        assert_eq!(sent.get("name"), "a");
        assert_eq!(
            Fields::parse("q=x&sort=name").with("sort", "cpu"),
            "q=x&sort=cpu"
        );
    }

    #[test]
    fn a_management_address_gets_the_usual_port_also_by_ipv6() {
        assert_eq!(at_manager("10.20.0.11"), "10.20.0.11:8443");
        assert_eq!(at_manager("10.20.0.11:443"), "10.20.0.11:443");
        assert_eq!(at_manager("basalt.example"), "basalt.example:8443");
        assert_eq!(at_manager("fd00::11"), "[fd00::11]:8443");
        assert_eq!(at_manager("[fd00::11]:443"), "[fd00::11]:443");
    }

    proptest::proptest! {
        /// Whatever is sent, a form is read; what is not said to be wrong holds nothing that harms.
        #[test]
        fn any_bytes_are_fields(text in ".{0,400}", name in "note|labels|name|q", value in proptest::prelude::any::<String>()) {
            let _ = Fields::parse(&text).flaws();
            let sent: String = form_urlencoded::Serializer::new(String::new()).append_pair(&name, &value).finish();
            let fields = Fields::parse(&sent);
            if fields.flaws().is_empty() {
                let hidden = fields.get(&name).contains(['\0', '\u{202e}', '\u{1b}']);
                proptest::prop_assert!(!hidden);
            }
            let clean = fields.cleaned();
            let harmful = clean.0.iter().find_map(|(name, value)| unfit(name, value));
            proptest::prop_assert!(harmful.is_none(), "{:?}", clean);
            let way = crate::frame::way::inside(&text);
            proptest::prop_assert!(way.starts_with('/') && !way.starts_with("//"));
        }
    }
}
