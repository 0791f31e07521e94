//! Object storage: listing and reading what lies in buckets, through the S3 protocol, which many systems speak.
//!
//! Requests are signed (AWS Signature Version 4) by a library; so is the list of a bucket read. An object is read as it was
//! listed: one that is another by now is an error, never its new bytes.

use crate::http::{self, Cut};
use crate::secret::{Hidden, Secret};
use crate::{Failed, is_here, said};
use quick_xml::Reader;
use quick_xml::events::Event;
use rusty_s3::actions::{ListObjectsV2, ListObjectsV2Response};
use rusty_s3::{Bucket, Credentials, S3Action, UrlStyle};
use std::collections::BTreeMap;
use std::path::Path;
use std::time::{Duration, Instant};
use ureq::http::{Response, header};
use ureq::{Agent, Body};
use url::Url;

/// What the address of an object begins with.
pub const SCHEME: &str = "s3://";
/// How many seconds nothing may come before an answer is given up.
const WAIT: u64 = 60;
/// How long a signature counts: a clock may be wrong by a few minutes.
const SIGNED: Duration = Duration::from_secs(900);
/// A longer page of a list is an error.
const LONGEST_PAGE: u64 = 64 << 20;
/// Of what an error says, so much is read.
const LONGEST_ERROR: u64 = 64 << 10;
/// More objects than this are no catalog.
const MOST: usize = 1_000_000;
/// So often a storage may say that it is busy, or break off, for one request.
const MOST_TRIES: u32 = 6;

/// Where objects are, and in whose name they are asked for.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Settings {
    /// The address of the storage.
    pub at: String,
    /// The region that requests are signed for.
    pub region: String,
    /// Whether a bucket is a part of the host's name, and not of the path.
    pub by_host: bool,
    /// The id of the key that requests are signed with; without one nothing is signed.
    pub id: Option<Secret>,
    /// The key.
    pub secret: Option<Secret>,
    /// What belongs to a key that counts for a while only.
    pub token: Option<Secret>,
    /// A file with the certificates of the authorities that are believed, in place of the system's.
    pub authority: Option<String>,
    /// How many seconds nothing may come before an answer is given up.
    pub wait: Option<u64>,
    /// Whether content may cross a network in clear.
    pub clear: bool,
}

/// An address of objects: a bucket, and a key or a pattern of keys.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Address<'a> {
    /// The bucket.
    pub bucket: &'a str,
    /// The key or pattern.
    pub key: &'a str,
}

impl<'a> Address<'a> {
    /// Of a text such as `s3://BUCKET/KEY`; none where it is none.
    pub fn of(text: &'a str) -> Option<Address<'a>> {
        let (bucket, key) = text.strip_prefix(SCHEME)?.split_once('/')?;
        Some(Address { bucket, key })
    }

    /// What is wrong with it, in words.
    pub fn problem(&self) -> Option<&'static str> {
        let is_name = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b'_');
        if self.bucket.is_empty() || !self.bucket.bytes().all(is_name) || is_upward(self.bucket) {
            return Some("its bucket is no name of letters, digits, `.`, `-` and `_`");
        }
        if self.key.is_empty() || is_upward(self.key) {
            return Some("its key is empty, or leads upward");
        }
        None
    }
}

/// Whether a key has a segment that an address on the network would be shortened by, and so lead to another object.
fn is_upward(key: &str) -> bool {
    key.split(['/', '\\']).any(|segment| matches!(segment, "." | ".."))
}

/// An object as it was listed.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Object {
    /// Its key.
    pub key: String,
    /// How many bytes it has.
    pub size: u64,
    /// What tells its content from every other it had (the entity tag, RFC 9110, 8.8.3).
    pub tag: String,
}

/// A storage that can be asked. Several cores may ask at a time.
pub struct Storage {
    agent: Agent,
    at: Url,
    region: String,
    style: UrlStyle,
    key: Option<Credentials>,
}

/// What came of one try.
enum Tried<T> {
    Done(T),
    /// The same may be tried once more, after as long as the storage asks for.
    Again(Failed, Option<Duration>),
}

impl Storage {
    /// Makes ready to ask; nothing is asked yet. Files of the settings are looked for from `root` on.
    ///
    /// # Errors
    /// The address is none, content would cross a network in clear, or a secret or an authority cannot be read.
    pub fn open(settings: &Settings, root: &Path) -> Result<Storage, Failed> {
        let at = Url::parse(&settings.at).map_err(|e| Failed::new(format!("`{}` is no address: {e}", settings.at)))?;
        let wait = Some(Duration::from_secs(settings.wait.unwrap_or(WAIT)));
        let config = match at.scheme() {
            "https" => http::secret(settings.authority.as_deref(), root)?,
            "http" if settings.clear || is_here(at.host_str().unwrap_or_default()) => http::clear(),
            "http" => {
                return Err(Failed::new(
                    "content would cross the network in clear: write `https://`; where the network is trusted, `clear = true`",
                ));
            }
            _ => return Err(Failed::new(format!("`{}` begins with neither `https://` nor `http://`", settings.at))),
        };
        let config = config.timeout_connect(wait).timeout_recv_response(wait).timeout_per_read(wait).build();
        let nobody = || None;
        let get = |secret: &Option<Secret>| secret.as_ref().map(|secret| secret.get(root, &nobody)).transpose();
        let (id, secret, token) = (get(&settings.id)?, get(&settings.secret)?, get(&settings.token)?);
        let plain = |hidden: &Hidden| hidden.reveal().to_string();
        let key = match (&id, &secret, &token) {
            (None, None, None) => None,
            (Some(id), Some(secret), None) => Some(Credentials::new(plain(id), plain(secret))),
            (Some(id), Some(secret), Some(token)) => {
                Some(Credentials::new_with_token(plain(id), plain(secret), plain(token)))
            }
            _ => return Err(Failed::new("`id` and `secret` belong together, and `token` to both")),
        };
        let style = if settings.by_host { UrlStyle::VirtualHost } else { UrlStyle::Path };
        Ok(Storage { agent: config.into(), at, region: settings.region.clone(), style, key })
    }

    fn bucket(&self, name: &str) -> Result<Bucket, Failed> {
        Bucket::new(self.at.clone(), self.style, name.to_string(), self.region.clone())
            .map_err(|error| Failed::new(format!("bucket `{name}` has no address: {error}")))
    }

    /// The objects of a bucket whose keys begin with a text, in byte order of their keys. Cost: a request for every thousand.
    ///
    /// # Errors
    /// The bucket is not there or not for this key to read, or the list is none.
    pub fn list(&self, bucket: &str, beginning: &str) -> Result<Vec<Object>, Failed> {
        let of = self.bucket(bucket)?;
        let mut found: BTreeMap<String, (u64, String)> = BTreeMap::new();
        let mut from: Option<String> = None;
        loop {
            let page = self.tried(&|| {
                let mut action = ListObjectsV2::new(&of, self.key.as_ref());
                action.with_prefix(beginning);
                if let Some(from) = &from {
                    action.with_continuation_token(from.as_str());
                }
                let response = match self.ask(&action.sign(SIGNED), None)? {
                    Tried::Done(response) => response,
                    Tried::Again(failed, wait) => return Ok(Tried::Again(failed, wait)),
                };
                let text = match http::body(response, LONGEST_PAGE) {
                    Ok(bytes) => String::from_utf8(bytes).map_err(|_| Failed::new("its list is no text"))?,
                    Err(Cut::TooLong) => return Err(Failed::new("a page of its list is longer than 64 MiB")),
                    Err(Cut::Broken(why)) => {
                        return Ok(Tried::Again(Failed::new(format!("its list broke off: {why}")), None));
                    }
                };
                let page = ListObjectsV2::parse_response(&text);
                page.map(Tried::Done).map_err(|error| Failed::new(format!("its list cannot be read: {error}")))
            })?;
            let ListObjectsV2Response { contents, next_continuation_token, .. } = page;
            for content in contents {
                let key = content.key;
                if !key.starts_with(beginning) {
                    return Err(Failed::new(format!("its list holds `{key}`, which was not asked for")));
                }
                let (Some(size), Some(tag)) = (content.size, content.etag) else {
                    return Err(Failed::new(format!("it says no size or no entity tag of `{key}`")));
                };
                let tag = tag.trim_matches('"').to_string();
                if found.insert(key.clone(), (size, tag)).is_some() {
                    return Err(Failed::new(format!("its list holds `{key}` twice: it changes while it is read")));
                }
            }
            if found.len() > MOST {
                return Err(Failed::new(format!("it holds more than {MOST} objects of that beginning")));
            }
            // A list that begins anew with every page would have no end.
            if next_continuation_token.is_some() && next_continuation_token == from {
                return Err(Failed::new("its list comes to no end"));
            }
            from = next_continuation_token;
            if from.is_none() {
                return Ok(found.into_iter().map(|(key, (size, tag))| Object { key, size, tag }).collect());
            }
        }
    }

    /// The bytes of an object as it was listed.
    ///
    /// # Errors
    /// It is another one by now or gone, or not for this key to read; or it broke off, again and again.
    pub fn read(&self, bucket: &str, object: &Object) -> Result<Vec<u8>, Failed> {
        if is_upward(&object.key) {
            return Err(Failed::new("its key leads upward"));
        }
        let of = self.bucket(bucket)?;
        let tag = format!("\"{}\"", object.tag);
        let changed = || Failed::new("it is another one by now than when it was listed");
        self.tried(&|| {
            let mut action = of.get_object(self.key.as_ref(), &object.key);
            action.headers_mut().insert("if-match", tag.as_str());
            let response = match self.ask(&action.sign(SIGNED), Some(&tag))? {
                Tried::Done(response) => response,
                Tried::Again(failed, wait) => return Ok(Tried::Again(failed, wait)),
            };
            // Whoever does not know the condition sends the object as it is.
            let given = response.headers().get(header::ETAG).and_then(|tag| tag.to_str().ok());
            if given.is_some_and(|given| given.trim_matches('"') != object.tag) {
                return Err(changed());
            }
            match http::body(response, object.size) {
                Ok(bytes) if bytes.len() as u64 == object.size => Ok(Tried::Done(bytes)),
                Ok(_) => Ok(Tried::Again(Failed::new("it broke off"), None)),
                Err(Cut::TooLong) => Err(changed()),
                Err(Cut::Broken(why)) => Ok(Tried::Again(Failed::new(format!("it broke off: {why}")), None)),
            }
        })
    }

    /// Tries, and tries again where that may help.
    fn tried<T>(&self, once: &dyn Fn() -> Result<Tried<T>, Failed>) -> Result<T, Failed> {
        let mut tries = 0;
        loop {
            let (failed, asked) = match once()? {
                Tried::Done(found) => return Ok(found),
                Tried::Again(failed, asked) => (failed, asked),
            };
            tries += 1;
            let wait = asked.unwrap_or(Duration::from_millis(100 << tries));
            if tries >= MOST_TRIES || wait > Duration::from_secs(WAIT) {
                return Err(failed);
            }
            std::thread::sleep(wait);
        }
    }

    /// One request. What it answers is said in words; nothing of the address, in which the signature stands, is.
    fn ask(&self, address: &Url, tag: Option<&str>) -> Result<Tried<Response<Body>>, Failed> {
        let mut request = self.agent.get(address.as_str());
        if let Some(tag) = tag {
            request = request.header(header::IF_MATCH, tag);
        }
        let since = Instant::now();
        let response = match request.call() {
            Ok(response) => response,
            Err(error) => {
                let failed = Failed::new(format!("it cannot be reached: {}", said(&error)));
                // Where nobody listens it is told at once; whoever waited does not wait as long again.
                let again = matches!(error, ureq::Error::Io(_)) && since.elapsed() < Duration::from_secs(1);
                return if again { Ok(Tried::Again(failed, None)) } else { Err(failed) };
            }
        };
        match response.status().as_u16() {
            200 => Ok(Tried::Done(response)),
            412 => Err(Failed::new("it is another one by now than when it was listed")),
            300..=399 => {
                let code = response.headers().get("x-amz-bucket-region").and_then(|region| region.to_str().ok());
                let region = code.map_or(String::new(), |region| format!("; the bucket is in region `{region}`"));
                Err(Failed::new(format!(
                    "it sends to `{}`, which was not asked: write the address that is meant{region}",
                    shown(http::elsewhere(&response))
                )))
            }
            status => {
                let wait = http::retry_after(&response);
                let code = code(response).map_or(String::new(), |code| format!(", `{code}`"));
                let failed = match status {
                    401 | 403 if self.key.is_none() => Failed::new(format!(
                        "it does not let everybody read (status {status}{code}): name a key by `id` and `secret`"
                    )),
                    401 | 403 => Failed::new(format!("it does not let this key read (status {status}{code})")),
                    404 => Failed::new(format!("it is not there (status 404{code})")),
                    _ => Failed::new(format!("it answers with status {status}{code}")),
                };
                match status {
                    429 | 500 | 502 | 503 | 504 => Ok(Tried::Again(failed, wait)),
                    _ => Err(failed),
                }
            }
        }
    }
}

/// An address without what stands behind `?`, where a signature may be.
fn shown(address: &str) -> &str {
    address.split(['?', '#']).next().unwrap_or_default()
}

/// The short name that a storage gives an error.
fn code(response: Response<Body>) -> Option<String> {
    let bytes = http::body(response, LONGEST_ERROR).ok()?;
    let text = String::from_utf8(bytes).ok()?;
    let mut reader = Reader::from_str(&text);
    loop {
        match reader.read_event().ok()? {
            Event::Start(tag) if tag.name().as_ref() == "Code" => break,
            Event::Eof => return None,
            _ => {}
        }
    }
    let Event::Text(code) = reader.read_event().ok()? else { return None };
    let code = code.to_string();
    (code.len() <= 64 && code.bytes().all(|b| b.is_ascii_alphanumeric())).then_some(code)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_say_a_bucket_and_a_key() {
        let address = Address::of("s3://catalog/2026/part-*.parquet").unwrap();
        assert_eq!((address.bucket, address.key), ("catalog", "2026/part-*.parquet"));
        assert_eq!(address.problem(), None);
        assert_eq!(Address::of("catalog/part-1.csv"), None);
        assert_eq!(Address::of("s3://catalog"), None);
        for bad in
            ["s3:///a.csv", "s3://a*b/c.csv", "s3://../c.csv", "s3://b/", "s3://b/../c/d.csv", "s3://b/x/./d.csv"]
        {
            assert!(Address::of(bad).unwrap().problem().is_some(), "{bad}");
        }
    }

    #[test]
    fn a_network_is_crossed_in_clear_on_purpose_alone() {
        let root = Path::new(".");
        let settings = |at: &str, clear| Settings { at: at.to_string(), clear, ..Settings::default() };
        assert!(Storage::open(&settings("http://127.0.0.1:1", false), root).is_ok());
        assert!(Storage::open(&settings("http://storage.example", true), root).is_ok());
        let refused = Storage::open(&settings("http://storage.example", false), root).err().unwrap();
        assert!(refused.to_string().contains("in clear"), "{refused}");
        assert!(Storage::open(&settings("ftp://127.0.0.1", true), root).is_err());
        let half =
            Settings { id: Some(Secret::Environment("PATH".to_string())), ..settings("http://127.0.0.1", false) };
        assert!(Storage::open(&half, root).is_err(), "a key without its secret");
    }
}
