//! Digests: canonical JSON (RFC 8785), SHA-256 (FIPS 180-4) and HMAC (RFC 2104), each with the scheme it was made by.

use ring::digest::{Context, SHA256, digest as hash};
use ring::hmac;
use serde::{Deserialize, Serialize, Serializer};
use serde_json::Value;
use std::cmp::Ordering;
use std::fmt;
use std::io;
use std::str::FromStr;
use std::sync::Arc;

/// The longest scheme of a digest, in bytes.
const LONGEST_SCHEME: usize = 12;
/// This many digits a digest has at the most.
const MAX_DIGITS: usize = 128;

/// A digest with its scheme, `s2:6f…`. Digests of unequal schemes are never compared as if they said something.
//
// Copies share its text.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(value_type = String))]
#[serde(into = "String", try_from = "String")]
pub struct Digest(Arc<str>);

impl Digest {
    /// Returns the scheme, the part before the `:`.
    pub fn scheme(&self) -> &str {
        self.0.split_once(':').map_or("", |(scheme, _)| scheme)
    }

    /// Returns whether it is the name of anything: what nobody asks for has none.
    pub(crate) fn is_named(&self) -> bool {
        !self.0.is_empty()
    }

    /// Returns the whole text, scheme included.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns the scheme and the first twelve digits, enough for a person to tell two apart.
    pub fn short(&self) -> &str {
        let end = self.0.find(':').map_or(0, |colon| colon + 1) + 12;
        self.0.get(..end).unwrap_or(&self.0)
    }
}

/// A text that is no digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("this is no digest: it is not a scheme, a `:` and letters or digits")]
pub struct NoDigest;

impl FromStr for Digest {
    type Err = NoDigest;

    fn from_str(text: &str) -> Result<Self, NoDigest> {
        let (scheme, digits) = text.split_once(':').ok_or(NoDigest)?;
        let is_scheme = (1..=LONGEST_SCHEME).contains(&scheme.len())
            && scheme.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit());
        let is_digits = (1..=MAX_DIGITS).contains(&digits.len())
            && digits.bytes().all(|byte| byte.is_ascii_alphanumeric());
        if is_scheme && is_digits { Ok(Self(text.into())) } else { Err(NoDigest) }
    }
}

impl TryFrom<String> for Digest {
    type Error = NoDigest;

    fn try_from(text: String) -> Result<Self, NoDigest> {
        text.parse()
    }
}

impl From<Digest> for String {
    fn from(digest: Digest) -> Self {
        digest.0.as_ref().to_owned()
    }
}

impl std::borrow::Borrow<str> for Digest {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// The key of keyed digests: what is concealed cannot be guessed from them.
#[derive(Clone)]
pub struct DigestKey(Vec<u8>);

impl DigestKey {
    /// Takes the key's bytes; 32 random ones are usual.
    pub fn new(bytes: impl Into<Vec<u8>>) -> Self {
        Self(bytes.into())
    }

    /// Returns the HMAC-SHA-256 of the bytes as `h1:…`.
    pub fn digest(&self, bytes: &[u8]) -> Digest {
        let key = hmac::Key::new(hmac::HMAC_SHA256, &self.0);
        named("h1", hmac::sign(&key, bytes).as_ref())
    }
}

impl DigestKey {
    /// Returns the HMAC-SHA-256 of all that can be read, as `h1:…`.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn digest_of(&self, mut from: impl io::Read) -> io::Result<Digest> {
        let mut context = hmac::Context::with_key(&hmac::Key::new(hmac::HMAC_SHA256, &self.0));
        let mut piece = [0; 16 * 1024];
        loop {
            match from.read(&mut piece)? {
                0 => return Ok(named("h1", context.sign().as_ref())),
                read => context.update(&piece[..read]),
            }
        }
    }
}

impl fmt::Debug for DigestKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("DigestKey(…)")
    }
}

/// Returns the SHA-256 of file contents as `sha256:…`, the name by which they are stored.
pub fn of_contents(bytes: &[u8]) -> Digest {
    named("sha256", hash(&SHA256, bytes).as_ref())
}

/// Contents and the name that they are known by.
#[derive(Debug, Clone, Copy)]
pub struct Named<'c> {
    /// Their digest.
    pub name: &'c str,
    /// The contents.
    pub contents: &'c [u8],
}

/// Returns the SHA-256 of contents that are read into `piece` one after the other, as [`of_contents`] does. `size` is how many
/// bytes they are said to be, so that their end need not be asked for: a file that grows meanwhile has another stamp afterwards.
/// Of what is said to be empty, as the kernel says of its own files, the end is. What is `expected` byte by byte is not hashed.
///
/// # Errors
///
/// Returns why they could not be read.
pub fn of_reader(
    mut from: impl io::Read,
    size: u64,
    piece: &mut [u8],
    expected: Option<Named<'_>>,
) -> io::Result<Digest> {
    let mut left = if size == 0 { u64::MAX } else { size };
    let Named { name, contents: expected } = expected.unwrap_or(Named { name: "", contents: b"" });
    // This many bytes are as expected, and are not hashed as long as all are.
    let (mut alike, mut hash) = (0, None);
    while left > 0 {
        let read = match from.read(piece)? {
            0 => break,
            read => &piece[..read],
        };
        left = left.saturating_sub(read.len() as u64);
        if hash.is_none() && expected[alike..].starts_with(read) {
            alike += read.len();
            continue;
        }
        let hash = hash.get_or_insert_with(|| begun_with(&expected[..alike]));
        hash.update(read);
    }
    match (hash, name.parse()) {
        (None, Ok(name)) if alike == expected.len() => Ok(name),
        (hash, _) => {
            Ok(named("sha256", hash.unwrap_or_else(|| begun_with(&expected[..alike])).finish().as_ref()))
        }
    }
}

fn begun_with(bytes: &[u8]) -> Context {
    let mut hash = Context::new(&SHA256);
    hash.update(bytes);
    hash
}

/// Returns the SHA-256 of a value's canonical JSON, with the given scheme.
pub fn of_value(scheme: &str, value: &impl Serialize) -> Digest {
    let value = serde_json::to_value(value).expect("values of the core are JSON without NaN");
    of_sorted(scheme, &Canonical(&value))
}

/// Returns the same of what is written in the order of its keys as it is: each structure declares its fields in that order,
/// and each value in it is a [`Canonical`] one.
pub(crate) fn of_sorted(scheme: &str, value: &impl Serialize) -> Digest {
    named(scheme, hash(&SHA256, &written(value)).as_ref())
}

/// Returns the same of what is too large to be written down first.
pub(crate) fn of_sorted_at_once(scheme: &str, value: &impl Serialize) -> Digest {
    let mut hashing = io::BufWriter::with_capacity(4 * 1024, Hashing(Context::new(&SHA256)));
    write_sorted(value, &mut hashing);
    let Ok(Hashing(hash)) = hashing.into_inner() else { unreachable!("hashing takes whatever it is given") };
    named(scheme, hash.finish().as_ref())
}

/// Takes what is written into a hash, so that a whole state need not be in memory as text.
struct Hashing(Context);

impl io::Write for Hashing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Returns a value as canonical JSON (RFC 8785).
pub fn canonical(value: &Value) -> Vec<u8> {
    written(&Canonical(value))
}

/// Writes what is in the order of its keys.
pub(crate) fn written(value: &impl Serialize) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(512);
    write_sorted(value, &mut bytes);
    bytes
}

fn write_sorted(value: &impl Serialize, to: impl io::Write) {
    let mut writer = serde_json::Serializer::with_formatter(to, CanonicalNumbers);
    value.serialize(&mut writer).expect("values of the core are JSON without NaN");
}

/// A value, written with the keys of its objects in their order: that of UTF-16 (RFC 8785, 3.2.3).
pub(crate) struct Canonical<'v>(pub &'v Value);

impl Serialize for Canonical<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0 {
            Value::Object(map) => {
                let mut entries: Vec<(&String, &Value)> = map.iter().collect();
                entries.sort_unstable_by(|(left, _), (right, _)| in_utf16(left, right));
                serializer.collect_map(entries.into_iter().map(|(name, value)| (name, Canonical(value))))
            }
            Value::Array(items) => serializer.collect_seq(items.iter().map(Canonical)),
            plain => plain.serialize(serializer),
        }
    }
}

/// Values by their names, written in the order of these.
pub(crate) struct ByName<'v, V>(Vec<(&'v str, V)>);

impl<'v, V> FromIterator<(&'v str, V)> for ByName<'v, V> {
    fn from_iter<I: IntoIterator<Item = (&'v str, V)>>(values: I) -> Self {
        let mut values: Vec<(&str, V)> = values.into_iter().collect();
        values.sort_unstable_by(|(left, _), (right, _)| in_utf16(left, right));
        Self(values)
    }
}

impl<V: Serialize> Serialize for ByName<'_, V> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(name, value)| (name, value)))
    }
}

fn in_utf16(left: &str, right: &str) -> Ordering {
    if left.is_ascii() && right.is_ascii() {
        left.cmp(right)
    } else {
        left.encode_utf16().cmp(right.encode_utf16())
    }
}

/// Numbers as ECMAScript writes them (RFC 8785, 3.2.2.3).
struct CanonicalNumbers;

impl serde_json::ser::Formatter for CanonicalNumbers {
    fn write_f64<W: ?Sized + io::Write>(&mut self, to: &mut W, number: f64) -> io::Result<()> {
        to.write_all(ryu_js::Buffer::new().format_finite(number).as_bytes())
    }
}

/// Returns bytes as lower-case hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    with_hex(["", ""], bytes)
}

fn named(scheme: &str, hash: &[u8]) -> Digest {
    Digest(with_hex([scheme, ":"], hash).into())
}

fn with_hex(before: [&str; 2], bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let mut text = Vec::with_capacity(before[0].len() + before[1].len() + 2 * bytes.len());
    before.iter().for_each(|part| text.extend_from_slice(part.as_bytes()));
    text.extend(
        bytes.iter().flat_map(|byte| [DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]]),
    );
    String::from_utf8(text).expect("digits are a text")
}

/// Returns a quick name of contents that is good for telling them apart in one process only.
pub(crate) fn for_comparing(bytes: &[u8]) -> Digest {
    use std::hash::{DefaultHasher, Hasher};
    let mut hasher = DefaultHasher::new();
    hasher.write(bytes);
    Digest(format!("quick:{:x}-{}", hasher.finish(), bytes.len()).into())
}

/// Returns the digest of what was not named, since nobody asks for its name.
pub(crate) fn none() -> Digest {
    Digest(Arc::default())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    #[test]
    fn the_order_of_keys_does_not_count() {
        assert_eq!(of_value("s1", &json!({"a": 1, "b": 2})), of_value("s1", &json!({"b": 2, "a": 1})));
    }

    proptest! {
        #[test]
        fn canonical_json_is_that_of_rfc_8785(value in any_value()) {
            prop_assert_eq!(String::from_utf8(canonical(&value)).unwrap(), serde_json_canonicalizer::to_string(&value).unwrap());
        }
    }

    fn any_value() -> impl Strategy<Value = Value> {
        let number = prop_oneof![
            any::<f64>().prop_filter("JSON has no other", |number| number.is_finite()),
            (-1e21..1e21),
            Just(-0.0),
            Just(1e-7)
        ];
        let plain = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::from),
            (-(1_i64 << 53)..(1_i64 << 53)).prop_map(Value::from),
            number.prop_map(Value::from),
            any::<String>().prop_map(Value::from),
        ];
        plain.prop_recursive(3, 32, 6, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..6).prop_map(Value::from),
                prop::collection::hash_map(any::<String>(), inner, 0..6)
                    .prop_map(|map| Value::Object(map.into_iter().collect())),
            ]
        })
    }

    #[test]
    fn contents_have_their_plain_sha256() {
        assert_eq!(
            of_contents(b"abc").as_str(),
            "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
        );
    }

    #[test]
    fn what_is_read_has_its_digest_whatever_was_expected() {
        let contents = b"idle = 90\nlanes = A B\n";
        let name = of_contents(contents);
        for expected in
            [&b""[..], b"idle", b"idle = 91\nlanes = A B\n", contents, b"idle = 90\nlanes = A B\nx", b"x"]
        {
            let named = of_contents(expected);
            let expected = Named { name: named.as_str(), contents: expected };
            for (piece, size) in [(4, 22), (4, 0), (64, 22), (64, 0)] {
                assert_eq!(
                    of_reader(&contents[..], size, &mut vec![0; piece], Some(expected)).unwrap(),
                    name,
                    "{expected:?}"
                );
                assert_eq!(of_reader(&contents[..], size, &mut vec![0; piece], None).unwrap(), name);
            }
        }
        assert_eq!(of_reader(&b""[..], 0, &mut [0; 4], None).unwrap(), of_contents(b""));
    }

    #[test]
    fn a_keyed_digest_depends_on_the_key_and_its_debug_form_shows_none() {
        assert_ne!(DigestKey::new("one").digest(b"x"), DigestKey::new("two").digest(b"x"));
        assert_eq!(format!("{:?}", DigestKey::new("one")), "DigestKey(…)");
    }
}
