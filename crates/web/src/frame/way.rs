//! Where a browser is sent: only to paths of this site, whatever was typed, linked or sent along.

use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};
use rocket::http::uri::Origin;

/// What may not stand in a path or query as it is (RFC 3986); `%` may, it stands before what is encoded already.
const ODD: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'"')
    .add(b'#')
    .add(b'<')
    .add(b'>')
    .add(b'[')
    .add(b'\\')
    .add(b']')
    .add(b'^')
    .add(b'`')
    .add(b'{')
    .add(b'|')
    .add(b'}');

/// The longest address that anybody is sent to.
const LONGEST: usize = 2000;

/// The path of this site that `way` means; the Field for everything else.
pub(crate) fn inside(way: &str) -> String {
    let home = || "/".to_owned();
    let ours = way.starts_with('/') && !way.starts_with("//") && !way.contains('\\');
    if !ours || way.len() > LONGEST || way.contains("/sign-") {
        return home();
    }
    let way = utf8_percent_encode(way, ODD).to_string();
    match Origin::parse(&way) {
        Ok(_) => way,
        Err(_) => home(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nobody_is_sent_elsewhere_and_odd_characters_are_no_failure() {
        assert_eq!(inside("/machines?q=x"), "/machines?q=x");
        assert_eq!(inside("/machines?q=%C3%A6"), "/machines?q=%C3%A6");
        assert_eq!(inside("/machines?q=æ <b>"), "/machines?q=%C3%A6%20%3Cb%3E");
        assert_eq!(inside("/a\r\nSet-Cookie: b=c"), "/a%0D%0ASet-Cookie:%20b=c");
        for bad in [
            "https://elsewhere.example",
            "//elsewhere.example",
            "/\\elsewhere",
            "",
            "machines",
            "/sign-out",
            &format!("/{}", "x".repeat(3000)),
        ] {
            assert_eq!(inside(bad), "/", "{bad}");
        }
    }
}
