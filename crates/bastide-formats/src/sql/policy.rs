//! Everybody's rows and columns of a table, as a script for PostgreSQL: a table of who gets which slice, a policy on rows
//! that looks there, and grants on columns. Everything happens in one transaction; it can be run again, and a second script
//! takes it back to what was there before the first run.

use super::{name, text, value};
use bastide_model::inside::Inside;
use sha2::{Digest, Sha256};
use std::fmt::Write;

/// The schema that holds what the scripts keep.
const SCHEMA: &str = "bastide";
/// So many rows are put in by one statement.
const AT_A_TIME: usize = 1_000;

/// What one user gets.
pub struct Given<'g> {
    /// The user's id, which is the name of a role.
    pub user: &'g str,
    /// The values of each slice.
    pub slices: Vec<Vec<Option<&'g str>>>,
    /// The names of columns; none where the user gets nothing.
    pub columns: Vec<&'g str>,
}

struct Names {
    /// The table, in quotes.
    table: String,
    /// Its own name, in quotes.
    own: String,
    /// The same as a text that names an object.
    object: String,
    /// The table of who gets which slice.
    rows: String,
    /// Its own name.
    rows_own: String,
    /// The table of what was there before.
    before: String,
    /// What begins and ends a block, and stands nowhere in it.
    quote: String,
}

impl Names {
    fn of(inside: &Inside) -> Names {
        // A table without a schema lies in the usual one; nothing is looked up by a path that others set.
        let parts: Vec<String> = match inside.table.as_slice() {
            [table] => vec![name("public"), name(table)],
            parts => parts.iter().map(|part| name(part)).collect(),
        };
        let table = parts.join(".");
        let digest: String = Sha256::digest(table.as_bytes()).iter().take(6).map(|b| format!("{b:02x}")).collect();
        let mut quote = "$do$".to_string();
        while table.contains(&quote) {
            quote.insert(3, 'o');
        }
        Names {
            object: format!("{}::pg_catalog.regclass", text(&table)),
            own: parts.last().cloned().unwrap_or_default(),
            rows: format!("{SCHEMA}.rows_{digest}"),
            rows_own: format!("rows_{digest}"),
            before: format!("{SCHEMA}.before_{digest}"),
            quote,
            table,
        }
    }

    /// Takes from everybody but the owner what lets them read.
    fn revoke(&self) -> String {
        let Names { object, quote, .. } = self;
        format!(
            "DO {quote}\nDECLARE holder text;\nBEGIN\n  FOR holder IN\n    SELECT DISTINCT CASE g.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(r.rolname) END\n    FROM (\n      \
             SELECT a.grantee, a.privilege_type FROM pg_class c, aclexplode(c.relacl) a WHERE c.oid = {object}\n      \
             UNION ALL\n      \
             SELECT a.grantee, a.privilege_type FROM pg_attribute t, aclexplode(t.attacl) a WHERE t.attrelid = {object}\n    \
             ) g LEFT JOIN pg_roles r ON r.oid = g.grantee\n    \
             WHERE g.privilege_type = 'SELECT' AND g.grantee <> (SELECT relowner FROM pg_class WHERE oid = {object})\n  \
             LOOP\n    EXECUTE format('REVOKE SELECT ON TABLE %s FROM %s CASCADE', {object}, holder);\n  END LOOP;\nEND {quote};\n"
        )
    }

    /// Stops where the schema is somebody else's: what stands there would be believed, and carried out.
    fn owned(&self) -> String {
        let quote = &self.quote;
        format!(
            "DO {quote}\nBEGIN\n  IF EXISTS (SELECT FROM pg_namespace n JOIN pg_roles r ON r.oid = n.nspowner WHERE n.nspname = {} AND r.rolname <> CURRENT_USER) THEN\n    \
             RAISE EXCEPTION 'the schema {SCHEMA} belongs to another role: run this as that role, or see who made it';\n  END IF;\nEND {quote};\n",
            text(SCHEMA)
        )
    }

    fn drop_policies(&self) -> String {
        let policies = ["open", "rows", "insert", "update", "delete"];
        policies.map(|policy| format!("DROP POLICY IF EXISTS \"bastide {policy}\" ON {};\n", self.table)).concat()
    }
}

const BEGIN: &str =
    "BEGIN;\nSET LOCAL search_path = pg_catalog, pg_temp;\nSET LOCAL standard_conforming_strings = on;\n";

/// The script. `about`: what it is, for whoever reads it, a line each.
pub fn script(inside: &Inside, given: &[Given], about: &[String]) -> String {
    let names = Names::of(inside);
    let Names { table, own, object, rows, rows_own, before, quote } = &names;
    let mut out = comment(about);
    out.push_str(BEGIN);
    out.push_str(&names.owned());
    let _ = writeln!(out, "CREATE SCHEMA IF NOT EXISTS {SCHEMA};\nGRANT USAGE ON SCHEMA {SCHEMA} TO PUBLIC;\n");
    let _ = write!(
        out,
        "-- What was there before the first run; the first row says that it was looked at.\n\
         CREATE TABLE IF NOT EXISTS {before} (sort integer NOT NULL, command text NOT NULL);\n\
         INSERT INTO {before} (sort, command)\n\
         SELECT n.sort, n.command FROM (\n  \
         SELECT 0 AS sort, 'SELECT' AS command\n  \
         UNION ALL SELECT 1, format('ALTER TABLE %s DISABLE ROW LEVEL SECURITY', c.oid::regclass) FROM pg_class c WHERE c.oid = {object} AND NOT c.relrowsecurity\n  \
         UNION ALL SELECT 2, format('GRANT SELECT ON TABLE %s TO %s%s', c.oid::regclass, CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(r.rolname) END, CASE WHEN a.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END)\n    \
         FROM pg_class c, aclexplode(c.relacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee WHERE c.oid = {object} AND a.privilege_type = 'SELECT' AND a.grantee <> c.relowner\n  \
         UNION ALL SELECT 3, format('GRANT SELECT (%I) ON TABLE %s TO %s%s', t.attname, c.oid::regclass, CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(r.rolname) END, CASE WHEN a.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END)\n    \
         FROM pg_class c JOIN pg_attribute t ON t.attrelid = c.oid, aclexplode(t.attacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee WHERE c.oid = {object} AND a.privilege_type = 'SELECT' AND a.grantee <> c.relowner\n\
         ) n WHERE NOT EXISTS (SELECT FROM {before});\n\n"
    );
    out.push_str("-- Nobody but the owner reads until it is given below.\n");
    out.push_str(&names.revoke());
    out.push('\n');
    out.push_str(&names.drop_policies());
    let _ = writeln!(out, "DROP TABLE IF EXISTS {rows};\n");
    if !inside.by.is_empty() {
        let columns: Vec<String> =
            inside.by.iter().enumerate().map(|(at, by)| format!("t.{} AS v{at}", name(&by.name))).collect();
        let _ = writeln!(
            out,
            "-- Who gets which rows; everybody sees their own part of it.\n\
             CREATE TABLE {rows} AS SELECT NULL::text AS member, {} FROM {table} t WITH NO DATA;",
            columns.join(", ")
        );
        let all: Vec<(&str, &Vec<Option<&str>>)> =
            given.iter().flat_map(|given| given.slices.iter().map(|slice| (given.user, slice))).collect();
        for some in all.chunks(AT_A_TIME) {
            let row = |(user, values): &(&str, &Vec<Option<&str>>)| {
                let cell = |(by, of): (&bastide_model::inside::SlicedBy, &Option<&str>)| {
                    of.map_or_else(|| "NULL".to_string(), |of| value(by.literal, of))
                };
                let cells: Vec<String> = inside.by.iter().zip(values.iter()).map(cell).collect();
                format!("  ({}, {})", text(user), cells.join(", "))
            };
            let _ =
                writeln!(out, "INSERT INTO {rows} VALUES\n{};", some.iter().map(row).collect::<Vec<_>>().join(",\n"));
        }
        let same: Vec<String> = inside
            .by
            .iter()
            .enumerate()
            .map(|(at, by)| format!("{rows_own}.v{at} IS NOT DISTINCT FROM {own}.{}", name(&by.name)))
            .collect();
        let _ = write!(
            out,
            "CREATE INDEX ON {rows} (member);\nALTER TABLE {rows} ENABLE ROW LEVEL SECURITY;\n\
             CREATE POLICY own ON {rows} FOR SELECT USING (member = CURRENT_USER::text);\nGRANT SELECT ON {rows} TO PUBLIC;\n\n\
             -- Other policies may open more: this one is above them.\n\
             ALTER TABLE {table} ENABLE ROW LEVEL SECURITY;\n\
             CREATE POLICY \"bastide open\" ON {table} AS PERMISSIVE FOR SELECT USING (TRUE);\n\
             CREATE POLICY \"bastide rows\" ON {table} AS RESTRICTIVE FOR SELECT USING (\n  \
             EXISTS (SELECT FROM {rows} WHERE {rows_own}.member = CURRENT_USER::text AND {})\n);\n\n\
             -- Where rows were not guarded before, whoever wrote goes on to write.\n\
             DO {quote}\nBEGIN\n  IF EXISTS (SELECT FROM {before} WHERE sort = 1) THEN\n    \
             EXECUTE format('CREATE POLICY \"bastide insert\" ON %s FOR INSERT WITH CHECK (TRUE)', {object});\n    \
             EXECUTE format('CREATE POLICY \"bastide update\" ON %s FOR UPDATE USING (TRUE) WITH CHECK (TRUE)', {object});\n    \
             EXECUTE format('CREATE POLICY \"bastide delete\" ON %s FOR DELETE USING (TRUE)', {object});\n  END IF;\nEND {quote};\n\n",
            same.join(" AND ")
        );
    }
    out.push_str("-- Who gets which columns.\nCREATE TEMPORARY TABLE bastide_columns (member text, columns text, names text[]) ON COMMIT DROP;\n");
    let columns: Vec<String> = given
        .iter()
        .map(|given| {
            let columns: Vec<String> = given.columns.iter().map(|column| name(column)).collect();
            let names: Vec<String> = given.columns.iter().map(|column| text(column)).collect();
            format!("  ({}, {}, ARRAY[{}]::text[])", text(given.user), text(&columns.join(", ")), names.join(", "))
        })
        .collect();
    for some in columns.chunks(AT_A_TIME) {
        let _ = writeln!(out, "INSERT INTO pg_temp.bastide_columns VALUES\n{};", some.join(",\n"));
    }
    let _ = write!(
        out,
        "DO {quote}\nDECLARE one record;\nBEGIN\n  FOR one IN SELECT g.member, g.columns, r.rolname, r.rolsuper OR r.rolbypassrls OR r.oid = c.relowner AS free\n    \
         FROM pg_temp.bastide_columns g JOIN pg_class c ON c.oid = {object} LEFT JOIN pg_roles r ON r.rolname::text = g.member WHERE g.columns <> '' ORDER BY g.member\n  \
         LOOP\n    IF one.rolname IS NULL THEN\n      RAISE NOTICE 'nothing is granted to %, who is no role', one.member;\n      CONTINUE;\n    END IF;\n    \
         IF one.free THEN\n      RAISE WARNING '% is bound by no policy: a superuser, the owner, or set to pass policies by', one.member;\n    END IF;\n    \
         EXECUTE format('GRANT SELECT (%s) ON TABLE %s TO %I', one.columns, {object}, one.rolname);\n  END LOOP;\nEND {quote};\n\n\
         -- What a role gets through another one is not seen above: then nothing of all this happens.\n\
         DO {quote}\nDECLARE one record;\nBEGIN\n  FOR one IN SELECT g.member, t.attname\n    \
         FROM pg_temp.bastide_columns g JOIN pg_roles r ON r.rolname::text = g.member JOIN pg_class c ON c.oid = {object}\n    \
         JOIN pg_attribute t ON t.attrelid = c.oid AND t.attnum > 0 AND NOT t.attisdropped\n    \
         WHERE NOT (r.rolsuper OR r.rolbypassrls OR r.oid = c.relowner) AND NOT t.attname::text = ANY (g.names)\n      \
         AND has_column_privilege(r.oid, c.oid, t.attnum, 'SELECT') ORDER BY 1, 2 LIMIT 1\n  \
         LOOP\n    RAISE EXCEPTION '% would read column % through another role', one.member, one.attname;\n  END LOOP;\nEND {quote};\nCOMMIT;\n"
    );
    out
}

/// The script that takes it back.
pub fn taken_back(inside: &Inside, about: &[String]) -> String {
    let names = Names::of(inside);
    let Names { rows, before, quote, .. } = &names;
    let mut out = comment(about);
    out.push_str(BEGIN);
    let _ = write!(
        out,
        "{}-- Where the other script was never run, this is an error, and nothing happens.\nSELECT FROM {before};\n{}{}\
         DO {quote}\nDECLARE one text;\nBEGIN\n  FOR one IN SELECT command FROM {before} ORDER BY sort, command LOOP\n    EXECUTE one;\n  END LOOP;\nEND {quote};\n\
         DROP TABLE IF EXISTS {rows};\nDROP TABLE {before};\n\
         DO {quote}\nBEGIN\n  IF NOT EXISTS (SELECT FROM pg_class WHERE relnamespace = {}::regnamespace) THEN\n    DROP SCHEMA {SCHEMA};\n  END IF;\nEND {quote};\nCOMMIT;\n",
        names.owned(),
        names.drop_policies(),
        names.revoke(),
        text(SCHEMA)
    );
    out
}

fn comment(about: &[String]) -> String {
    let line = |line: &String| format!("-- {}\n", line.replace(['\n', '\r'], " "));
    about.iter().map(line).collect()
}
