//! `[storage]`: where parts of a catalog lie that are objects in buckets, and no files.

use super::{Manifest, Reader};
use crate::text::Placed;
use bastide_net::objects::{Address, SCHEME, Settings};
use bastide_net::secret::Secret;
use bastide_syntax::{Diagnostic, Span, codes, visible};
use toml::Spanned;
use toml::de::DeValue;

/// The `[storage]` of a manifest.
#[derive(Clone, Debug)]
pub struct ObjectStorage {
    /// Where it says so.
    pub span: Span,
    /// What it says.
    pub settings: Settings,
}

const KEYS: &[&str] = &["at", "region", "buckets", "id", "secret", "token", "authority", "wait", "clear"];

impl Reader<'_> {
    pub(super) fn storage(&mut self, value: &Spanned<DeValue>) -> Option<ObjectStorage> {
        let table = self.table(value)?;
        let mut settings = Settings::default();
        let mut at: Option<Placed> = None;
        for (key, value) in self.entries(table, KEYS) {
            match key.get_ref().as_ref() {
                "at" => at = self.text(value),
                "region" => settings.region = self.text(value).map(|t| t.text).unwrap_or_default(),
                "buckets" => match self.text(value) {
                    Some(text) if text.text == "host" => settings.by_host = true,
                    Some(text) if text.text == "path" => {}
                    Some(_) => {
                        self.wrong(value, "expected `\"path\"` or `\"host\"`: where in an address the bucket stands")
                    }
                    None => {}
                },
                "id" => settings.id = self.kept(value),
                "secret" => settings.secret = self.kept(value),
                "token" => settings.token = self.kept(value),
                "authority" => settings.authority = self.text(value).map(|t| t.text),
                "wait" => settings.wait = self.number(value),
                // The last of the keys.
                _ => settings.clear = self.flag(value),
            }
        }
        let span = self.span(value);
        let Some(at) = at else {
            self.out.push(Diagnostic::at(&codes::MANIFEST, span, "a `[storage]` that does not say `at` which address"));
            return None;
        };
        self.no_secret_in(&at);
        settings.at = at.text;
        if settings.id.is_some() != settings.secret.is_some() || (settings.token.is_some() && settings.id.is_none()) {
            let message = "`id` and `secret` belong together, and `token` to both";
            self.out.push(Diagnostic::at(&codes::MANIFEST, span, message));
            return None;
        }
        if settings.id.is_some() && settings.region.is_empty() {
            let message = "a `[storage]` with a key that does not say `region`";
            let help = "requests are signed for a region: the storage's own documentation names it";
            self.out.push(Diagnostic::at(&codes::MANIFEST, span, message).help(help));
            return None;
        }
        Some(ObjectStorage { span, settings })
    }

    /// A secret that is there whenever the estate is read, by whatever program.
    fn kept(&mut self, value: &Spanned<DeValue>) -> Option<Secret> {
        let secret = self.secret(value)?;
        if secret == Secret::Ask {
            self.wrong(
                value,
                "nobody can be asked whenever the estate is read: write `\"env:NAME\"` or `\"file:PATH\"`",
            );
            return None;
        }
        Some(secret)
    }

    /// Addresses of objects stand where they are read, and nowhere else: sources that have one elsewhere are told, and left out.
    pub(super) fn addresses(&mut self, manifest: &mut Manifest) {
        let mut is_file = |file: &Placed| {
            let is_file = !file.text.starts_with(SCHEME);
            if !is_file {
                let message = "only a catalog in parts is read from object storage";
                self.out.push(Diagnostic::at(&codes::MANIFEST, file.span, message));
            }
            is_file
        };
        let Manifest { people, groups, entries, sessions, usage, policy, insides, .. } = manifest;
        for sources in [people, groups, entries, sessions, usage] {
            sources.retain(|source| is_file(&source.file));
        }
        policy.retain(&mut is_file);
        insides.retain(|inside| is_file(&inside.data.file));
        let storage = manifest.storage.is_some();
        manifest.catalog.retain(|source| {
            let file = &source.file;
            if !file.text.starts_with(SCHEME) {
                return true;
            }
            let problem = match Address::of(&file.text) {
                None => Some("it says no key".to_string()),
                Some(address) => address.problem().map(str::to_string),
            };
            let problem = match problem {
                Some(problem) => format!("`{}` is no address of objects: {problem}", visible(&file.text)),
                None if !source.parts => "objects are parts of a catalog: write `parts = true`".to_string(),
                None if !storage => "no `[storage]` says where the bucket is".to_string(),
                None => return true,
            };
            let help = "an address of objects is `s3://BUCKET/KEY`; in the key a pattern may stand, as in `s3://catalog/part-*.parquet`";
            self.out.push(Diagnostic::at(&codes::MANIFEST, file.span, problem).help(help));
            false
        });
    }
}
