//! Provisioning services: SCIM 2.0 (RFC 7643, RFC 7644) over HTTPS, read page by page and written one resource a line.
//!
//! What a service says of itself is not believed: pages are counted, a body has a limit, and whoever is sent elsewhere goes
//! nowhere. A service that is busy is asked again when it says so.

use crate::{Asking, Failed, Fetched, LeftOut, MOST_ROWS, authority, secret_of};
use bastide_formats::manifest::Import;
use bastide_formats::strict::{Keys, object};
use bastide_net::http::{self, Cut};
use bastide_net::said;
use bastide_net::secret::Hidden;
use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};
use ureq::http::{Response, header};
use ureq::{Agent, Body};
use url::Url;

/// How many resources are asked for at a time.
const PAGE: u64 = 200;
/// How many seconds an answer may take, all waiting for a busy service included.
const WAIT: u64 = 120;
/// A longer answer is an error.
const LONGEST: u64 = 64 << 20;
/// So often a service may say that it is busy, for one page.
const MOST_TRIES: u32 = 8;
/// What the resources of the two lists are, where they do not say it themselves.
const SCHEMAS: [&str; 2] =
    ["urn:ietf:params:scim:schemas:core:2.0:User", "urn:ietf:params:scim:schemas:core:2.0:Group"];
/// What is read of a resource, besides what the manifest maps.
const ALWAYS: [&str; 7] = ["schemas", "id", "userName", "displayName", "name", "active", "members"];

pub fn fetch(import: &Import, asking: &Asking) -> Result<Fetched, Failed> {
    let base =
        Url::parse(&import.from.text).map_err(|e| Failed::new(format!("`{}` is no address: {e}", import.from.text)))?;
    let mut service =
        Service { import, asking, agent: agent(import, asking)?, base, secret: secret_of(import, asking)? };
    let kept = Kept::of(import, asking)?;
    let mut lines: BTreeMap<(u8, String), String> = BTreeMap::new();
    let mut left = LeftOut::default();
    let most = import.at_most.unwrap_or(MOST_ROWS);
    for (sort, list) in ["Users", "Groups"].into_iter().enumerate() {
        let found = service.all(list, &mut |resource| {
            let id = text_of(&resource, "id")
                .ok_or_else(|| Failed::new(format!("`{list}` gives a resource without an `id`")))?;
            if lines.len() as u64 >= most {
                return Err(Failed::new(format!(
                    "it gives more than {most} resources; if so many are right, set `at_most`"
                )));
            }
            let line =
                serde_json::to_string(&kept.of_resource(&resource, SCHEMAS[sort])).expect("JSON always serialises");
            match lines.insert((sort as u8, id.clone()), line) {
                Some(_) => {
                    Err(Failed::new(format!("`{id}` came twice in `{list}`: the list changes while it is read")))
                }
                None => Ok(()),
            }
        })?;
        if !found {
            left.note("lists that the service does not have", list);
        }
    }
    if lines.is_empty() {
        return Err(Failed::new("it gives nobody"));
    }
    let text = lines.into_values().map(|line| line + "\n").collect();
    Ok(Fetched { files: [(import.into.text.clone(), text)].into(), left: left.finish(), decisions: Vec::new() })
}

fn agent(import: &Import, asking: &Asking) -> Result<Agent, Failed> {
    let wait = Duration::from_secs(import.wait.unwrap_or(WAIT));
    let config = http::secret(authority(import), asking.root)?;
    Ok(config.timeout_global(Some(wait)).build().into())
}

struct Service<'a> {
    import: &'a Import,
    asking: &'a Asking<'a>,
    agent: Agent,
    base: Url,
    secret: Option<Hidden>,
}

impl Service<'_> {
    /// Every resource of a list, page by page. Whether there is one: a service need not have groups.
    fn all(
        &mut self,
        list: &str,
        take: &mut dyn FnMut(Map<String, Value>) -> Result<(), Failed>,
    ) -> Result<bool, Failed> {
        let page = self.import.page.unwrap_or(PAGE);
        let (mut came, mut said) = (0u64, None);
        loop {
            let Some(body) = self.page(list, came + 1, page)? else {
                return if list == "Groups" && came == 0 {
                    Ok(false)
                } else {
                    Err(Failed::new(format!("the service has no `{list}`")))
                };
            };
            let answer =
                object(&body, Keys::Caseless).map_err(|e| Failed::new(format!("`{list}` gives no SCIM: {e}")))?;
            let total = get(&answer, "totalResults").and_then(Value::as_u64);
            let total = total.ok_or_else(|| Failed::new(format!("`{list}` does not say how many there are")))?;
            if said.is_some_and(|said| said != total) {
                return Err(Failed::new(format!(
                    "`{list}` said there are {}, and now {total}: it changes while it is read",
                    said.unwrap_or(0)
                )));
            }
            said = Some(total);
            let resources = match get(&answer, "Resources") {
                None | Some(Value::Null) => Vec::new(),
                Some(Value::Array(resources)) => resources.clone(),
                Some(_) => return Err(Failed::new(format!("`{list}` gives no list"))),
            };
            let number = resources.len() as u64;
            for resource in resources {
                let Value::Object(resource) = resource else {
                    return Err(Failed::new(format!("`{list}` gives something that is no resource")));
                };
                take(resource)?;
            }
            came += number;
            if came > total || (number == 0 && came < total) {
                return Err(Failed::new(format!("`{list}` says there are {total}, and gave {came}")));
            }
            if came == total {
                return Ok(true);
            }
        }
    }

    /// One page, as text; none where there is no such list.
    fn page(&mut self, list: &str, start: u64, count: u64) -> Result<Option<String>, Failed> {
        let mut address = self.base.clone();
        address
            .path_segments_mut()
            .map_err(|()| Failed::new("it is no address of a service"))?
            .pop_if_empty()
            .push(list);
        address
            .query_pairs_mut()
            .append_pair("startIndex", &start.to_string())
            .append_pair("count", &count.to_string());
        let until = Instant::now() + Duration::from_secs(self.import.wait.unwrap_or(WAIT));
        let mut renewed = false;
        let mut tries = 0;
        loop {
            let mut request =
                self.agent.get(address.as_str()).header(header::ACCEPT, "application/scim+json, application/json");
            if let Some(secret) = &self.secret {
                request = request.header(header::AUTHORIZATION, format!("Bearer {}", secret.reveal()));
            }
            let response = request.call().map_err(|e| Failed::new(format!("`{list}` cannot be read: {}", said(&e))))?;
            match response.status().as_u16() {
                200 => return body(response, list).map(Some),
                404 => return Ok(None),
                // The secret may have been renewed where it is kept.
                401 if !renewed => {
                    renewed = true;
                    let again = secret_of(self.import, self.asking)?;
                    if again.as_ref().map(Hidden::reveal) == self.secret.as_ref().map(Hidden::reveal) {
                        return Err(Failed::new("the service does not take the secret, or does not take it any more"));
                    }
                    self.secret = again;
                }
                401 | 403 => return Err(Failed::new("the service does not let this secret read")),
                300..=399 => {
                    let place = http::elsewhere(&response);
                    return Err(Failed::new(format!(
                        "`{list}` sends to `{place}`, which was not asked: write the address that is meant"
                    )));
                }
                status @ (429 | 503) => {
                    tries += 1;
                    let wait = http::retry_after(&response).unwrap_or(Duration::from_secs(1 << tries.min(5)));
                    if tries >= MOST_TRIES || Instant::now() + wait > until {
                        return Err(Failed::new(format!(
                            "the service is busy (status {status}), longer than is waited for: set `wait` higher"
                        )));
                    }
                    std::thread::sleep(wait);
                }
                status => return Err(Failed::new(format!("`{list}` cannot be read: status {status}"))),
            }
        }
    }
}

fn body(response: Response<Body>, list: &str) -> Result<String, Failed> {
    let bytes = http::body(response, LONGEST).map_err(|cut| match cut {
        Cut::TooLong => Failed::new(format!("`{list}` gives more than {} MiB at a time", LONGEST >> 20)),
        Cut::Broken(why) => Failed::new(format!("`{list}` broke off: {why}")),
    })?;
    String::from_utf8(bytes).map_err(|_| Failed::new(format!("`{list}` gives no text")))
}

/// Keys are compared without case (RFC 7643, 2.1).
fn get<'v>(object: &'v Map<String, Value>, key: &str) -> Option<&'v Value> {
    object.get(key).or_else(|| object.iter().find(|(name, _)| name.eq_ignore_ascii_case(key)).map(|(_, value)| value))
}

fn text_of(object: &Map<String, Value>, key: &str) -> Option<String> {
    match get(object, key)? {
        Value::String(text) if !text.is_empty() => Some(text.clone()),
        _ => None,
    }
}

/// What is kept of a resource: attributes by their lower names, and of those of an extension, which parts.
struct Kept {
    whole: BTreeSet<String>,
    parts: BTreeMap<String, BTreeSet<String>>,
}

impl Kept {
    fn of(import: &Import, asking: &Asking) -> Result<Kept, Failed> {
        let mut kept = Kept { whole: ALWAYS.iter().map(|name| name.to_lowercase()).collect(), parts: BTreeMap::new() };
        let manifest = asking.manifest;
        let sources = manifest.people.iter().chain(&manifest.groups).filter(|source| source.names(&import.into.text));
        for source in sources {
            let mapped = source.attributes.iter().map(|(theirs, _)| theirs);
            let names = mapped.chain(source.active.iter().map(|rule| &rule.attribute.text));
            for name in names.chain(source.group_id.iter().map(|id| &id.text)) {
                kept.name(name)?;
            }
        }
        Ok(kept)
    }

    fn name(&mut self, name: &str) -> Result<(), Failed> {
        let lower = name.to_lowercase();
        if lower.contains("password") {
            return Err(Failed::new(format!("`{name}` is a secret of somebody: it is never read")));
        }
        // The name of an extension holds dots and colons itself: what is behind its last colon is the attribute's.
        let plain = lower.split('[').next().unwrap_or_default();
        let begins = plain.rfind(':').map_or(0, |at| at + 1);
        match plain[begins..].split_once('.') {
            Some((_, rest)) if begins > 0 => {
                let extension = plain[..plain.len() - rest.len() - 1].to_string();
                let part = rest.split('.').next().unwrap_or_default().to_string();
                self.parts.entry(extension).or_default().insert(part);
            }
            Some((top, _)) => {
                self.whole.insert(top.to_string());
            }
            None => {
                self.whole.insert(plain.to_string());
            }
        }
        Ok(())
    }

    fn of_resource(&self, resource: &Map<String, Value>, schema: &str) -> Value {
        let mut out = BTreeMap::new();
        if get(resource, "schemas").is_none() {
            out.insert("schemas".to_string(), Value::Array(vec![Value::String(schema.to_string())]));
        }
        for (key, value) in resource {
            let lower = key.to_lowercase();
            if lower == "members" {
                out.insert(key.clone(), sorted(&members(value)));
            } else if self.whole.contains(&lower) {
                out.insert(key.clone(), sorted(value));
            } else if let (Some(parts), Value::Object(inner)) = (self.parts.get(&lower), value) {
                let inner: Map<String, Value> = inner
                    .iter()
                    .filter(|(part, _)| parts.contains(&part.to_lowercase()))
                    .map(|(k, v)| (k.clone(), sorted(v)))
                    .collect();
                out.insert(key.clone(), sorted(&Value::Object(inner)));
            }
        }
        Value::Object(out.into_iter().collect())
    }
}

/// Members by what tells them: what they are called is said where they stand themselves, and their addresses are not asked.
fn members(value: &Value) -> Value {
    let plain = |member: &Value| match member {
        Value::Object(member) => {
            let kept =
                member.iter().filter(|(key, _)| ["value", "type"].iter().any(|kept| key.eq_ignore_ascii_case(kept)));
            Value::Object(kept.map(|(key, value)| (key.clone(), value.clone())).collect())
        }
        other => other.clone(),
    };
    match value {
        Value::Array(list) => Value::Array(list.iter().map(plain).collect()),
        other => other.clone(),
    }
}

/// The same value in an order that does not change: keys, and the members of a list.
fn sorted(value: &Value) -> Value {
    match value {
        Value::Object(inner) => {
            let ordered: BTreeMap<&String, Value> = inner.iter().map(|(key, value)| (key, sorted(value))).collect();
            Value::Object(ordered.into_iter().map(|(key, value)| (key.clone(), value)).collect())
        }
        Value::Array(list) => {
            let mut list: Vec<Value> = list.iter().map(sorted).collect();
            list.sort_by_cached_key(Value::to_string);
            Value::Array(list)
        }
        other => other.clone(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn only_what_is_mapped_is_kept() {
        let mut kept = Kept { whole: ["id".to_string()].into(), parts: BTreeMap::new() };
        let extension = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";
        for name in [&format!("{extension}.department"), "emails[type eq \"work\"].value", "title"] {
            kept.name(name).unwrap();
        }
        assert!(kept.name("Password").is_err());
        let resource = json!({
            "id": "1", "title": "x", "nickName": "y", "password": "z", "meta": {"version": "1"},
            "emails": [{"type": "work", "value": "b"}, {"value": "a", "type": "home"}],
            extension: {"Department": "d", "manager": {"value": "m"}},
        });
        let wanted = json!({
            "emails": [{"type": "home", "value": "a"}, {"type": "work", "value": "b"}],
            "id": "1", "schemas": ["a"], "title": "x", extension: {"Department": "d"},
        });
        assert_eq!(kept.of_resource(resource.as_object().unwrap(), "a"), wanted);
    }
}
