//! PostgreSQL: the objects of a database as a catalog, its roles as people and groups, its grants as entries.
//!
//! A role with members is a group of itself and of those that inherit from it; whom it means in the end is worked out by
//! following memberships that inherit, as the server does. What a role may do with a table it may do with its columns. What
//! lies in a schema needs `usage` of the schema. Read in one transaction that sees one state.

use crate::ids::{id, name, segment};
use crate::table::Table;
use crate::{Asking, Failed, Fetched, LeftOut, MOST_ROWS, authority, secret_of};
use bastide_formats::manifest::{Counting, Import};
use bastide_formats::sql;
use bastide_net::{is_here, tls};
use postgres::fallible_iterator::FallibleIterator;
use postgres::types::ToSql;
use postgres::{Client, Config, IsolationLevel, NoTls, Row, Transaction};
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use tokio_postgres_rustls::MakeRustlsConnect;

/// How many seconds an answer may take.
const WAIT: u64 = 60;
/// From this version on, whether a membership inherits is said of the membership, not of its member.
const INHERITS_BY_GRANT: i32 = 160_000;
/// Everybody, as the grants to `PUBLIC` mean it. No role is called so: `/` stands in no part of an id.
const EVERYBODY: &str = "database/public";
/// Those to whom nothing is refused.
const SUPERUSERS: &str = "database/superusers";
/// Roles that may do something everywhere without a grant, and what.
const BUILT_IN: [(&str, &[&str]); 3] = [
    ("pg_read_all_data", &["select", "usage"]),
    ("pg_write_all_data", &["insert", "update", "delete", "usage"]),
    ("pg_maintain", &["maintain"]),
];

/// What the kinds, actions and needs of a database are called.
const WORDS: &str = include_str!("database.bastide");

/// A decision of the system itself.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Privilege {
    /// The user's id.
    pub user: String,
    /// The resource's id.
    pub resource: String,
    /// The action.
    pub action: String,
    /// Whether the system allows it.
    pub allowed: bool,
}

pub fn fetch(import: &Import, asking: &Asking, decisions: bool) -> Result<Fetched, Failed> {
    let mut client = connect(import, asking)?;
    let wait = import.wait.unwrap_or(WAIT);
    client.batch_execute(&format!("set statement_timeout = '{wait}s'")).map_err(|e| broken(&e))?;
    let mut transaction = client
        .build_transaction()
        .isolation_level(IsolationLevel::RepeatableRead)
        .read_only(true)
        .start()
        .map_err(|e| broken(&e))?;
    let mut reading = TableReading { most: import.at_most.unwrap_or(MOST_ROWS), rows: 0, left: LeftOut::default() };
    if let Some(counting) = &import.counting {
        let text = count(&mut reading, &mut transaction, counting)?;
        return Ok(Fetched {
            files: [(import.into.text.clone(), text)].into(),
            left: Vec::new(),
            decisions: Vec::new(),
        });
    }
    let schemas: Vec<String> = import.schemas.iter().map(|schema| schema.text.clone()).collect();
    let found = Found::read(&mut reading, &mut transaction, &schemas)?;
    if let Some(missing) =
        schemas.iter().find(|schema| !found.objects.iter().any(|o| o.kind == "schema" && o.names[1] == **schema))
    {
        return Err(Failed::new(format!("the database has no schema `{missing}`")));
    }
    left_out(&mut reading, &mut transaction, &schemas)?;
    let decisions = if decisions { privileges(&mut reading, &mut transaction, import, &schemas)? } else { Vec::new() };
    let into = &import.into.text;
    let mut files = found.files(&import.prefix, into);
    files.insert(format!("{into}/words.bastide"), WORDS.to_string());
    Ok(Fetched { files, left: reading.left.finish(), decisions })
}

/// What is in a table: its columns, then each combination of values that occurs in some of them, and in how many rows.
fn count(reading: &mut TableReading, transaction: &mut Transaction, counting: &Counting) -> Result<String, Failed> {
    let quoted = |parts: &[String]| parts.iter().map(|part| sql::name(part)).collect::<Vec<_>>().join(".");
    let (shown, table) = (counting.table.join("."), quoted(&counting.table));
    let mut columns: Vec<(String, &'static str)> = Vec::new();
    let query = "select a.attname::text, coalesce(b.typname, t.typname)::text, coalesce(b.typcategory, t.typcategory)::text \
         from pg_attribute a join pg_type t on t.oid = a.atttypid left join pg_type b on b.oid = t.typbasetype and t.typtype = 'd' \
         where a.attrelid = to_regclass($1) and a.attnum > 0 and not a.attisdropped order by a.attnum";
    reading.each(transaction, query, &[&table], |row, _| {
        let (kind, category): (String, String) = (row.try_get(1)?, row.try_get(2)?);
        columns.push((row.try_get(0)?, literal(&kind, &category)));
        Ok(())
    })?;
    if columns.is_empty() {
        return Err(Failed::new(format!("the database has no table `{shown}`, or it is not shown to this user")));
    }
    for by in &counting.slices {
        match columns.iter().find(|(name, _)| name == by) {
            None => return Err(Failed::new(format!("table `{shown}` has no column `{by}`"))),
            Some((_, "other")) => {
                return Err(Failed::new(format!(
                    "rows of `{shown}` are not told apart by `{by}`: its values are no texts, exact numbers, days or flags"
                )));
            }
            Some(_) => {}
        }
    }
    let told: Vec<_> = columns.iter().map(|(name, kind)| json!({"name": name, "type": kind})).collect();
    let mut text = format!("{}\n", json!({"columns": told}));
    // Values that the database takes for one are one slice: it is asked to tell them apart, not their texts.
    let by: Vec<String> = counting.slices.iter().map(|name| sql::name(name)).collect();
    let values: Vec<String> = by.iter().map(|column| format!("min({column}::text collate \"C\")")).collect();
    let query = match by.is_empty() {
        true => format!("select array[]::text[], count(*) from {table}"),
        false => format!("select array[{}], count(*) from {table} group by {}", values.join(", "), by.join(", ")),
    };
    let mut slices: Vec<(Vec<Option<String>>, i64)> = Vec::new();
    reading.each(transaction, &query, &[], |row, _| {
        slices.push((row.try_get(0)?, row.try_get(1)?));
        Ok(())
    })?;
    slices.sort_unstable();
    for (values, rows) in slices {
        text.push_str(&format!("{}\n", json!({"values": values, "rows": rows})));
    }
    Ok(text)
}

/// How values of a type are written, by its name and category.
fn literal(kind: &str, category: &str) -> &'static str {
    match (kind, category) {
        ("date", _) => "date",
        ("int2" | "int4" | "int8" | "numeric", _) => "number",
        (_, "B") => "flag",
        (_, "S" | "E") | ("uuid", _) => "text",
        _ => "other",
    }
}

fn connect(import: &Import, asking: &Asking) -> Result<Client, Failed> {
    let from = &import.from.text;
    let mut config: Config = from.parse().map_err(|e| Failed::new(format!("`{from}` is no address: {e}")))?;
    if config.get_user().is_none() {
        return Err(Failed::new("the address does not say as whom to sign in: `postgres://NAME@HOST/DATABASE`"));
    }
    let secret = secret_of(import, asking)?;
    if let Some(secret) = &secret {
        config.password(secret.reveal());
    }
    config.connect_timeout(Duration::from_secs(import.wait.unwrap_or(WAIT))).application_name("bastide import");
    let here = |host: &postgres::config::Host| match host {
        postgres::config::Host::Tcp(host) => is_here(host),
        #[cfg(unix)]
        postgres::config::Host::Unix(_) => true,
    };
    let is_near = config.get_hosts().iter().all(here);
    // On this machine nobody else listens; elsewhere what is sent is secret, and the other end is who it says it is.
    let client = if import.authority.is_none() && (is_near || import.clear) {
        config.ssl_mode(postgres::config::SslMode::Disable).connect(NoTls)
    } else {
        let tls = MakeRustlsConnect::new(std::sync::Arc::unwrap_or_clone(tls::config(authority(import), asking.root)?));
        config.ssl_mode(postgres::config::SslMode::Require).connect(tls)
    };
    client.map_err(|error| Failed::new(format!("`{from}` cannot be reached: {}", said(&error))))
}

fn broken(error: &postgres::Error) -> Failed {
    Failed::new(format!("the database broke off: {}", said(error)))
}

/// What went wrong, with the cause that an error of the library holds.
fn said(error: &postgres::Error) -> String {
    if let Some(error) = error.as_db_error() {
        return error.message().to_string();
    }
    bastide_net::said(error)
}

struct TableReading {
    most: u64,
    rows: u64,
    left: LeftOut,
}

impl TableReading {
    /// Gives every row of a query to `take`.
    fn each(
        &mut self,
        transaction: &mut Transaction,
        query: &str,
        given: &[&(dyn ToSql + Sync)],
        mut take: impl FnMut(&Row, &mut LeftOut) -> Result<(), postgres::Error>,
    ) -> Result<(), Failed> {
        let given: Vec<&dyn ToSql> = given.iter().map(|value| *value as &dyn ToSql).collect();
        let mut rows = transaction.query_raw(query, given).map_err(|e| broken(&e))?;
        while let Some(row) = rows.next().map_err(|e| broken(&e))? {
            self.rows += 1;
            if self.rows > self.most {
                return Err(Failed::new(format!(
                    "it gives more than {} rows; if so many are right, set `at_most`",
                    self.most
                )));
            }
            take(&row, &mut self.left).map_err(|e| broken(&e))?;
        }
        Ok(())
    }
}

/// The schemas that are read: those named, or all but the system's own. `$1` are the names.
const SCHEMAS: &str = "(n.nspname = any($1::text[]) or (cardinality($1::text[]) = 0 and n.nspname !~ '^pg_' and n.nspname <> 'information_schema'))";

/// A role.
struct Role {
    name: String,
    superuser: bool,
    login: bool,
}

/// Something that rights are held on.
struct Object {
    kind: &'static str,
    /// From the database down.
    names: Vec<String>,
    owner: u32,
}

/// A right: who (none: everybody), what, on which object.
type Grant = (Option<u32>, String, usize);

#[derive(Default)]
struct Found {
    roles: BTreeMap<u32, Role>,
    /// By role, those that inherit from it.
    members: BTreeMap<u32, BTreeSet<u32>>,
    objects: Vec<Object>,
    grants: Vec<Grant>,
}

impl Found {
    fn read(reading: &mut TableReading, transaction: &mut Transaction, schemas: &[String]) -> Result<Found, Failed> {
        let mut found = Found::default();
        found.read_roles(reading, transaction)?;
        let database =
            "select d.oid, d.datname::text, d.datdba from pg_database d where d.datname = current_database()";
        let mut numbers: BTreeMap<(u8, u32, i16), usize> = BTreeMap::new();
        let mut put = |objects: &mut Vec<Object>, key, object: Object| {
            numbers.insert(key, objects.len());
            objects.push(object);
        };
        let mut base = String::new();
        let mut owner_of_all = 0;
        reading.each(transaction, database, &[], |row, _| {
            base = row.try_get(1)?;
            owner_of_all = row.try_get(2)?;
            let object = Object { kind: "database", names: vec![base.clone()], owner: owner_of_all };
            put(&mut found.objects, (0, row.try_get(0)?, 0), object);
            Ok(())
        })?;
        let query = format!("select n.oid, n.nspname::text, n.nspowner from pg_namespace n where {SCHEMAS}");
        reading.each(transaction, &query, &[&schemas], |row, _| {
            let names = vec![base.clone(), row.try_get(1)?];
            put(&mut found.objects, (1, row.try_get(0)?, 0), Object { kind: "schema", names, owner: row.try_get(2)? });
            Ok(())
        })?;
        let query = format!(
            "select c.oid, n.nspname::text, c.relname::text, c.relowner, c.relkind in ('v', 'm') from pg_class c \
             join pg_namespace n on n.oid = c.relnamespace where c.relkind in ('r', 'p', 'f', 'v', 'm') and {SCHEMAS}"
        );
        reading.each(transaction, &query, &[&schemas], |row, _| {
            let names = vec![base.clone(), row.try_get(1)?, row.try_get(2)?];
            let kind = if row.try_get(4)? { "view" } else { "table" };
            put(&mut found.objects, (2, row.try_get(0)?, 0), Object { kind, names, owner: row.try_get(3)? });
            Ok(())
        })?;
        let query = format!(
            "select c.oid, a.attnum, n.nspname::text, c.relname::text, a.attname::text, c.relowner from pg_attribute a \
             join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace \
             where a.attnum > 0 and not a.attisdropped and c.relkind in ('r', 'p', 'f', 'v', 'm') and {SCHEMAS}"
        );
        reading.each(transaction, &query, &[&schemas], |row, _| {
            let names = vec![base.clone(), row.try_get(2)?, row.try_get(3)?, row.try_get(4)?];
            put(
                &mut found.objects,
                (3, row.try_get(0)?, row.try_get(1)?),
                Object { kind: "column", names, owner: row.try_get(5)? },
            );
            Ok(())
        })?;
        // What nobody has granted or taken away is as the server begins with; of columns that is nothing.
        let grants = format!(
            "select 0::int4, d.oid, 0::int2, (aclexplode(coalesce(d.datacl, acldefault('d', d.datdba)))).* \
             from pg_database d where d.datname = current_database() \
             union all select 1, n.oid, 0::int2, (aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner)))).* from pg_namespace n where {SCHEMAS} \
             union all select 2, c.oid, 0::int2, (aclexplode(coalesce(c.relacl, acldefault('r', c.relowner)))).* \
             from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind in ('r', 'p', 'f', 'v', 'm') and {SCHEMAS} \
             union all select 3, c.oid, a.attnum, (aclexplode(a.attacl)).* from pg_attribute a join pg_class c on c.oid = a.attrelid \
             join pg_namespace n on n.oid = c.relnamespace \
             where a.attnum > 0 and not a.attisdropped and c.relkind in ('r', 'p', 'f', 'v', 'm') and {SCHEMAS}"
        );
        reading.each(transaction, &grants, &[&schemas], |row, left| {
            let sort: i32 = row.try_get(0)?;
            let (grantee, right, gives_on): (u32, String, bool) = (row.try_get(4)?, row.try_get(5)?, row.try_get(6)?);
            let key = (u8::try_from(sort).unwrap_or(u8::MAX), row.try_get(1)?, row.try_get(2)?);
            if let Some(object) = numbers.get(&key) {
                if gives_on && grantee != found.objects[*object].owner {
                    left.note(
                        "rights to hand a right on",
                        id("", found.objects[*object].names.iter().map(String::as_bytes)),
                    );
                }
                found.grants.push(((grantee != 0).then_some(grantee), right.to_lowercase(), *object));
            }
            Ok(())
        })?;
        // The owner of the database is in this role, whoever that is.
        let owners: Vec<u32> =
            found.roles.iter().filter(|(_, role)| role.name == "pg_database_owner").map(|(oid, _)| *oid).collect();
        for owners in owners {
            found.members.entry(owners).or_default().insert(owner_of_all);
        }
        Ok(found)
    }

    fn read_roles(&mut self, reading: &mut TableReading, transaction: &mut Transaction) -> Result<(), Failed> {
        let mut version = 0;
        reading.each(transaction, "select current_setting('server_version_num')::int4", &[], |row, _| {
            version = row.try_get(0)?;
            Ok(())
        })?;
        let roles = "select oid, rolname::text, rolsuper, rolcanlogin, rolinherit from pg_roles";
        let mut inherits = BTreeMap::new();
        reading.each(transaction, roles, &[], |row, _| {
            let oid = row.try_get(0)?;
            inherits.insert(oid, row.try_get::<_, bool>(4)?);
            self.roles.insert(oid, Role { name: row.try_get(1)?, superuser: row.try_get(2)?, login: row.try_get(3)? });
            Ok(())
        })?;
        let by_grant = version >= INHERITS_BY_GRANT;
        let memberships = match by_grant {
            true => "select roleid, member, inherit_option from pg_auth_members",
            false => "select roleid, member, true from pg_auth_members",
        };
        reading.each(transaction, memberships, &[], |row, left| {
            let (role, member): (u32, u32) = (row.try_get(0)?, row.try_get(1)?);
            if row.try_get(2)? && (by_grant || inherits.get(&member).copied().unwrap_or(false)) {
                self.members.entry(role).or_default().insert(member);
            } else {
                let name = |oid: &u32| self.roles.get(oid).map_or("", |role| role.name.as_str());
                left.note(
                    "memberships that are taken up only by `set role`",
                    format!("{} in {}", name(&member), name(&role)),
                );
            }
            Ok(())
        })
    }

    /// Whether a role stands for somebody; those of the system stand for what is granted by them.
    fn is_somebody(&self, role: u32) -> bool {
        self.roles.get(&role).is_some_and(|role| !role.name.starts_with("pg_"))
    }

    fn files(&self, prefix: &str, into: &str) -> BTreeMap<String, String> {
        let mut people = Table::new(&["id", "name", "kind", "login"]);
        let mut groups = Table::new(&["group", "member"]);
        let mut catalog = Table::new(&["id", "parent", "kind", "name", "owner"]);
        let mut entries = Table::new(&["subject", "modality", "actions", "place", "reach"]);
        let own = |id: &str| format!("{prefix}{id}");
        let role = |oid: u32| own(&segment(self.roles.get(&oid).map_or(b"".as_slice(), |role| role.name.as_bytes())));
        // Who has members is a group; an entry for somebody alone names the user.
        let is_group =
            |oid: u32| !self.is_somebody(oid) || self.members.get(&oid).is_some_and(|members| !members.is_empty());
        let subject =
            |oid: u32| if is_group(oid) { format!("group:{}", role(oid)) } else { format!("user:{}", role(oid)) };
        groups.row([own(EVERYBODY), String::new()]);
        groups.row([own(SUPERUSERS), String::new()]);
        for (oid, about) in &self.roles {
            if self.is_somebody(*oid) {
                let (kind, login) = if about.login { ("person", "yes") } else { ("service", "no") };
                people.row([role(*oid), name(about.name.as_bytes()), kind.to_string(), login.to_string()]);
                groups.row([own(EVERYBODY), role(*oid)]);
                if about.superuser {
                    groups.row([own(SUPERUSERS), role(*oid)]);
                }
            }
            if is_group(*oid) {
                let itself = if self.is_somebody(*oid) { role(*oid) } else { String::new() };
                groups.row([role(*oid), itself]);
                for member in
                    self.members.get(oid).into_iter().flatten().filter(|member| self.roles.contains_key(member))
                {
                    groups.row([role(*oid), subject(*member).trim_start_matches("user:").to_string()]);
                }
            }
        }
        let of = |names: &[String]| id(prefix, names.iter().map(String::as_bytes));
        let mut rights: BTreeMap<(String, String, &str), BTreeSet<&str>> = BTreeMap::new();
        for object in &self.objects {
            let (last, above) = object.names.split_last().expect("an object has a name");
            let parent = if above.is_empty() { String::new() } else { of(above) };
            let owner = if self.is_somebody(object.owner) { role(object.owner) } else { String::new() };
            catalog.row([of(&object.names), parent, object.kind.to_string(), name(last.as_bytes()), owner]);
        }
        for (grantee, right, object) in &self.grants {
            let object = &self.objects[*object];
            // What is granted on a table is granted on its columns; what is granted above is not granted on what lies in it.
            let reach = if matches!(object.kind, "table" | "view") { "under" } else { "at" };
            let who = grantee.map_or_else(|| format!("group:{}", own(EVERYBODY)), &subject);
            rights.entry((who, of(&object.names), reach)).or_default().insert(right);
        }
        let base = self.objects.first().map(|object| of(&object.names)).unwrap_or_default();
        let all = actions();
        rights.entry((format!("group:{}", own(SUPERUSERS)), base.clone(), "under")).or_default().extend(&all);
        for (built_in, actions) in BUILT_IN {
            if let Some((oid, _)) = self.roles.iter().find(|(_, role)| role.name == built_in) {
                rights.entry((subject(*oid), base.clone(), "under")).or_default().extend(actions.iter().copied());
            }
        }
        for ((who, place, reach), actions) in rights {
            let actions: Vec<&str> = actions.into_iter().collect();
            entries.row([who, "may".to_string(), actions.join(";"), place, reach.to_string()]);
        }
        [("people", people), ("groups", groups), ("catalog", catalog), ("entries", entries)]
            .map(|(file, table)| (format!("{into}/{file}.csv"), table.text()))
            .into()
    }
}

/// The actions that the words of a database declare.
fn actions() -> Vec<&'static str> {
    WORDS.lines().filter_map(|line| line.strip_prefix("action ")?.split_whitespace().next()).collect()
}

/// What there is besides, and is not taken along.
fn left_out(reading: &mut TableReading, transaction: &mut Transaction, schemas: &[String]) -> Result<(), Failed> {
    let inside = "join pg_namespace n on n.oid";
    let queries: [(&'static str, String); 6] = [
        ("sequences", format!("select c.relname::text from pg_class c {inside} = c.relnamespace where c.relkind = 'S' and {SCHEMAS}")),
        ("functions and procedures", format!("select p.proname::text from pg_proc p {inside} = p.pronamespace where {SCHEMAS}")),
        (
            "tables with row policies, of which everybody is taken to see every row",
            format!("select c.relname::text from pg_class c {inside} = c.relnamespace where c.relrowsecurity and {SCHEMAS}"),
        ),
        (
            "rights that objects to come will begin with",
            format!(
                "select n.nspname::text from pg_default_acl d left {inside} = d.defaclnamespace where d.defaclnamespace = 0 or {SCHEMAS}"
            ),
        ),
        (
            "other databases of the server",
            "select datname::text from pg_database where datallowconn and datname <> current_database() and cardinality($1::text[]) >= 0"
                .to_string(),
        ),
        (
            "roles that may make other roles, and so give themselves what they want",
            "select rolname::text from pg_roles where rolcreaterole and not rolsuper and cardinality($1::text[]) >= 0".to_string(),
        ),
    ];
    for (what, query) in queries {
        reading.each(transaction, &query, &[&schemas], |row, left| {
            let named: Option<String> = row.try_get(0)?;
            left.note(what, named.unwrap_or_else(|| "everywhere".to_string()));
            Ok(())
        })?;
    }
    Ok(())
}

/// What the server itself says of every role, object and right. In a schema, a right that cannot be used without `usage` of the
/// schema counts with it alone.
fn privileges(
    reading: &mut TableReading,
    transaction: &mut Transaction,
    import: &Import,
    schemas: &[String],
) -> Result<Vec<Privilege>, Failed> {
    let relations = "from pg_class c join pg_namespace n on n.oid = c.relnamespace";
    let kinds = "c.relkind in ('r', 'p', 'f', 'v', 'm')";
    let roles = "pg_roles r";
    let list = |names: &[&str]| names.iter().map(|name| format!("('{name}')")).collect::<Vec<_>>().join(", ");
    let rights = |names: &[&str]| format!("(values {}) p(p)", list(names));
    let mut all: BTreeSet<&str> = actions().into_iter().collect();
    let mut version = 0;
    reading.each(transaction, "select current_setting('server_version_num')::int4", &[], |row, _| {
        version = row.try_get(0)?;
        Ok(())
    })?;
    if version < 170_000 {
        all.remove("maintain");
    }
    let of_tables: Vec<&str> =
        all.iter().copied().filter(|a| !matches!(*a, "connect" | "temporary" | "create" | "usage")).collect();
    let who = "r.rolname !~ '^pg_'";
    let queries = [
        format!(
            "select r.rolname::text, array[current_database()::text], p.p, has_database_privilege(r.oid, current_database(), p.p) \
             from {roles}, {} where {who} and cardinality($1::text[]) >= 0",
            rights(&["connect", "temporary", "create"])
        ),
        format!(
            "select r.rolname::text, array[current_database()::text, n.nspname::text], p.p, has_schema_privilege(r.oid, n.oid, p.p) \
             from {roles}, pg_namespace n, {} where {who} and {SCHEMAS}",
            rights(&["usage", "create"])
        ),
        format!(
            "select r.rolname::text, array[current_database()::text, n.nspname::text, c.relname::text], p.p, \
             has_table_privilege(r.oid, c.oid, p.p) and has_schema_privilege(r.oid, n.oid, 'usage') \
             {relations}, {roles}, {} where {who} and {kinds} and {SCHEMAS}",
            rights(&of_tables)
        ),
        format!(
            "select r.rolname::text, array[current_database()::text, n.nspname::text, c.relname::text, a.attname::text], p.p, \
             has_column_privilege(r.oid, c.oid, a.attnum, p.p) and has_schema_privilege(r.oid, n.oid, 'usage') \
             {relations} join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped, {roles}, {} \
             where {who} and {kinds} and {SCHEMAS}",
            rights(&["select", "insert", "update", "references"])
        ),
    ];
    let mut decisions = Vec::new();
    for query in queries {
        reading.each(transaction, &query, &[&schemas], |row, _| {
            let (role, names): (String, Vec<String>) = (row.try_get(0)?, row.try_get(1)?);
            decisions.push(Privilege {
                user: format!("{}{}", import.prefix, segment(role.as_bytes())),
                resource: id(&import.prefix, names.iter().map(String::as_bytes)),
                action: row.try_get(2)?,
                allowed: row.try_get(3)?,
            });
            Ok(())
        })?;
    }
    Ok(decisions)
}
