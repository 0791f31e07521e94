//! What the audit goes by: the estate, the moment, levels and limits.

use crate::Level;
use crate::Triple;
use bastide_model::condition::Term;
use bastide_model::*;
use bastide_syntax::Diagnostic;
use bastide_syntax::nearest::nearest;
use hashbrown::HashMap;

/// Everything a check may ask for, access aside.
pub struct Case<'e> {
    /// The estate.
    pub estate: &'e Estate,
    /// The moment it is audited for.
    pub moment: &'e Moment,
    /// Actions that do no harm.
    pub harmless: Vec<String>,
    /// Limits.
    pub limits: Limits,
    /// Levels by name of the finding.
    pub levels: Vec<(String, Level)>,
    /// What reading the estate had to say.
    pub diagnostics: &'e [Diagnostic],
    /// The line of each diagnostic's place.
    pub lines: Vec<Option<Origin>>,
    /// Who did what in the window, as far as users and resources are still there; none without usage data.
    pub used: Option<Vec<Triple>>,
}

macro_rules! limits {
    ($($(#[$about:meta])* $field:ident, $name:literal, $value:expr;)*) => {
        /// Numbers beyond which something is reported.
        #[derive(Clone, Debug)]
        pub struct Limits {
            $($(#[$about])* pub $field: f64,)*
        }

        impl Default for Limits {
            fn default() -> Self {
                Limits { $($field: $value,)* }
            }
        }

        impl Limits {
            /// The names in the manifest, with what they are by default.
            pub const NAMES: &'static [(&'static str, f64)] = &[$(($name, $value)),*];

            fn field(&mut self, name: &str) -> Option<&mut f64> {
                match name {
                    $($name => Some(&mut self.$field),)*
                    _ => None,
                }
            }
        }
    };
}

limits! {
    /// Share of all users beyond which a reach is wide.
    wide_users, "wide-share-of-users", 0.25;
    /// Share of all resources beyond which a reach is wide.
    wide_resources, "wide-share-of-resources", 0.25;
    /// Users with full power beyond which it is an error.
    full_power, "full-power-users", 8.0;
    /// Share of all users beyond which a change reaches far.
    far_users, "far-share-of-users", 0.25;
    /// Share of all resources beyond which a change reaches far.
    far_resources, "far-share-of-resources", 0.25;
    /// Users who may read a resource of a high label.
    exposure_users, "exposure-users", 25.0;
    /// How many steps from the top of a scale make a label high.
    exposure_steps, "exposure-steps", 1.0;
    /// Share of what a permission speaks of that barriers may keep from its users.
    cut_off, "cut-off-share", 0.25;
    /// Days for which usage is looked at.
    usage_days, "usage-days", 90.0;
    /// Places into which what was used of a wide grant must fit.
    usage_places, "usage-places", 3.0;
    /// Days before the end of a statement from which it is told.
    ending_days, "ending-days", 45.0;
    /// Share of all active users of whom a condition is true that chooses nobody.
    nearly_everybody, "nearly-everybody", 0.95;
    /// Years from which on an end is far.
    far_end_years, "far-end-years", 10.0;
    /// Names in a list that one pattern could replace.
    listed, "listed-by-name", 3.0;
    /// Users who hold the same singly.
    singly, "person-by-person", 3.0;
    /// Users with temporary power beyond which it is no longer one or two.
    temporary_users, "temporary-users", 2.0;
}

/// A number with its noun.
pub(crate) fn many(number: u64, noun: &str) -> String {
    let plural = match noun {
        noun if noun.ends_with('y') => format!("{}ies", &noun[..noun.len() - 1]),
        noun => format!("{noun}s"),
    };
    format!("{number} {}", if number == 1 { noun } else { &plural })
}

impl Limits {
    /// Sets a limit by its name in the manifest.
    ///
    /// # Errors
    /// There is no such limit; the nearest one.
    pub fn set(&mut self, name: &str, value: f64) -> Result<(), Option<&'static str>> {
        match self.field(name) {
            Some(limit) => {
                *limit = value;
                Ok(())
            }
            None => Err(nearest(name, Limits::NAMES.iter().map(|(n, _)| *n))),
        }
    }
}

impl Case<'_> {
    /// The level that the manifest sets for a finding.
    pub fn level(&self, name: &str) -> Option<Level> {
        self.levels.iter().rev().find(|(n, _)| n == name).map(|(_, level)| *level)
    }

    /// The action by which things are read: the first that is harmless.
    pub fn reading(&self) -> Option<ActionId> {
        ActionId::all(self.estate.schema().actions.len()).find(|action| self.is_harmless(*action))
    }

    /// Whether an action is harmless.
    pub fn is_harmless(&self, action: ActionId) -> bool {
        self.harmless.contains(&self.estate.schema().actions[action.index()].name)
    }

    /// Whether a statement speaks of more than harmless actions.
    pub fn is_harmful(&self, statement: &Statement) -> bool {
        statement.actions.ones().any(|a| !self.is_harmless(ActionId::new(a)))
    }

    /// The names of a statement's actions, or of the first few.
    pub fn actions(&self, statement: &Statement) -> String {
        let names: Vec<&str> =
            statement.actions.ones().map(|a| self.estate.schema().actions[a].name.as_str()).collect();
        if names.len() > 5 {
            format!("{} and {} more", names[..4].join(", "), names.len() - 4)
        } else {
            names.join(", ")
        }
    }

    /// A name of a statement that stays the same when lines move.
    pub fn stable_name(&self, id: StatementId) -> String {
        let statement = self.estate.statement(id);
        match statement.sort {
            statement::Sort::Rule => statement.name.clone(),
            statement::Sort::Entry => bastide_engine::review::key(self.estate, id),
        }
    }

    /// How a statement is named in a sentence.
    pub fn named(&self, id: StatementId) -> String {
        let statement = self.estate.statement(id);
        match statement.sort {
            statement::Sort::Rule => format!("rule `{}`", statement.name),
            statement::Sort::Entry => format!("entry `{}`", statement.name),
        }
    }

    /// Statements in force by a group that they name, in policy order.
    pub(crate) fn by_group(&self) -> HashMap<GroupId, Vec<StatementId>> {
        self.by(|term| if let Term::Members(group) = term { Some(*group) } else { None })
    }

    /// Statements in force by a user whom they name, in policy order.
    pub(crate) fn by_user(&self) -> HashMap<UserId, Vec<StatementId>> {
        self.by(|term| if let Term::User(user) = term { Some(*user) } else { None })
    }

    fn by<K: Eq + std::hash::Hash>(&self, key: impl Fn(&Term) -> Option<K>) -> HashMap<K, Vec<StatementId>> {
        let mut found: HashMap<K, Vec<StatementId>> = HashMap::new();
        for (id, statement) in self.live() {
            for key in statement.who.terms.iter().filter_map(&key) {
                let list = found.entry(key).or_default();
                // A statement may name the same twice.
                if list.last() != Some(&id) {
                    list.push(id);
                }
            }
        }
        found
    }

    /// Statements in force.
    pub fn live(&self) -> impl Iterator<Item = (StatementId, &Statement)> {
        let all = StatementId::all(self.estate.statements().len()).map(|id| (id, self.estate.statement(id)));
        all.filter(|(_, s)| s.is_on() && s.in_date(self.moment.date))
    }
}
