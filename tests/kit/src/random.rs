//! Random estates from a seed: small, and with every form of the language in them. Written as text,
//! so that reading, typing and deciding are all exercised.

use crate::Case;
use fastrand::Rng;
use std::fmt::Write;

/// What may occur.
#[derive(Clone, Copy, Debug)]
pub struct Shape {
    /// `holds`, and groups of `holders`: decisions that look at decisions.
    pub holds: bool,
    /// Layers.
    pub layers: bool,
    /// A combining algorithm other than the default.
    pub combining: bool,
}

impl Shape {
    /// Everything.
    pub const ALL: Shape = Shape { holds: true, layers: true, combining: true };
    /// Deny-overrides, no layers, no decision that looks at another but by needs.
    pub const PLAIN: Shape = Shape { holds: false, layers: false, combining: false };
}

/// An estate in pieces, so that a test can change one.
#[derive(Clone, Debug)]
pub struct Plan {
    /// The combining algorithm.
    pub combining: &'static str,
    /// Layers.
    pub layers: Vec<&'static str>,
    /// Kinds, actions, types, attributes, roles.
    pub vocabulary: String,
    /// Computed groups, one declaration each.
    pub groups: Vec<String>,
    /// Rules, one declaration each.
    pub rules: Vec<String>,
    /// Rows of people, without the header.
    pub people: Vec<String>,
    /// Rows of memberships.
    pub members: Vec<String>,
    /// Rows of the catalog.
    pub catalog: Vec<String>,
    /// Rows of entries.
    pub entries: Vec<String>,
    /// Rows of sign-ins, where these are told: the attributes, and who has which.
    pub sign_ins: Option<(&'static str, Vec<String>)>,
    /// A dataset of which is told what lies inside, and its rows, where there is one.
    pub inside: Option<(String, Vec<String>)>,
}

const ACTIONS: [&str; 6] = ["see", "read", "write", "sign", "query", "list"];
const PEOPLE: usize = 6;
const RESOURCES: usize = 14;
const DATES: [&str; 5] = ["2026-10-01", "2026-11-23", "2026-11-24", "2026-11-25", "2027-02-01"];

/// The estate of a seed.
pub fn plan(seed: u64, shape: Shape) -> Plan {
    let mut make = Make { rng: Rng::with_seed(seed), shape };
    let algorithms = ["deny-overrides", "permit-overrides", "nearest-overrides", "first-applicable"];
    let combining = if shape.combining { algorithms[make.rng.usize(..4)] } else { "deny-overrides" };
    let layers = if shape.layers && make.rng.bool() { vec!["upper", "lower"] } else { Vec::new() };
    let mut plan = Plan {
        combining,
        layers,
        vocabulary: make.vocabulary(),
        groups: Vec::new(),
        rules: Vec::new(),
        people: (0..PEOPLE).map(|i| make.person(i)).collect(),
        members: make.members(),
        catalog: make.catalog(),
        entries: Vec::new(),
        sign_ins: sign_ins(seed),
        inside: None,
    };
    for i in 0..make.rng.usize(1..4) {
        let group = make.group(i);
        plan.groups.push(group);
    }
    for i in 0..make.rng.usize(4..14) {
        let rule = make.rule(&format!("rule-{i}"), None, &plan.layers);
        plan.rules.push(rule);
    }
    for _ in 0..make.rng.usize(0..6) {
        let entry = make.entry(&plan.layers);
        plan.entries.push(entry);
    }
    plan
}

/// How the users of a seed sign in; of every other seed nothing is told. Drawn apart, so that nothing else hangs on it.
fn sign_ins(seed: u64) -> Option<(&'static str, Vec<String>)> {
    let mut make = Make { rng: Rng::with_seed(!seed), shape: Shape::ALL };
    let columns = make.pick(&["", "", "", "net,badge", "net,badge", "net", "badge"]);
    let row = |i: usize, make: &mut Make| {
        let net = make.pick(&["", "office", "home", "beta"]);
        let badge = make.some(&["x", "red", "blue"], ";");
        match columns {
            "net" => format!("u{i},{net}"),
            "badge" => format!("u{i},{badge}"),
            _ => format!("u{i},{net},{badge}"),
        }
    };
    let rows = (0..PEOPLE).filter_map(|i| if make.chance(80) { Some(row(i, &mut make)) } else { None }).collect();
    (!columns.is_empty()).then_some((columns, rows))
}

/// A further rule of a modality, for a plan of the same shape.
pub fn further_rule(seed: u64, shape: Shape, modality: &str, layers: &[&'static str]) -> String {
    Make { rng: Rng::with_seed(seed), shape }.rule("further", Some(modality), layers)
}

impl Plan {
    /// The same with so many documents more: enough for many of them to be alike.
    pub fn with_more(mut self, seed: u64, more: usize) -> Plan {
        let mut make = Make { rng: Rng::with_seed(seed), shape: Shape::ALL };
        let holds_others = |row: &&String| matches!(row.split(',').nth(2), Some("space" | "folder"));
        let id = |row: &String| row.split(',').next().unwrap_or_default().to_string();
        let holders: Vec<String> = self.catalog.iter().filter(holds_others).map(id).collect();
        for i in 0..more {
            let parent = &holders[make.rng.usize(..holders.len())];
            let row = make.resource(&format!("x{i}"), parent, "doc", i.min(RESOURCES));
            self.catalog.push(row);
        }
        self
    }

    /// The same where of the first document is told what lies inside; nothing more where there is none.
    pub fn with_inside(mut self, seed: u64) -> Plan {
        let mut make = Make { rng: Rng::with_seed(!seed), shape: Shape::ALL };
        let is_document = |row: &&String| row.split(',').nth(2) == Some("doc");
        let Some(row) = self.catalog.iter().find(is_document) else { return self };
        let id = row.split(',').next().unwrap_or_default().to_string();
        self.vocabulary.push_str("kind slice in doc\nkind column in doc\nattribute rows of slice: number\n");
        let row = |i: usize, make: &mut Make| {
            let site = make.pick(&["", "north", "south", "west"]);
            let weight = make.pick(&["", "0", "2.50", "2.5"]);
            format!("{site},\"{weight}\",\"cell, {i}\"")
        };
        self.inside = Some((id, (0..make.rng.usize(1..40)).map(|i| row(i, &mut make)).collect()));
        self
    }

    /// The estate as files.
    pub fn case(&self) -> Case {
        let layers: Vec<String> = self.layers.iter().map(|l| format!("{l:?}")).collect();
        let mut case = Case::default();
        let manifest = format!(
            "name = \"Random\"\npolicy = [\"policy/*.bastide\"]\nmember_of = \"teams\"\n[decide]\ncombining = {:?}\nlayers = [{}]\n\
             [check.levels]\nlost-restriction = \"warning\"\n[[people]]\nfile = \"people.csv\"\n[[groups]]\nfile = \"groups.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n\
             [[entries]]\nfile = \"entries.csv\"\n",
            self.combining,
            layers.join(", ")
        );
        let manifest = match &self.sign_ins {
            Some(_) => format!("{manifest}[[sessions]]\nfile = \"sign-ins.csv\"\n"),
            None => manifest,
        };
        let manifest = match &self.inside {
            Some((dataset, _)) => format!(
                "{manifest}[[inside]]\ndataset = \"{dataset}\"\nfile = \"inside.csv\"\nslices = [\"site\", \"weight\"]\ncolumns = true\n"
            ),
            None => manifest,
        };
        let table = |header: &str, rows: &[String]| format!("{header}\n{}\n", rows.join("\n"));
        case.set("bastide.toml", manifest);
        case.set("policy/a.bastide", self.vocabulary.clone());
        case.set("policy/b.bastide", self.groups.join("\n"));
        case.set("policy/c.bastide", self.rules.join("\n\n"));
        case.set("people.csv", table("id,kind,active,site,level,tags,grade,vip,since,marks,mark", &self.people));
        case.set("groups.csv", table("group,member", &self.members));
        case.set(
            "catalog.csv",
            table(
                "id,parent,kind,name,owner,state,inherits,sources,site,level,tags,weight,due,note,marks",
                &self.catalog,
            ),
        );
        if let Some((columns, rows)) = &self.sign_ins {
            case.set("sign-ins.csv", table(&format!("user,{columns}"), rows));
        }
        if let Some((_, rows)) = &self.inside {
            case.set("inside.csv", table("site,weight,text", rows));
        }
        case.set("entries.csv", table("subject,modality,actions,place,reach,layer,from,until", &self.entries));
        case
    }
}

struct Make {
    rng: Rng,
    shape: Shape,
}

impl Make {
    fn pick<'a>(&mut self, list: &[&'a str]) -> &'a str {
        list[self.rng.usize(..list.len())]
    }

    fn chance(&mut self, percent: u32) -> bool {
        self.rng.u32(..100) < percent
    }

    /// Some of a list, joined; perhaps none.
    fn some(&mut self, list: &[&str], joint: &str) -> String {
        let chosen: Vec<&str> = list.iter().copied().filter(|_| self.rng.u32(..3) == 0).collect();
        chosen.join(joint)
    }

    fn vocabulary(&mut self) -> String {
        let mut out = String::from(
            "kind space\nkind folder in space, folder\nkind doc in space, folder\nkind memo is doc\n\
             type site = choice north, south, west\ntype level = scale low < middle < high\n",
        );
        let travel = self.pick(&["", " inherit", " default west", " inherit default west"]);
        let order = self.pick(&["", " highest", " default low highest", " inherit"]);
        let caseless = self.pick(&["", " caseless"]);
        let _ = write!(
            out,
            "attribute site of user: site\nattribute site of resource: site{}\n\
             attribute level of user: level\nattribute level of resource: level{}\n\
             attribute tags of user, resource: set of text\nattribute teams of user: set of text\nattribute grade of user: number\nattribute weight of resource: number\n\
             attribute due of resource: date\nattribute vip of user: flag\nattribute since of user: date\n\
             attribute marks of user, resource: set of text caseless\nattribute mark of user: text caseless\nattribute note of doc: text{}\n\
             attribute net of session: text\nattribute badge of session: set of text\n",
            with_default_first(travel),
            with_default_first(order),
            caseless
        );
        // A need asks for an action declared before, or for the same on the parent: no circles.
        for (i, action) in ACTIONS.iter().enumerate() {
            let on = if self.chance(30) {
                format!(" on {}", self.pick(&["doc", "folder, doc", "memo", "space"]))
            } else {
                String::new()
            };
            let mut needs = Vec::new();
            if self.chance(30) {
                needs.push(format!("{action} on parent"));
            }
            if i > 0 && self.chance(40) {
                let other = ACTIONS[self.rng.usize(..i)];
                let target = self.pick(&["", " on parent", " on source", " on space", " on folder"]);
                needs.push(format!("{other}{target}"));
            }
            let needs = if needs.is_empty() { String::new() } else { format!(" needs {}", needs.join(", ")) };
            let _ = writeln!(out, "action {action}{on}{needs}");
        }
        let off = self.pick(&["", " off"]);
        let _ = writeln!(
            out,
            "role editor = read, write\nrole all = everything\nrole sleeping = see{off}\nrole mixed = sleeping, list"
        );
        out
    }

    fn person(&mut self, i: usize) -> String {
        let kind = self.pick(&["person", "person", "guest", "service"]);
        let active = if self.chance(15) { "no" } else { "yes" };
        let site = self.pick(&["", "north", "south", "west"]);
        let level = self.pick(&["", "low", "middle", "high"]);
        let tags = self.some(&["red", "blue", "green", "beta"], ";");
        let grade = self.pick(&["", "1", "2", "2.50", "9"]);
        let vip = self.pick(&["", "yes", "no"]);
        let since = self.pick(&["", "2026-11-01", "2026-11-24", "2027-01-01"]);
        let marks = self.some(&["Oak", "oak", "ASH", "elm"], ";");
        let mark = self.pick(&["", "", "oak", "Ash", "fir"]);
        format!("u{i},{kind},{active},{site},{level},{tags},{grade},{vip},{since},{marks},{mark}")
    }

    fn members(&mut self) -> Vec<String> {
        let groups = ["g0", "g1", "g2", "g3"];
        let mut rows: Vec<String> = groups.iter().map(|g| format!("{g},")).collect();
        for group in groups {
            for user in 0..PEOPLE {
                if self.chance(35) {
                    rows.push(format!("{group},u{user}"));
                }
            }
            if self.chance(40) {
                let inner = self.pick(&groups);
                rows.push(format!("{group},group:{inner}"));
            }
        }
        rows
    }

    fn catalog(&mut self) -> Vec<String> {
        // Containers come first, so that whatever follows finds a parent.
        let mut kinds: Vec<&str> = vec!["space"];
        let mut rows = Vec::new();
        for i in 0..RESOURCES {
            let containers: Vec<usize> = (0..i).filter(|j| matches!(kinds[*j], "space" | "folder")).collect();
            let kind = if i == 0 { "space" } else { self.pick(&["space", "folder", "folder", "doc", "doc", "memo"]) };
            if i > 0 {
                kinds.push(kind);
            }
            let parent = if kind == "space" {
                String::new()
            } else {
                format!("r{}", containers[self.rng.usize(..containers.len())])
            };
            rows.push(self.resource(&format!("r{i}"), &parent, kind, i));
        }
        rows
    }

    /// A row of the catalog. `before`: how many there are that it can be derived from.
    fn resource(&mut self, id: &str, parent: &str, kind: &str, before: usize) -> String {
        let owner = self.pick(&["", "u0", "u1", "u2", "gone"]);
        let state = self.pick(&["", "draft", "released"]);
        let inherits = if self.chance(20) { "no" } else { "" };
        let sources =
            if before > 0 && self.chance(20) { format!("r{}", self.rng.usize(..before)) } else { String::new() };
        let sources = if self.chance(5) { "nowhere".to_string() } else { sources };
        let site = self.pick(&["", "", "north", "south"]);
        let level = self.pick(&["", "", "low", "middle", "high"]);
        let tags = self.some(&["red", "blue", "g1", "g3", "u1", "u4"], ";");
        let weight = self.pick(&["", "0", "2.5", "10"]);
        let due = self.pick(&["", "2026-11-01", "2026-11-24", "2026-12-24"]);
        let note = if matches!(kind, "doc" | "memo") { self.pick(&["", "Alpha", "alpha", "beta"]) } else { "" };
        let marks = self.some(&["oak", "OAK", "ash", "Elm", "yew"], ";");
        let name = id.replace('r', "n");
        format!(
            "{id},{parent},{kind},{name},{owner},{state},{inherits},{sources},{site},{level},{tags},{weight},{due},{note},{marks}"
        )
    }

    fn group(&mut self, i: usize) -> String {
        if self.shape.holds && self.chance(40) {
            // `see` is the lowest action: only statements on later ones may ask for its holders.
            // One place, or all roots.
            let place = if self.chance(70) { self.place() } else { "\"n*\"".to_string() };
            return format!("group c{i} = holders of see on {place}");
        }
        let term = self.pick(&["anyone", "members of g0, g1", "user u0, u3", "members of g2, user u1"]);
        let condition = self.condition(2, false, 0);
        format!("group c{i} = {term} where {condition}")
    }

    fn place(&mut self) -> String {
        format!("id \"r{}\"", self.rng.usize(..RESOURCES))
    }

    fn who(&mut self, lowest: usize, user_only: bool) -> String {
        let mut terms: Vec<String> = Vec::new();
        for _ in 0..self.rng.usize(1..3) {
            let term = match self.rng.u32(..12) {
                0..=3 => "anyone".to_string(),
                4 if !user_only => "owner".to_string(),
                5 => format!("user u{}", self.rng.usize(..PEOPLE)),
                // A computed group may look at `see`, so that no statement on it may name one.
                6 if lowest > 0 || !self.shape.holds => "members of c0".to_string(),
                _ => format!("members of g{}", self.rng.usize(..4)),
            };
            terms.push(term);
        }
        let condition =
            if self.chance(40) { format!(" where {}", self.condition(2, !user_only, lowest)) } else { String::new() };
        format!("{}{condition}", terms.join(", "))
    }

    fn rule(&mut self, name: &str, modality: Option<&str>, layers: &[&'static str]) -> String {
        let modality = modality.unwrap_or_else(|| {
            let all = ["may", "may", "may", "may", "may not", "may not", "may always", "may never", "may only"];
            all[self.rng.usize(..all.len())]
        });
        // The actions, and the lowest that the rule speaks of: only lower ones may be asked about.
        let (items, lowest) = match self.rng.u32(..8) {
            0 => ("everything".to_string(), 0),
            1 => ("editor".to_string(), 1),
            2 => ("mixed".to_string(), 0),
            _ => {
                let first = self.rng.usize(..ACTIONS.len());
                let second = self.rng.usize(..ACTIONS.len());
                (format!("{}, {}", ACTIONS[first], ACTIONS[second]), first.min(second))
            }
        };
        // A ceiling speaks of what it does not list.
        let lowest = if modality == "may only" { 0 } else { lowest };
        let off = if self.chance(8) { " off" } else { "" };
        let mut out =
            format!("rule {name}{off} {{\n    who {}\n    {modality} {items}\n    what ", self.who(lowest, false));
        let kinds = self.pick(&["anything", "anything", "doc", "folder, doc", "memo", "space, memo"]);
        out.push_str(kinds);
        if self.chance(60) {
            let reach = self.pick(&["under", "under", "below", "at"]);
            let places: Vec<String> = (0..self.rng.usize(1..4)).map(|_| self.place()).collect();
            let _ = write!(out, " {reach} {}", places.join(", "));
        }
        if self.chance(35) {
            let condition = if layers.is_empty() { self.condition(2, true, lowest) } else { self.condition_on_data() };
            let _ = write!(out, " where {condition}");
        }
        if self.chance(30) {
            let condition = self.condition(2, true, lowest);
            let _ = write!(out, "\n    while {condition}");
        }
        if self.chance(12) {
            let date = self.pick(&DATES);
            let word = self.pick(&["from", "until"]);
            let _ = write!(out, "\n    {word} {date}");
        }
        if !layers.is_empty() && matches!(modality, "may" | "may not") && self.chance(60) {
            let layer = layers[self.rng.usize(..layers.len())];
            let _ = write!(out, "\n    layer {layer}");
        }
        out.push_str("\n}");
        out
    }

    fn entry(&mut self, layers: &[&'static str]) -> String {
        let subject = match self.rng.u32(..6) {
            0 => "anyone".to_string(),
            1 => "owner".to_string(),
            2 | 3 => format!("user:u{}", self.rng.usize(..PEOPLE)),
            _ => format!("group:g{}", self.rng.usize(..4)),
        };
        let modality = self.pick(&["may", "may", "may not", "may always", "may never", "may only"]);
        let actions = self.pick(&["see", "read;write", "editor", "mixed;sign", "list"]);
        let place = if self.chance(80) { format!("r{}", self.rng.usize(..RESOURCES)) } else { String::new() };
        let reach = self.pick(&["under", "below", "at"]);
        let layer =
            if !layers.is_empty() && matches!(modality, "may" | "may not") && self.chance(50) { layers[0] } else { "" };
        let from = if self.chance(10) { self.pick(&DATES) } else { "" };
        format!("{subject},{modality},{actions},{place},{reach},{layer},{from},")
    }

    fn condition_on_data(&mut self) -> String {
        match self.rng.u32(..6) {
            0 => "resource.state = draft".to_string(),
            1 => "resource.level >= middle".to_string(),
            2 => "not resource.weight < 3".to_string(),
            3 => "resource.parent.site = north or resource.site is missing".to_string(),
            4 => "resource.space.state = released".to_string(),
            _ => "resource.kind = doc".to_string(),
        }
    }

    /// A condition. `resources`: it may speak of resources. `lowest`: actions below may be asked about.
    fn condition(&mut self, depth: usize, resources: bool, lowest: usize) -> String {
        if depth > 0 && self.chance(45) {
            let a = self.condition(depth - 1, resources, lowest);
            let b = self.condition(depth - 1, resources, lowest);
            return match self.rng.u32(..3) {
                0 => format!("({a} and {b})"),
                1 => format!("({a} or {b})"),
                _ => format!("not ({a})"),
            };
        }
        let people = [
            "user.site = north",
            "user.site != south",
            "user.level >= middle",
            "user.grade < 3",
            "user.vip",
            "user.kind = guest",
            "\"red\" in user.tags",
            "\"g2\" in user.teams",
            "user.site in (north, west)",
            "user.site is missing",
            "user.tags is empty",
            "user.name like \"*3\"",
            "session.net = \"office\"",
            "\"x\" in session.badge",
            "session.net like \"*e\"",
            "session.badge overlaps user.tags",
            "today >= 2026-11-24",
            "user member of g1",
            "not user.vip",
        ];
        if self.shape.holds && resources && lowest > 0 && self.chance(25) {
            let action = ACTIONS[self.rng.usize(..lowest)];
            let target = self.pick(&["self", "parent", "source", "folder", "space"]);
            return format!("holds {action} on {target}");
        }
        if resources && self.chance(60) { self.pick(&OF_RESOURCES).to_string() } else { self.pick(&people).to_string() }
    }
}

/// Conditions that speak of the resource, most of them of the user, too.
pub const OF_RESOURCES: [&str; 44] = [
    "user.site = resource.site",
    "user.level >= resource.level",
    "user.level < resource.level",
    "user.tags overlaps resource.tags",
    "user.tags covers resource.tags",
    "user.teams overlaps resource.tags",
    "user is owner",
    "session.badge overlaps resource.tags",
    "session.net = resource.note",
    "resource.state = released",
    "resource.kind = doc",
    "resource.kind in (doc, folder)",
    "resource.due < today + 2 weeks",
    "resource.weight > user.grade",
    "resource.parent.site = user.site",
    "resource.folder.state = draft",
    "resource.note = \"alpha\"",
    "resource.note like \"A*\"",
    "user.id = resource.owner",
    "user.level > resource.level",
    "user.level <= resource.level",
    "user.site != resource.site",
    "user.grade = resource.weight",
    "user.grade != resource.weight",
    "user.grade >= resource.weight",
    "user.since <= resource.due",
    "user.since > resource.due",
    "user.since = resource.due",
    "resource.tags covers user.tags",
    "resource.tags overlaps user.teams",
    "resource.note in user.tags",
    "user.id in resource.tags",
    "user.mark in resource.marks",
    "user.marks covers resource.marks",
    "resource.marks covers user.marks",
    "resource.marks overlaps user.marks",
    "resource.path like \"*n3*\"",
    "resource.name like \"n?\"",
    "resource.name like \"*1*\"",
    "resource.name like \"n2*\"",
    "resource.name like \"*3\"",
    "resource.path like \"*n1*\"",
    "resource.parent.name like \"*1*\"",
    "resource.folder.path like \"*2\"",
];

/// `default` stands before the words of travel.
fn with_default_first(words: &str) -> String {
    match words.split_once(" default ") {
        Some((travel, default)) if !travel.is_empty() => format!(" default {default}{travel}"),
        _ => words.to_string(),
    }
}
