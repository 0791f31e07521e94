//! What an estate declares: kinds, actions, types, attributes and roles.

use crate::ids::*;
use crate::tidy::{shown, uncomparable};
use crate::value::Value;
use bastide_syntax::Span;
use fixedbitset::FixedBitSet;
use jiff::civil::Date;
use rust_decimal::Decimal;
use std::borrow::Cow;

/// All declarations.
#[derive(Clone, Default, Debug)]
pub struct Schema {
    /// Kinds, in the order of declaration.
    pub kinds: Vec<Kind>,
    /// Actions, in the order of declaration (files in path order).
    pub actions: Vec<Action>,
    /// Choices and scales.
    pub types: Vec<NamedType>,
    /// Attributes of users.
    pub user_attributes: Vec<Attribute>,
    /// Attributes of resources.
    pub resource_attributes: Vec<Attribute>,
    /// Attributes of the session.
    pub session_attributes: Vec<Attribute>,
    /// Roles.
    pub roles: Vec<Role>,
    /// The attribute of users that holds the ids of all groups they are in, where there is one.
    pub member_of: Option<UserAttributeId>,
    /// The session attributes that are told for each user, in order.
    pub sign_ins: Vec<SessionAttributeId>,
}

/// A kind of resource.
#[derive(Clone, Debug)]
pub struct Kind {
    /// Its name.
    pub name: String,
    /// The kinds that may contain it, its base's where it names none; empty for a root.
    pub containers: Vec<KindId>,
    /// Itself and every kind it is a sub-kind of, in turn.
    pub is: Vec<KindId>,
    /// Where its name is declared.
    pub span: Span,
}

/// An action.
#[derive(Clone, Debug)]
pub struct Action {
    /// Its name.
    pub name: String,
    /// The kinds it is meaningful for; none: every kind.
    pub on: Option<Vec<KindId>>,
    /// What it needs.
    pub needs: Vec<Need>,
    /// Where its name is declared.
    pub span: Span,
}

/// One need of an action.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Need {
    /// The action needed.
    pub action: ActionId,
    /// Where.
    pub target: Target,
}

/// Where a need or a `holds` looks.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Target {
    /// The resource itself.
    Own,
    /// Its parent.
    Parent,
    /// Every source of it.
    Source,
    /// The nearest resource of a kind strictly above it.
    Kind(KindId),
}

/// A choice or a scale.
#[derive(Clone, Debug)]
pub struct NamedType {
    /// Its name.
    pub name: String,
    /// Whether its values are ordered.
    pub scale: bool,
    /// Its values, lowest first in a scale.
    pub values: Vec<String>,
    /// Where its name is declared.
    pub span: Span,
}

/// The type of a single value.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Scalar {
    /// Any text.
    Text,
    /// A decimal number.
    Number,
    /// A day.
    Date,
    /// Yes or no.
    Flag,
    /// A choice or a scale.
    Named(TypeId),
    /// A kind of resource (`resource.kind`).
    Kind,
    /// `person`, `guest` or `service` (`user.kind`).
    UserKind,
    /// A state, where the estate declares no type of that name.
    State,
}

/// How an attribute's value travels down the tree and along sources.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Travel {
    /// Not at all.
    Stays,
    /// From the parent, where there is none of its own.
    Inherit,
    /// The greatest of its own, the parent's and the sources'.
    Highest,
}

/// An attribute of one domain.
#[derive(Clone, Debug)]
pub struct Attribute {
    /// Its name.
    pub name: String,
    /// The type of its value or of its elements.
    pub scalar: Scalar,
    /// Whether it holds a set.
    pub set: bool,
    /// The kinds that have it; none: all (always none for users and sessions).
    pub kinds: Option<Vec<KindId>>,
    /// The default.
    pub default: Option<Value>,
    /// How it travels (resources only).
    pub travel: Travel,
    /// Whether a missing value is a load error.
    pub required: bool,
    /// Whether its text is compared without case.
    pub caseless: bool,
    /// Where its name is declared.
    pub span: Span,
}

/// A named list of actions.
#[derive(Clone, Debug)]
pub struct Role {
    /// Its name.
    pub name: String,
    /// Its actions, those of its roles included; empty where it is off.
    pub actions: FixedBitSet,
    /// Built in, not to be changed.
    pub locked: bool,
    /// Switched off.
    pub off: bool,
    /// Where its name is declared.
    pub span: Span,
}

/// Users' kinds, the default first.
pub const USER_KINDS: [&str; 3] = ["person", "guest", "service"];

/// Columns and fields that every estate has; no attribute may be named like one of them.
pub const PEOPLE_COLUMNS: [&str; 5] = ["id", "name", "kind", "active", "realm"];
/// See [`PEOPLE_COLUMNS`].
pub const CATALOG_COLUMNS: [&str; 8] = ["id", "parent", "kind", "name", "owner", "state", "inherits", "sources"];

macro_rules! finders {
    ($($find:ident $table:ident $id:ident $what:literal;)*) => {$(
        #[doc = concat!("The ", $what, " of a name.")]
        pub fn $find(&self, name: &str) -> Option<$id> {
            self.$table.iter().position(|entry| entry.name == name).map($id::new)
        }
    )*};
}

impl Schema {
    finders! {
        kind kinds KindId "kind";
        action actions ActionId "action";
        named_type types TypeId "type";
        role roles RoleId "role";
        user_attribute user_attributes UserAttributeId "user attribute";
        resource_attribute resource_attributes ResourceAttributeId "resource attribute";
        session_attribute session_attributes SessionAttributeId "session attribute";
    }

    /// Whether a kind is another, or a sub-kind of it.
    pub fn is_kind(&self, kind: KindId, of: KindId) -> bool {
        self.kinds[kind.index()].is.contains(&of)
    }

    /// Whether a kind is one of a list, or a sub-kind of one; no list: always.
    pub fn is_any(&self, kind: KindId, list: Option<&[KindId]>) -> bool {
        list.is_none_or(|list| list.iter().any(|of| self.is_kind(kind, *of)))
    }

    /// Whether an action is meaningful for a kind.
    pub fn fits(&self, action: ActionId, kind: KindId) -> bool {
        self.is_any(kind, self.actions[action.index()].on.as_deref())
    }

    /// The type of `resource.state`.
    pub fn state_type(&self) -> Scalar {
        self.named_type("state").map_or(Scalar::State, Scalar::Named)
    }

    /// A type as the language names it.
    pub fn type_name(&self, scalar: Scalar) -> String {
        match scalar {
            Scalar::Text => "text".into(),
            Scalar::Number => "number".into(),
            Scalar::Date => "date".into(),
            Scalar::Flag => "flag".into(),
            Scalar::Named(id) => self.types[id.index()].name.clone(),
            Scalar::Kind => "a kind".into(),
            Scalar::UserKind => "a user's kind".into(),
            Scalar::State => "a state".into(),
        }
    }

    /// The type of an attribute as the language writes it.
    pub fn attribute_type(&self, attribute: &Attribute) -> String {
        let name = self.type_name(attribute.scalar);
        if attribute.set { format!("set of {name}") } else { name }
    }

    /// A value as people write it.
    pub fn show(&self, value: &Value) -> String {
        match value {
            Value::Text(text) => text.to_string(),
            Value::Number(number) => number.normalize().to_string(),
            Value::Date(date) => date.to_string(),
            Value::Flag(flag) => if *flag { "yes" } else { "no" }.to_string(),
            Value::Step(of, step) => self.types[of.index()].values[*step as usize].clone(),
            Value::Set(elements) => elements.iter().map(|e| self.show(e)).collect::<Vec<_>>().join(";"),
        }
    }

    /// Reads a single value of a type from a cell of a data file.
    ///
    /// # Errors
    /// What was expected and what was found, with the nearest value of a choice or scale.
    pub fn read(&self, scalar: Scalar, text: &str) -> Result<Value, String> {
        let wrong = |expected: &str| Err(format!("expected {expected}, found `{text}`"));
        match scalar {
            Scalar::Text | Scalar::State => match uncomparable(text) {
                None => Ok(Value::Text(text.into())),
                Some(why) => Err(format!("`{}` would not be equal to what looks like it: {why}", shown(text))),
            },
            Scalar::Number => match Decimal::from_str_exact(text) {
                Ok(number) => Ok(Value::Number(number.normalize())),
                Err(rust_decimal::Error::Underflow | rust_decimal::Error::ExceedsMaximumPossibleValue) => {
                    Err(format!("the number `{text}` cannot be held exactly: it has more than 28 digits"))
                }
                Err(_) => wrong("a number"),
            },
            Scalar::Date => match read_date(text) {
                Some(date) => Ok(Value::Date(date)),
                None => wrong("a date such as `2027-06-30`"),
            },
            Scalar::Flag => match read_flag(text) {
                Some(flag) => Ok(Value::Flag(flag)),
                None => wrong("`yes` or `no`"),
            },
            Scalar::Named(id) => self.step(id, text).ok_or_else(|| {
                let of = &self.types[id.index()];
                let values: Vec<&str> = of.values.iter().map(String::as_str).collect();
                let near = bastide_syntax::nearest::nearest(text, values.iter().copied());
                let near = near.map_or(String::new(), |n| format!("; did you mean `{n}`?"));
                format!("`{text}` is no value of type `{}` ({}){near}", of.name, values.join(", "))
            }),
            Scalar::UserKind if USER_KINDS.contains(&text) => Ok(Value::Text(text.into())),
            Scalar::UserKind => wrong("`person`, `guest` or `service`"),
            Scalar::Kind => wrong("no kind here"),
        }
    }

    /// The value of a choice or scale by its name.
    pub fn step(&self, id: TypeId, name: &str) -> Option<Value> {
        let step = self.types[id.index()].values.iter().position(|v| v == name)?;
        Some(Value::Step(id, step as u16))
    }

    /// Reads a cell for an attribute: a single value, or elements joined by `;` (`\;` for one inside).
    ///
    /// # Errors
    /// As [`Schema::read`].
    pub fn read_cell(&self, attribute: &Attribute, text: &str) -> Result<Value, String> {
        if !attribute.set {
            return self.read(attribute.scalar, text);
        }
        let elements: Result<Vec<Value>, String> =
            split_set(text).iter().map(|e| self.read(attribute.scalar, e)).collect();
        elements.map(Value::set)
    }
}

/// A day in the form of ISO 8601, year, month and day.
pub fn read_date(text: &str) -> Option<Date> {
    let shape = text.len() == 10
        && text.bytes().enumerate().all(|(i, b)| if i == 4 || i == 7 { b == b'-' } else { b.is_ascii_digit() });
    if shape { text.parse().ok() } else { None }
}

/// `yes`/`no`, `true`/`false`, `1`/`0`.
pub fn read_flag(text: &str) -> Option<bool> {
    match text {
        "yes" | "true" | "1" => Some(true),
        "no" | "false" | "0" => Some(false),
        _ => None,
    }
}

/// The elements of a set cell: joined by `;`, blanks around them dropped, empty ones left out; `\;`
/// is a semicolon and `\\` a backslash inside an element.
pub fn split_set(text: &str) -> Vec<String> {
    elements_of(text).map(Cow::into_owned).collect()
}

/// The same, one after the other.
pub fn elements_of(text: &str) -> impl Iterator<Item = Cow<'_, str>> {
    let plain = !text.contains('\\');
    let mut rest = Some(text);
    let next = move || {
        let text = rest?;
        if plain {
            let (element, after) = text.split_once(';').map_or((text, None), |(element, after)| (element, Some(after)));
            rest = after;
            return Some(Cow::Borrowed(element.trim()));
        }
        let (mut element, mut chars) = (String::new(), text.char_indices().peekable());
        rest = None;
        while let Some((at, c)) = chars.next() {
            match c {
                '\\' if matches!(chars.peek(), Some((_, ';' | '\\'))) => element.extend(chars.next().map(|(_, c)| c)),
                ';' => {
                    rest = Some(&text[at + 1..]);
                    break;
                }
                c => element.push(c),
            }
        }
        Some(Cow::Owned(element.trim().to_string()))
    };
    std::iter::from_fn(next).filter(|element| !element.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_split_at_semicolons_unless_quoted() {
        assert_eq!(split_set(r"a; b\;c ;;d\\"), ["a", "b;c", r"d\"]);
        assert!(split_set(" ; ").is_empty());
    }

    #[test]
    fn cells_are_read_by_type() {
        let schema = Schema::default();
        assert!(schema.read(Scalar::Date, "2027-02-30").is_err());
        assert!(schema.read(Scalar::Date, "20270228").is_err());
        assert_eq!(schema.read(Scalar::Number, "2.50"), schema.read(Scalar::Number, "2.5"));
        assert_eq!(schema.read(Scalar::Flag, "maybe"), Err("expected `yes` or `no`, found `maybe`".into()));
    }
}
