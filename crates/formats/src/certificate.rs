//! Certificates as people paste them: PEM (RFC 7468), the first one's names and its time (RFC 5280).

use x509_parser::{
    extensions::GeneralName,
    pem::Pem,
    prelude::{FromDer, X509Certificate},
};
use zastrugi_core::{estate::Shown, moment::Moment};

/// The most characters of a chain.
const MOST: usize = 32 << 10;
const NAMES: usize = 32;

/// Reads a chain of certificates.
///
/// # Errors
/// Words for whoever pasted it.
pub fn read(text: &str) -> Result<Shown, String> {
    let text = text.trim();
    if text.len() > MOST {
        return Err("This is longer than a chain of certificates is.".into());
    }
    let mut own = None;
    for pem in Pem::iter_from_buffer(text.as_bytes()) {
        let pem = pem.map_err(|_| {
            "This is no PEM: “-----BEGIN CERTIFICATE-----” and what belongs to it.".to_owned()
        })?;
        if pem.label.ends_with("PRIVATE KEY") {
            return Err("A private key stands here; it belongs into the field for it.".into());
        }
        let (_, certificate) = X509Certificate::from_der(&pem.contents)
            .map_err(|_| "What stands in the PEM is no certificate.".to_owned())?;
        if own.is_none() {
            own = Some(shown(text, &certificate));
        }
    }
    own.ok_or_else(|| "Paste the certificate in PEM, the front's own first.".to_owned())
}

fn shown(text: &str, certificate: &X509Certificate<'_>) -> Shown {
    let plain = |name: &str| {
        name.chars()
            .filter(|c| !c.is_control())
            .take(253)
            .collect::<String>()
    };
    let also = certificate.subject_alternative_name().ok().flatten();
    let mut names: Vec<String> = also
        .into_iter()
        .flat_map(|e| &e.value.general_names)
        .filter_map(|n| match n {
            GeneralName::DNSName(name) => Some(plain(name)),
            _ => None,
        })
        .take(NAMES)
        .collect();
    if names.is_empty() {
        let common = certificate.subject().iter_common_name().next();
        names.extend(common.and_then(|c| c.as_str().ok()).map(plain));
    }
    let at = |time: x509_parser::time::ASN1Time| Moment(time.timestamp().saturating_mul(1000));
    Shown {
        pem: format!("{text}\n"),
        names,
        from: at(certificate.validity().not_before),
        until: at(certificate.validity().not_after),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn made(names: &[&str]) -> (String, String) {
        let key = rcgen::KeyPair::generate().unwrap();
        let mut params = rcgen::CertificateParams::new(
            names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>(),
        )
        .unwrap();
        params.not_before = rcgen::date_time_ymd(2026, 1, 1);
        params.not_after = rcgen::date_time_ymd(2027, 1, 1);
        (params.self_signed(&key).unwrap().pem(), key.serialize_pem())
    }

    /// If this fails, a certificate is taken that nobody can show, or one that has run out counts as good.
    #[test]
    fn names_and_time_are_read_and_what_is_none_is_said() {
        let (pem, key) = made(&["tickets.skarholm.example", "www.skarholm.example"]);
        let shown = read(&pem).unwrap();
        assert_eq!(
            shown.names,
            ["tickets.skarholm.example", "www.skarholm.example"]
        );
        assert_eq!(
            (shown.from, shown.until),
            (Moment(1_767_225_600_000), Moment(1_798_761_600_000))
        );
        let chain = read(&format!("{pem}{}", made(&["an issuer"]).0)).unwrap();
        assert_eq!(
            chain.names[0], "tickets.skarholm.example",
            "its own is the first"
        );
        assert!(
            read(&format!("{pem}{key}"))
                .unwrap_err()
                .contains("private key")
        );
        assert!(read("").unwrap_err().contains("Paste"));
        assert!(read("hello").unwrap_err().contains("Paste"));
        assert!(
            read("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----")
                .unwrap_err()
                .contains("no certificate")
        );
        assert!(read(&"x".repeat(MOST + 1)).is_err());
    }
}
