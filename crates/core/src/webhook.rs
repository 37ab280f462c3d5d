//! Webhooks: addresses of ours that senders call, and how calls are authenticated.
//!
//! Two forms of signature. Without a header of its own it is that of Standard Webhooks 1.0: `webhook-signature` holds `v1,` and
//! the base64 of HMAC-SHA256 over `id.timestamp.body`, several separated by spaces. With one, the header holds the HMAC over the
//! body, or over `timestamp.body` if a header gives the time.

use crate::Timestamp;
use crate::place::{Headers, Place};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ring::hmac;
use std::time::Duration;
use subtle::ConstantTimeEq;

/// Default of the largest body, in bytes.
pub const MAX_BODY: u64 = 1 << 20;
/// Default of the allowed difference between the sender's clock and ours.
pub const TOLERANCE: Duration = Duration::from_secs(300);

/// An address of ours that a sender calls.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Webhook {
    /// The last part of its address.
    pub path: String,
    /// Earlier ones, which answer until they are withdrawn.
    pub old_paths: Vec<String>,
    /// Without one, every call to the address is accepted.
    pub signature: Option<Signature>,
    /// Where the name of the event is.
    pub event: Option<Place>,
    /// Where the sender's delivery id is, by which a duplicate is recognised.
    pub delivery: Option<Place>,
    /// Largest body, in bytes.
    pub max_body: u64,
    /// Most calls in a second.
    pub per_second: Option<u32>,
}

/// Signature of calls.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signature {
    /// Name of the secret.
    pub secret: String,
    pub form: SignatureForm,
    /// Allowed difference between a call's time and ours.
    pub tolerance: Duration,
}

/// Place and content of the signature.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignatureForm {
    /// Standard Webhooks 1.0.
    Standard,
    Header {
        header: String,
        hash: Hash,
        encoding: Encoding,
        /// Prefix of the signature, e.g. `sha256=`.
        prefix: String,
        /// The header with the time, in seconds since 1970; signed before the body, with a dot between.
        time: Option<String>,
    },
}

/// The hash of an HMAC.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hash {
    Sha256,
    Sha512,
}

/// Encoding of a signature.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encoding {
    Hex,
    Base64,
}

/// Why a call is rejected.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Forged {
    #[error("the secret `{0}` is not set; `wirewatch secret set {0}` sets it")]
    NoSecret(String),
    #[error("the header {0} is missing")]
    Missing(String),
    #[error("the header {0} cannot be read")]
    Unreadable(String),
    #[error("its time differs from ours by {0} s")]
    Stale(u64),
    #[error("the signature does not match the body and our secret")]
    Different,
}

impl Webhook {
    /// Every path it answers at, the current one first.
    pub fn paths(&self) -> impl Iterator<Item = &str> {
        std::iter::once(self.path.as_str()).chain(self.old_paths.iter().map(String::as_str))
    }
}

/// Claims in the headers of a call.
struct Claim<'a> {
    /// Texts signed before the body, each followed by a full stop.
    before: Vec<&'a str>,
    signatures: Vec<Vec<u8>>,
}

impl Signature {
    /// Checks before the body is read that the headers of a signature are present, readable and in time.
    ///
    /// # Errors
    /// [`Forged`], in words for the person who set up the sender.
    pub fn check_headers(&self, headers: Headers<'_>, now: Timestamp) -> Result<(), Forged> {
        self.read(headers, now).map(drop)
    }

    /// Checks the signature of a call. `secrets` are those valid now: two while one is being changed.
    ///
    /// # Errors
    /// [`Forged`], in words for the person who set up the sender.
    pub fn check(&self, headers: Headers<'_>, body: &[u8], secrets: &[String], now: Timestamp) -> Result<(), Forged> {
        if secrets.is_empty() {
            return Err(Forged::NoSecret(self.secret.clone()));
        }
        let Claim { before, signatures } = self.read(headers, now)?;
        let signed: Vec<&[u8]> = before.iter().flat_map(|part| [part.as_bytes(), b"."]).chain([body]).collect();
        let fits = secrets.iter().any(|secret| {
            let (hash, key) = match &self.form {
                SignatureForm::Standard => (Hash::Sha256, key(secret)),
                SignatureForm::Header { hash, .. } => (*hash, secret.as_bytes().to_vec()),
            };
            // Once for each secret, however many signatures a header claims.
            let right = digest(hash, &key, &signed);
            signatures.iter().any(|given| right.as_ref().ct_eq(given).into())
        });
        if fits { Ok(()) } else { Err(Forged::Different) }
    }

    fn read<'a>(&self, headers: Headers<'a>, now: Timestamp) -> Result<Claim<'a>, Forged> {
        let needed = |name: &str| headers(name).ok_or_else(|| Forged::Missing(name.to_owned()));
        match &self.form {
            SignatureForm::Standard => {
                let (id, time, given) = (needed("webhook-id")?, needed("webhook-timestamp")?, needed("webhook-signature")?);
                self.in_time("webhook-timestamp", time, now)?;
                let signatures = given.split(' ').filter_map(|one| STANDARD.decode(one.strip_prefix("v1,")?).ok());
                Ok(Claim { before: vec![id, time], signatures: signatures.collect() })
            }
            SignatureForm::Header { header, encoding, prefix, time, .. } => {
                let given = needed(header)?;
                let unreadable = || Forged::Unreadable(header.clone());
                let given = given.strip_prefix(prefix.as_str()).ok_or_else(unreadable)?;
                let given = match encoding {
                    Encoding::Hex => hex::decode(given).map_err(|_| unreadable())?,
                    Encoding::Base64 => STANDARD.decode(given).map_err(|_| unreadable())?,
                };
                let time = time.as_deref().map(|name| Ok::<_, Forged>((name, needed(name)?))).transpose()?;
                if let Some((name, time)) = time {
                    self.in_time(name, time, now)?;
                }
                Ok(Claim { before: time.into_iter().map(|(_, time)| time).collect(), signatures: vec![given] })
            }
        }
    }

    /// The headers of a call with that body as its sender would write them, for trying an address out.
    #[must_use]
    pub fn sign(&self, secret: &str, id: &str, body: &[u8], now: Timestamp) -> Vec<(String, String)> {
        let seconds = (now.millis() / 1000).to_string();
        match &self.form {
            SignatureForm::Standard => {
                let signed = [id.as_bytes(), b".", seconds.as_bytes(), b".", body];
                let signature = format!("v1,{}", STANDARD.encode(digest(Hash::Sha256, &key(secret), &signed)));
                let all = [("webhook-id", id.to_owned()), ("webhook-timestamp", seconds), ("webhook-signature", signature)];
                all.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
            }
            SignatureForm::Header { header, hash, encoding, prefix, time } => {
                let bytes = match time {
                    Some(_) => digest(*hash, secret.as_bytes(), &[seconds.as_bytes(), b".", body]),
                    None => digest(*hash, secret.as_bytes(), &[body]),
                };
                let text = match encoding {
                    Encoding::Hex => hex::encode(bytes),
                    Encoding::Base64 => STANDARD.encode(bytes),
                };
                let time = time.iter().map(|name| (name.clone(), seconds.clone()));
                std::iter::once((header.clone(), format!("{prefix}{text}"))).chain(time).collect()
            }
        }
    }

    fn in_time(&self, header: &str, text: &str, now: Timestamp) -> Result<(), Forged> {
        let seconds: i64 = text.parse().map_err(|_| Forged::Unreadable(header.to_owned()))?;
        let off = (now.millis() / 1000).abs_diff(seconds);
        if off <= self.tolerance.as_secs() { Ok(()) } else { Err(Forged::Stale(off)) }
    }
}

/// Decodes a key of Standard Webhooks: base64 after `whsec_`; any other text is the key itself.
fn key(secret: &str) -> Vec<u8> {
    secret.strip_prefix("whsec_").and_then(|text| STANDARD.decode(text).ok()).unwrap_or_else(|| secret.as_bytes().to_vec())
}

fn digest(hash: Hash, key: &[u8], signed: &[&[u8]]) -> hmac::Tag {
    let hash = match hash {
        Hash::Sha256 => hmac::HMAC_SHA256,
        Hash::Sha512 => hmac::HMAC_SHA512,
    };
    let mut signing = hmac::Context::with_key(&hmac::Key::new(hash, key));
    signed.iter().for_each(|part| signing.update(part));
    signing.sign()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const NOW: Timestamp = Timestamp(1_790_000_000_000_000);

    fn standard() -> Signature {
        Signature { secret: "shop".into(), form: SignatureForm::Standard, tolerance: TOLERANCE }
    }

    fn header(hash: Hash, encoding: Encoding, time: Option<&str>) -> Signature {
        let time = time.map(str::to_owned);
        let form = SignatureForm::Header { header: "X-Sig".into(), hash, encoding, prefix: "v=".into(), time };
        Signature { secret: "shop".into(), form, tolerance: TOLERANCE }
    }

    fn check(signature: &Signature, headers: &[(&str, &str)], body: &str, secrets: &[&str]) -> Result<(), Forged> {
        let secrets: Vec<String> = secrets.iter().map(|one| (*one).to_owned()).collect();
        let find = |name: &str| headers.iter().find(|(known, _)| *known == name).map(|(_, value)| *value);
        signature.check(&find, body.as_bytes(), &secrets, NOW)
    }

    fn sign(secret: &str, id: &str, seconds: i64, body: &[u8]) -> String {
        let headers = standard().sign(secret, id, body, Timestamp::from_millis(seconds * 1000));
        headers.into_iter().find(|(name, _)| name == "webhook-signature").expect("it is signed").1
    }

    #[test]
    fn the_standard_form_is_that_of_its_specification() {
        // The example of Standard Webhooks 1.0.
        let secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw";
        let body = r#"{"test": 2432232314}"#;
        let signed = sign(secret, "msg_p5jXN8AQM9LWM0D4loKWxJek", 1_614_265_330, body.as_bytes());
        assert_eq!(signed, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
    }

    #[test]
    fn a_call_is_accepted_in_time_and_with_either_secret_while_one_is_changed() {
        let now = NOW.millis() / 1000;
        let call = |secret: &str, seconds: i64| {
            let signed = sign(secret, "d1", seconds, b"{}");
            let headers = [
                ("webhook-id", "d1".to_owned()),
                ("webhook-timestamp", seconds.to_string()),
                ("webhook-signature", format!("v1,AAAA {signed}")),
            ];
            let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
            check(&standard(), &headers, "{}", &["new", "old"])
        };
        assert_eq!((call("new", now), call("old", now - 299)), (Ok(()), Ok(())));
        assert_eq!(call("other", now), Err(Forged::Different));
        assert_eq!(call("new", now - 301), Err(Forged::Stale(301)));
        assert_eq!(call("new", now + 400), Err(Forged::Stale(400)));
        assert_eq!(check(&standard(), &[], "{}", &["new"]), Err(Forged::Missing("webhook-id".into())));
        assert_eq!(check(&standard(), &[], "{}", &[]), Err(Forged::NoSecret("shop".into())));
    }

    #[test]
    fn a_header_of_the_senders_own_is_read_as_the_workspace_says() {
        // HMAC-SHA256 of {} under the key "key".
        let known = "v=a777724d943eb48dc69bca8a4a6d57a04db3f9ec7e1de4e581e860265bdf3032";
        let plain = header(Hash::Sha256, Encoding::Hex, None);
        assert_eq!(check(&plain, &[("X-Sig", known)], "{}", &["key"]), Ok(()));
        for (hash, encoding) in [(Hash::Sha256, Encoding::Hex), (Hash::Sha512, Encoding::Base64)] {
            let signed = b"1790000000.{}";
            let bytes = digest(hash, b"key", &[signed]);
            let text = match encoding {
                Encoding::Hex => format!("v={}", hex::encode(bytes)),
                Encoding::Base64 => format!("v={}", STANDARD.encode(bytes)),
            };
            let headers = [("X-Sig", text.as_str()), ("X-Time", "1790000000")];
            let signature = header(hash, encoding, Some("X-Time"));
            let written = [("X-Sig".to_owned(), text.clone()), ("X-Time".to_owned(), "1790000000".to_owned())];
            assert_eq!(signature.sign("key", "id", b"{}", NOW), written);
            assert_eq!(check(&signature, &headers, "{}", &["key"]), Ok(()));
            assert_eq!(check(&signature, &headers, "{ }", &["key"]), Err(Forged::Different));
            assert_eq!(check(&signature, &headers[..1], "{}", &["key"]), Err(Forged::Missing("X-Time".into())));
        }
        assert_eq!(check(&plain, &[("X-Sig", "abcd")], "{}", &["key"]), Err(Forged::Unreadable("X-Sig".into())));
        assert_eq!(check(&plain, &[("X-Sig", "v=zz")], "{}", &["key"]), Err(Forged::Unreadable("X-Sig".into())));
    }

    proptest! {
        #[test]
        fn what_is_signed_is_accepted_and_nothing_else(body: Vec<u8>, secret in ".{1,40}", flip in 0usize..64) {
            let seconds = NOW.millis() / 1000;
            let signed = sign(&secret, "d", seconds, &body);
            let time = seconds.to_string();
            let checked = |signed: &str, body: &[u8]| {
                let headers = [("webhook-id", "d"), ("webhook-timestamp", time.as_str()), ("webhook-signature", signed)];
                let find = |name: &str| headers.iter().find(|(known, _)| *known == name).map(|(_, value)| *value);
                standard().check(&find, body, std::slice::from_ref(&secret), NOW)
            };
            prop_assert_eq!(checked(&signed, &body), Ok(()));
            let mut other = body.clone();
            other.push(0);
            prop_assert_eq!(checked(&signed, &other), Err(Forged::Different));
            let at = 3 + flip % (signed.len() - 4);
            let changed = if &signed[at..=at] == "A" { "B" } else { "A" };
            let forged = format!("{}{changed}{}", &signed[..at], &signed[at + 1..]);
            prop_assert_eq!(checked(&forged, &body), Err(Forged::Different));
        }
    }
}
