//! The tables that are held whole: people, groups, memberships, rules and entries.

use crate::columns::{attribute_name, attribute_type, attribute_values, days, some_texts, texts};
use crate::ground::{Fault, Held, View};
use bastide_engine::Reason;
use bastide_engine::access::{in_groups, reaches};
use bastide_model::show;
use bastide_model::statement::Sort;
use bastide_model::{Estate, GroupId, Statement, StatementId, UserId};
use datafusion::arrow::array::{
    ArrayRef, BooleanArray, Date32Array, Int64Array, ListBuilder, RecordBatch, StringBuilder,
};
use datafusion::arrow::compute::concat_batches;
use datafusion::arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use datafusion::error::{DataFusionError, Result};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::sync::Arc;

/// A table that is held whole.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, Debug)]
pub enum Small {
    /// People, guests and services.
    Users,
    /// Groups.
    Groups,
    /// Who is in which group, and by which chain.
    Memberships,
    /// Rules and entries.
    Statements,
    /// What each of them reaches.
    Reaches,
}

impl Small {
    /// All, by name.
    pub const ALL: [(&'static str, Small); 5] = [
        ("users", Small::Users),
        ("groups", Small::Groups),
        ("memberships", Small::Memberships),
        ("statements", Small::Statements),
        ("reaches", Small::Reaches),
    ];

    /// The columns.
    pub fn schema(self, estate: &Estate) -> SchemaRef {
        let list = DataType::List(Arc::new(Field::new_list_field(DataType::Utf8, true)));
        let field = |(name, of, nullable): &(&str, DataType, bool)| Field::new(*name, of.clone(), *nullable);
        let text = DataType::Utf8;
        let fixed: Vec<(&str, DataType, bool)> = match self {
            Small::Users => vec![
                ("id", text.clone(), false),
                ("name", text.clone(), false),
                ("kind", text.clone(), false),
                ("active", DataType::Boolean, false),
                ("realm", text.clone(), true),
            ],
            Small::Groups => {
                vec![("id", text.clone(), false), ("name", text.clone(), true), ("computed", DataType::Boolean, false)]
            }
            Small::Memberships => vec![
                ("user", text.clone(), false),
                ("of_group", text.clone(), false),
                ("direct", DataType::Boolean, false),
                ("certain", DataType::Boolean, false),
                ("chain", list.clone(), false),
            ],
            Small::Statements => vec![
                ("name", text.clone(), false),
                ("sort", text.clone(), false),
                ("place", text.clone(), false),
                ("modality", text.clone(), false),
                ("actions", list.clone(), false),
                ("who", text.clone(), false),
                ("kinds", list.clone(), true),
                ("places", list, true),
                ("where_clause", text.clone(), true),
                ("while_clause", text.clone(), true),
                ("because", text.clone(), true),
                ("layer", text.clone(), true),
                ("first_day", DataType::Date32, true),
                ("last_day", DataType::Date32, true),
                ("is_on", DataType::Boolean, false),
            ],
            Small::Reaches => vec![
                ("statement", text, false),
                ("users", DataType::Int64, false),
                ("guests", DataType::Int64, false),
                ("resources", DataType::Int64, false),
                ("triples", DataType::Int64, false),
                ("undecided", DataType::Int64, false),
            ],
        };
        let mut fields: Vec<Field> = fixed.iter().map(field).collect();
        if self == Small::Users {
            let own: Vec<&str> = fixed.iter().map(|(name, ..)| *name).collect();
            fields.extend(
                estate.schema().user_attributes.iter().map(|attribute| {
                    Field::new(attribute_name(&own, &attribute.name), attribute_type(attribute), true)
                }),
            );
        }
        Arc::new(Schema::new(fields))
    }

    /// The rows.
    ///
    /// # Errors
    /// A part of the catalog cannot be read, or the table is not there for a catalog in parts.
    pub fn rows(self, held: &Held) -> Result<RecordBatch> {
        let (estate, schema) = (held.estate(), self.schema(held.estate()));
        match self {
            Small::Users => Ok(RecordBatch::try_new(schema, users(estate))?),
            Small::Groups => Ok(RecordBatch::try_new(schema, groups(estate))?),
            Small::Memberships => Ok(RecordBatch::try_new(schema, memberships(held))?),
            Small::Statements => {
                let mut batches = Vec::new();
                let mut known: HashSet<String> = HashSet::new();
                for unit in held.units(0, 1) {
                    held.visit(&unit, |view: &View| {
                        let estate = view.snapshot.estate();
                        // What all parts share stands in every one.
                        let own: Vec<&Statement> = estate
                            .statements()
                            .iter()
                            .map(|statement| &**statement)
                            .filter(|statement| view.own.is_none() || !known.contains(&statement.name))
                            .collect();
                        if view.own.is_none() {
                            known.extend(own.iter().map(|statement| statement.name.clone()));
                        }
                        batches.push(RecordBatch::try_new(Arc::clone(&schema), statements(estate, &own))?);
                        Ok::<(), DataFusionError>(())
                    })?;
                }
                Ok(concat_batches(&schema, &batches)?)
            }
            Small::Reaches if held.is_in_parts() => Err(Fault::usage(
                "what statements reach is counted over a whole catalog, and this one comes in parts: count rows of `access` \
                 by `statement`",
            )
            .into()),
            Small::Reaches => Ok(RecordBatch::try_new(schema, reached(held))?),
        }
    }
}

fn users(estate: &Estate) -> Vec<ArrayRef> {
    let people = estate.people();
    let all = || people.all();
    let realm = |user: UserId| people.realms().get(user.index()).map(|realm| estate.schema().show(realm));
    let mut columns: Vec<ArrayRef> = vec![
        texts(all().map(|user| people.id(user))),
        texts(all().map(|user| people.name(user))),
        texts(all().map(|user| people.kind(user))),
        Arc::new(all().map(|user| Some(people.is_active(user))).collect::<BooleanArray>()),
        some_texts(all().map(realm)),
    ];
    columns.extend(estate.schema().user_attributes.iter().zip(people.attributes()).map(|(attribute, column)| {
        attribute_values(estate.schema(), attribute, all().map(|user| column.get(user.index())))
    }));
    columns
}

fn groups(estate: &Estate) -> Vec<ArrayRef> {
    let groups = estate.groups();
    let name = |at: usize| Some(groups.name(GroupId::new(at))).filter(|name| !name.is_empty());
    vec![
        texts(groups.all().map(|group| groups.id(group))),
        some_texts(groups.all().map(|group| name(group.index()))),
        Arc::new(groups.all().map(|group| Some(groups.computed(group).is_some())).collect::<BooleanArray>()),
    ]
}

fn memberships(held: &Held) -> Vec<ArrayRef> {
    let (estate, reference) = (held.estate(), held.snapshot().reference());
    let (mut users, mut of) = (Vec::new(), Vec::new());
    let (mut direct, mut certain) = (Vec::new(), Vec::new());
    let mut chains = ListBuilder::new(StringBuilder::new());
    for user in estate.people().all() {
        for group in in_groups(&reference, user) {
            users.push(estate.people().id(user));
            direct.push(group.chain.len() == 1);
            certain.push(group.certain);
            chains.append_value(group.chain.iter().map(Some));
            of.push(group.group);
        }
    }
    vec![
        texts(users.into_iter()),
        texts(of.iter().map(String::as_str)),
        Arc::new(BooleanArray::from(direct)),
        Arc::new(BooleanArray::from(certain)),
        Arc::new(chains.finish()),
    ]
}

fn statements(estate: &Estate, all: &[&Statement]) -> Vec<ArrayRef> {
    let all = || all.iter().copied();
    let lists = |each: &dyn Fn(&Statement) -> Option<Vec<String>>| -> ArrayRef {
        let mut lists = ListBuilder::new(StringBuilder::new());
        all().for_each(|statement| match each(statement) {
            Some(texts) => lists.append_value(texts.iter().map(Some)),
            None => lists.append_null(),
        });
        Arc::new(lists.finish())
    };
    let place = |s: &Statement| {
        let file = estate.files().get(s.origin.file.0 as usize).map_or("", String::as_str);
        format!("{file}:{}", s.origin.line)
    };
    let places: Vec<String> = all().map(place).collect();
    let who: Vec<String> = all().map(|s| show::who(estate, &s.who)).collect();
    let kinds = |s: &Statement| {
        let kinds = s.what.kinds.as_ref()?;
        Some(kinds.iter().map(|kind| estate.schema().kinds[kind.index()].name.clone()).collect())
    };
    let at = |s: &Statement| {
        let places = s.what.places.as_ref()?;
        let told = |place: &bastide_model::statement::Place| {
            format!("{} {}", place.reach.word(), estate.catalog().path(place.resource))
        };
        Some(places.iter().map(told).collect())
    };
    let actions = |s: &Statement| {
        Some(s.actions.ones().map(|action| estate.schema().actions[action].name.clone()).collect::<Vec<_>>())
    };
    vec![
        texts(all().map(|s| s.name.as_str())),
        texts(all().map(|s| if s.sort == Sort::Rule { "rule" } else { "entry" })),
        texts(places.iter().map(String::as_str)),
        texts(all().map(|s| s.modality.words())),
        lists(&actions),
        texts(who.iter().map(String::as_str)),
        lists(&kinds),
        lists(&at),
        some_texts(all().map(|s| s.what.condition.as_ref().map(|condition| show::condition(estate, condition)))),
        some_texts(all().map(|s| s.condition.as_ref().map(|condition| show::condition(estate, condition)))),
        some_texts(all().map(|s| s.because.as_deref())),
        some_texts(all().map(|s| s.layer.map(|layer| estate.layers()[layer.index()].as_str()))),
        Arc::new(all().map(|s| s.from.map(days)).collect::<Date32Array>()),
        Arc::new(all().map(|s| s.until.map(days)).collect::<Date32Array>()),
        Arc::new(all().map(|s| Some(s.is_on())).collect::<BooleanArray>()),
    ]
}

fn reached(held: &Held) -> Vec<ArrayRef> {
    let estate = held.estate();
    let reached = reaches(held.snapshot());
    let numbers = |each: fn(&bastide_engine::access::Reaches) -> u64| -> ArrayRef {
        Arc::new(reached.iter().map(|reaches| Some(each(reaches) as i64)).collect::<Int64Array>())
    };
    vec![
        texts(StatementId::all(estate.statements().len()).map(|id| estate.statement(id).name.as_str())),
        numbers(|reaches| reaches.users as u64),
        numbers(|reaches| reaches.guests as u64),
        numbers(|reaches| reaches.resources as u64),
        numbers(|reaches| reaches.triples),
        numbers(|reaches| reaches.undecided),
    ]
}

/// The column that says how many rows are alike. A question that has a column of this name is left as it is.
pub const ROWS: &str = "rows alike";

/// The columns of `access`.
pub fn access_schema(counted: bool) -> SchemaRef {
    let field = |name: &str| Field::new(name, DataType::Utf8, name == "statement");
    let names = ["user", "resource", "kind", "action", "decision", "reason", "statement"];
    let mut fields: Vec<Field> = names.into_iter().map(field).collect();
    if counted {
        fields.push(Field::new(ROWS, DataType::Int64, false));
    }
    Arc::new(Schema::new(fields))
}

/// `allowed` or `refused`.
pub fn decision_word(allowed: bool) -> &'static str {
    if allowed { "allowed" } else { "refused" }
}

/// Decision and reason of all reasons, in their order.
pub fn reasons() -> (ArrayRef, ArrayRef) {
    let all = || Reason::ALL.into_iter();
    (texts(all().map(|reason| decision_word(reason.is_allowed()))), texts(all().map(Reason::word)))
}
