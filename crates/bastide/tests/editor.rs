//! The editor service, spoken with as an editor does.

mod common;

use assert_cmd::cargo::cargo_bin;
use bastide_testkit::client::{Client, byte, position};
use common::{demo, run_in};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

const STAFF: &str = "policy/staff.bastide";

fn client(root: &Path) -> Client {
    Client::new(&cargo_bin("bastide"), root, json!({}), json!({}))
}

/// The labels of what is offered at the end of a text.
fn offered(client: &mut Client, name: &str, after: &str) -> Vec<String> {
    let at = client.texts[name].rfind(after).expect("it stands there") + after.len();
    let position = position(&client.texts[name], at);
    let params = json!({ "textDocument": { "uri": client.uri(name) }, "position": position });
    let offers = client.ask("textDocument/completion", params);
    offers["items"].as_array().expect("a list").iter().map(|item| item["label"].as_str().unwrap().to_string()).collect()
}

/// What `check` says of the texts: by file, code and line.
fn checked(root: &Path) -> BTreeMap<String, Vec<(String, u64)>> {
    let out = run_in(root, &["check", "--on", "2026-11-24", "--format", "json"]).out;
    let json: Value = serde_json::from_str(&out).unwrap();
    let mut found: BTreeMap<String, Vec<(String, u64)>> = BTreeMap::new();
    for one in json["diagnostics"].as_array().unwrap() {
        let place = &one["place"];
        let file = place["file"].as_str().unwrap_or("bastide.toml");
        let file = if place["line"].is_null() { "bastide.toml" } else { file };
        let at = (one["code"].as_str().unwrap().to_string(), place["line"].as_u64().unwrap_or(1));
        found.entry(file.to_string()).or_default().push(at);
    }
    found.values_mut().for_each(|list| list.sort());
    found
}

/// What the service said last, in the same form.
fn said(client: &Client) -> BTreeMap<String, Vec<(String, u64)>> {
    let mut found: BTreeMap<String, Vec<(String, u64)>> = BTreeMap::new();
    for (name, said) in &client.said {
        let one = |one: &Value| {
            let line = one["range"]["start"]["line"].as_u64().unwrap() + 1;
            (one["code"].as_str().unwrap_or_default().to_string(), line)
        };
        let mut list: Vec<(String, u64)> = said["diagnostics"].as_array().unwrap().iter().map(one).collect();
        list.sort();
        if !list.is_empty() {
            found.insert(name.clone(), list);
        }
    }
    found
}

/// Everybody's access, without what it took to find it out.
fn access(root: &Path) -> String {
    let out = run_in(root, &["matrix", "--all", "--format", "csv", "--on", "2026-11-24"]);
    assert_eq!(out.status, 0, "{}", out.err);
    out.out
}

#[test]
fn a_rule_is_typed_word_by_word() {
    let dir = demo();
    let mut client = client(dir.path());
    client.open(STAFF);
    client.until("the first word", |client| client.said.contains_key("data/entries.csv"));
    let before = client.lines(STAFF);
    // The line says what `reach` says.
    let reach = run_in(dir.path(), &["reach", "volunteers-only-read", "--on", "2026-11-24", "--format", "json"]).ok();
    let reach: Value = serde_json::from_str(&reach).unwrap();
    let users = reach["users"].as_array().unwrap().len();
    let sole = reach["sole"]["gained"].as_u64().unwrap() + reach["sole"]["lost"].as_u64().unwrap();
    assert_eq!(sole, 0);
    let line = &before.iter().find(|(line, _)| *line == 51).expect("the rule stands in line 52").1;
    assert_eq!(*line, format!("{users} users on {} resources; solely nothing", reach["resources"]));
    let line = &before.iter().find(|(line, _)| *line == 9).expect("the rule stands in line 10").1;
    assert_eq!(line, "28 users on 111 resources; solely 2,202 triples");

    let mut typed = String::new();
    let mut seen: Vec<(String, Vec<String>, String)> = Vec::new();
    for word in [
        "\nrule ",
        "lenders-see-loans ",
        "{\n    because \"Loans.\"\n",
        "    who ",
        "members of lendrs\n",
        "    may ",
        "read\n",
        "    what ",
        "report ",
        "where resource.label ",
        "<= internal\n",
        "}\n",
    ] {
        let end = client.texts[STAFF].len();
        client.edit(STAFF, end..end, word);
        typed.push_str(word);
        client.until(word, |client| client.is_up_to_date(STAFF) || client.codes(STAFF).is_empty());
        let lines = client.lines(STAFF);
        // The rest of the file keeps its lines while the rule is half written. What is solely the doing of a rule hangs on all
        // the others, and is told once all of them can be read.
        let reaches = |line: &str| line.split("; solely").next().unwrap().to_string();
        assert_eq!(reaches(&lines[0].1), reaches(&before[0].1), "after `{word}`");
        assert_eq!(lines.len(), before.len() + usize::from(lines.len() > before.len()));
        seen.push((word.to_string(), client.codes(STAFF), lines.last().unwrap().1.clone()));
    }
    let codes = |word: &str| seen.iter().find(|(typed, ..)| typed == word).unwrap().1.clone();
    assert_eq!(codes("\nrule "), ["unexpected"]);
    assert_eq!(codes("}\n"), ["unknown-subject"], "{seen:#?}");
    assert_eq!(seen.last().unwrap().2, "reaches nobody");

    // The group is misspelt: the edit that mends it is taken.
    let text = client.texts[STAFF].clone();
    let at = text.find("lendrs").unwrap();
    let range = json!({ "start": position(&text, at), "end": position(&text, at + 6) });
    let uri = client.uri(STAFF);
    let params = json!({ "textDocument": { "uri": uri }, "range": range, "context": { "diagnostics": [] } });
    let actions = client.ask("textDocument/codeAction", params);
    let fix = actions.as_array().unwrap().iter().find(|action| action["kind"] == "quickfix").expect("a quick fix");
    assert_eq!(fix["title"], "Write `lenders`");
    assert_eq!(client.apply(&fix["edit"]), [STAFF]);
    client.until("nothing is wrong any more", |client| client.codes(STAFF).is_empty());
    let line = client.lines(STAFF).pop().unwrap().1;
    assert!(line.contains("users on") && line.contains("guest"), "{line}");
    // What it says is so, once it is saved.
    fs::write(dir.path().join(STAFF), &client.texts[STAFF]).unwrap();
    let rules = run_in(dir.path(), &["rules", "--on", "2026-11-24", "--format", "json"]).ok();
    let rules: Value = serde_json::from_str(&rules).unwrap();
    let rule = rules["statements"].as_array().unwrap().iter().find(|s| s["name"] == "lenders-see-loans").unwrap();
    assert!(line.starts_with(&format!("{} users on {} resource", rule["users"], rule["resources"])), "{line} {rule}");
    assert_eq!(client.quit(), 0);
}

#[test]
fn what_fits_is_offered() {
    let dir = demo();
    let mut client = client(dir.path());
    client.open(STAFF);
    let begin = |client: &mut Client, text: &str| {
        let whole = format!("# What every colleague may do.\n{text}");
        let end = client.texts[STAFF].len();
        client.edit(STAFF, 0..end, &whole);
    };
    begin(&mut client, "rule x {\n    who ");
    assert_eq!(offered(&mut client, STAFF, "who "), ["anyone", "owner", "user", "members"]);
    begin(&mut client, "rule x {\n    who members of lend");
    assert_eq!(offered(&mut client, STAFF, "lend"), ["lenders"]);
    begin(&mut client, "rule x {\n    who anyone where user.cl");
    assert_eq!(offered(&mut client, STAFF, "user.cl"), ["user.clearance"]);
    begin(&mut client, "rule x {\n    who anyone where user.clearance >= ");
    let values = offered(&mut client, STAFF, ">= ");
    assert!(["open", "internal", "restricted", "sealed"].iter().all(|v| values.contains(&v.to_string())), "{values:?}");
    begin(&mut client, "rule x {\n    what anything where resource.state in (draft, ");
    let values = offered(&mut client, STAFF, "draft, ");
    assert!(values.contains(&"review".to_string()), "{values:?}");
    begin(&mut client, "rule x {\n    what report under \"Conse");
    assert_eq!(offered(&mut client, STAFF, "\"Conse"), ["Conservation"]);
    begin(&mut client, "rule x {\n    what report under \"Conservation/La");
    assert_eq!(offered(&mut client, STAFF, "/La"), ["Conservation/Lab"]);
    begin(&mut client, "rule x {\n    may re");
    let items = offered(&mut client, STAFF, "may re");
    assert!(items.contains(&"read".to_string()) && !items.contains(&"rule".to_string()), "{items:?}");
    begin(&mut client, "rule x {\n    because \"any");
    assert!(offered(&mut client, STAFF, "\"any").is_empty(), "a reason is free");
    begin(&mut client, "# who ");
    assert!(offered(&mut client, STAFF, "# who ").is_empty(), "so is a comment");
    assert_eq!(client.quit(), 0);
}

#[test]
fn a_name_leads_to_its_places_and_changes_in_all_of_them() {
    let dir = demo();
    let mut client = client(dir.path());
    let before = access(dir.path());
    client.open(STAFF);
    client.open("data/groups.csv");
    let places = |client: &mut Client, at: Value| {
        let mut params = at;
        params["context"] = json!({ "includeDeclaration": true });
        let found = client.ask("textDocument/references", params);
        let name = |one: &Value| {
            one["uri"].as_str().unwrap().rsplit_once("four-tides").map_or_else(
                || one["uri"].as_str().unwrap().rsplit('/').next().unwrap().to_string(),
                |(_, rest)| rest.to_string(),
            )
        };
        let mut files: Vec<String> = found.as_array().unwrap().iter().map(name).collect();
        files.sort();
        files
    };
    let at = client.at(STAFF, "volunteers\n", 2);
    let files = places(&mut client, at.clone());
    assert!(files.contains(&"groups.csv".to_string()) && files.contains(&"staff.bastide".to_string()), "{files:?}");
    let to = client.ask("textDocument/definition", at.clone());
    assert!(to[0]["uri"].as_str().unwrap().ends_with("data/groups.csv"), "{to}");
    // A role leads to its declaration, a user to a row.
    let at_role = client.at(STAFF, "keeper", 1);
    let to = client.ask("textDocument/definition", at_role);
    assert!(to[0]["uri"].as_str().unwrap().ends_with("policy/roles.bastide"), "{to}");
    let at_user = client.at(STAFF, "pia.sorrel", 1);
    let to = client.ask("textDocument/definition", at_user);
    assert!(to[0]["uri"].as_str().unwrap().ends_with("data/staff.csv"), "{to}");
    let cell = client.at("data/groups.csv", "volunteers", 1);
    assert_eq!(places(&mut client, cell), files, "from the table it is the same");

    let mut params = at;
    params["newName"] = json!("helpers");
    let edit = client.ask("textDocument/rename", params);
    let changed = client.apply(&edit);
    assert!(changed.len() >= 2, "{changed:?}");
    for name in [STAFF, "data/groups.csv"] {
        fs::write(dir.path().join(name), &client.texts[name]).unwrap();
    }
    for name in changed {
        assert!(!fs::read_to_string(dir.path().join(&name)).unwrap().contains("members of volunteers"), "{name}");
    }
    assert_eq!(access(dir.path()), before, "a rename changes nobody's access");
    // A name that is taken would change what is meant.
    let mut params = client.at(STAFF, "helpers", 2);
    params["newName"] = json!("directors");
    let id = client.begin("textDocument/rename", params);
    let refused = client.answer(id).unwrap_err();
    assert!(refused["message"].as_str().unwrap().contains("with this name"), "{refused}");
    // A place has its name in paths, and in the catalog.
    client.open("policy/exhibitions.bastide");
    let mut params = client.at("policy/exhibitions.bastide", "Exhibitions/Tidal Light", 14);
    params["newName"] = json!("Tidal Dark");
    let edit = client.ask("textDocument/rename", params);
    let files: Vec<String> = edit["documentChanges"].as_array().unwrap().iter().map(Value::to_string).collect();
    for name in ["data/catalog.csv", "policy/exhibitions.bastide"] {
        let changed = files.iter().find(|file| file.contains(name)).unwrap_or_else(|| panic!("{name}: {files:#?}"));
        assert!(changed.contains("\"Tidal Dark\""), "{changed}");
    }
    // A partner lies in an export of a directory, which is not changed.
    client.open("policy/partners.bastide");
    let text = &client.texts["policy/partners.bastide"];
    let user = text.find("members of ").expect("a group") + 11;
    let params = json!({ "textDocument": { "uri": client.uri("policy/partners.bastide") },
        "position": position(text, user), "newName": "others" });
    let id = client.begin("textDocument/rename", params);
    if let Err(refused) = client.answer(id) {
        assert!(refused["message"].as_str().unwrap().contains("export"), "{refused}");
    }
    assert_eq!(client.quit(), 0);
}

#[test]
fn a_text_is_laid_out_outlined_and_explained() {
    let dir = demo();
    let mut client = client(dir.path());
    client.open(STAFF);
    let uri = client.uri(STAFF);
    let document = json!({ "textDocument": { "uri": uri } });
    let outline = client.ask("textDocument/documentSymbol", document.clone());
    let names: Vec<&str> = outline.as_array().unwrap().iter().map(|s| s["name"].as_str().unwrap()).collect();
    assert!(names.contains(&"volunteers-only-read"), "{names:?}");
    let folds = client.ask("textDocument/foldingRange", document.clone());
    assert_eq!(folds.as_array().unwrap().len(), names.len());
    let words = client.ask("textDocument/semanticTokens/full", document.clone());
    assert!(words["data"].as_array().unwrap().len() > 5 * 100);
    // Laid out anew it is what `fmt` makes of it.
    let text = client.texts[STAFF].clone();
    let at = text.find("    who ").unwrap();
    client.edit(STAFF, at..at + 4, "            ");
    let params = json!({ "textDocument": { "uri": uri }, "options": { "tabSize": 4, "insertSpaces": true } });
    let edits = client.ask("textDocument/formatting", params);
    let changes = json!({ "documentChanges": [{ "textDocument": { "uri": uri }, "edits": edits }] });
    client.apply(&changes);
    assert_eq!(client.texts[STAFF], text);
    // Hover: an attribute with its values, a condition with what it leaves, a group with its members.
    let hover = |client: &mut Client, word: &str, on: usize| {
        let at = client.at(STAFF, word, on);
        let told = client.ask("textDocument/hover", at);
        told["contents"]["value"].as_str().unwrap_or_default().to_string()
    };
    let told = hover(&mut client, "user.clearance", 8);
    assert!(told.contains("clearance** of users: label") && told.contains("`restricted` 19 users"), "{told}");
    let told = hover(&mut client, "user.clearance >= resource.label", 16);
    assert!(told.starts_with("leaves ") && told.contains(" users and "), "{told}");
    let told = hover(&mut client, "members of directors", 12);
    assert!(told.contains("members, nested ones among them: 4"), "{told}");
    // A command answers with what the program prints.
    let at = client.at(STAFF, "volunteers-only-read", 3);
    let params = json!({ "command": "bastide.reach", "arguments": [uri, at["position"]] });
    let told = client.ask("workspace/executeCommand", params);
    let printed = run_in(dir.path(), &["reach", "volunteers-only-read", "--on", "2026-11-24"]).ok();
    assert_eq!(told.as_str().unwrap(), printed);
    let at = client.at(STAFF, "cleared-staff-read-restricted", 3);
    let params = json!({ "command": "bastide.try", "arguments": [uri, at["position"]] });
    let told = client.ask("workspace/executeCommand", params);
    assert!(told.as_str().unwrap().contains("2,202 lost"), "{told}");
    let shown = client.others.iter().filter(|message| message["method"] == "window/showMessage").count();
    assert_eq!(shown, 2, "whoever shows no answers is shown them");
    assert_eq!(client.quit(), 0);
}

#[test]
fn files_that_change_outside_and_texts_that_are_not_saved_count() {
    let dir = demo();
    let mut client = client(dir.path());
    client.open(STAFF);
    client.until("the first word", |client| client.codes("data/entries.csv").contains(&"stale-place".to_string()));
    // A row comes in a file that nobody has open.
    let groups = dir.path().join("data/groups.csv");
    let text = fs::read_to_string(&groups).unwrap();
    fs::write(&groups, format!("{text}volunteers,nobody.at.all\n")).unwrap();
    client.until("the new row is told", |client| client.codes("data/groups.csv").len() == 2);
    fs::write(&groups, &text).unwrap();
    client.until("and taken back", |client| client.codes("data/groups.csv").len() == 1);
    // The same in an open text, that is never saved.
    client.open("data/groups.csv");
    client.insert_after("data/groups.csv", &text[text.len() - 20..], "volunteers,nobody.at.all\n");
    client.until("the unsaved row is told", |client| client.codes("data/groups.csv").len() == 2);
    client.close("data/groups.csv");
    client.until("it is gone with its text", |client| client.codes("data/groups.csv").len() == 1);
    // The audit speaks once it is asked to.
    client.tell("workspace/didChangeConfiguration", json!({ "settings": { "bastide": { "audit": true } } }));
    let audited = |client: &Client| {
        let all = client.said.values().flat_map(|said| said["diagnostics"].as_array().cloned().unwrap_or_default());
        all.filter(|one| one["source"] == "bastide audit").count()
    };
    client.until("findings come", |client| audited(client) > 5);
    client.tell("workspace/didChangeConfiguration", json!({ "settings": { "bastide": { "audit": false } } }));
    client.until("and go", |client| audited(client) == 0);
    assert_eq!(client.quit(), 0);
}

/// What an editor said to the service, and what it answered, was recorded (`tests/editor/record.py`): the same is said
/// again, and the answers are the same.
#[test]
fn a_recorded_conversation_goes_the_same_way() {
    let dir = demo();
    let root = dir.path().canonicalize().unwrap();
    let recorded = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/conversations/neovim.jsonl");
    let recorded: Vec<Value> = fs::read_to_string(recorded)
        .unwrap()
        .replace("ROOT", root.to_str().unwrap())
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let from = |who: &'static str| recorded.iter().filter(move |one| one["from"] == who).map(|one| &one["message"]);
    let mut client = client(dir.path());
    let mut compared = 0;
    for message in from("client") {
        let method = message["method"].as_str().unwrap_or_default();
        match (method, message.get("id")) {
            ("initialize" | "initialized" | "shutdown" | "exit", _) => {}
            (_, Some(id)) => {
                let answered = from("service").find(|other| other["id"] == *id).expect("it was answered");
                let asked = client.begin(method, message["params"].clone());
                let found = client.answer(asked);
                match answered.get("error") {
                    None => assert_eq!(found.as_ref(), Ok(&answered["result"]), "{method}"),
                    // It was overtaken then; nobody overtakes it now.
                    Some(error) => assert_eq!(error["code"], -32801, "{method}"),
                }
                compared += 1;
            }
            (_, None) => {
                let document = &message["params"]["textDocument"];
                if let (Some(uri), Some(version)) = (document["uri"].as_str(), document["version"].as_i64()) {
                    client.is_at(uri, version as i32);
                }
                client.tell(method, message["params"].clone());
            }
        }
    }
    assert!(compared > 8, "only {compared} answers");
    let mut last: BTreeMap<String, Value> = BTreeMap::new();
    for message in from("service").filter(|message| message["method"] == "textDocument/publishDiagnostics") {
        last.insert(message["params"]["uri"].as_str().unwrap().to_string(), message["params"]["diagnostics"].clone());
    }
    client.until("the same is said in the end", |client| {
        last.iter().all(|(uri, diagnostics)| {
            let name = uri.rsplit_once(&format!("{}/", root.display())).unwrap().1;
            // Of a file of which nothing was ever said, nothing is taken back.
            client.said.get(name).map_or_else(|| *diagnostics == json!([]), |said| said["diagnostics"] == *diagnostics)
        })
    });
    assert_eq!(client.quit(), 0);
}

#[test]
fn whoever_leaves_without_a_word_leaves_nothing_running() {
    let dir = demo();
    let mut client = client(dir.path());
    client.open(STAFF);
    client.tell("exit", Value::Null);
    let until = std::time::Instant::now() + std::time::Duration::from_secs(60);
    while !is_over(client.id()) {
        assert!(std::time::Instant::now() < until, "it goes on");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}

#[test]
fn estates_side_by_side_and_columns_in_bytes() {
    let (one, other) = (demo(), demo());
    // Both lie in one folder, as in an editor's window with several.
    let both = tempfile::tempdir().unwrap();
    for (name, from) in [("one", &one), ("other", &other)] {
        fs::rename(from.path(), both.path().join(name)).unwrap();
        fs::create_dir(from.path()).unwrap();
    }
    let known = json!({ "general": { "positionEncodings": ["utf-8", "utf-16"] } });
    let mut client = Client::new(&cargo_bin("bastide"), both.path(), known, json!({}));
    let (here, there) = (format!("one/{STAFF}"), format!("other/{STAFF}"));
    client.open(&here);
    client.open(&there);
    let before = client.lines(&there);
    // A rule goes in the one; in the other it stays.
    let text = client.texts[&here].clone();
    let cut = text.find("rule volunteers-only-read").unwrap();
    client.edit(&here, cut..text.len(), "");
    assert_eq!(client.lines(&here).len(), before.len() - 1);
    assert_eq!(client.lines(&there), before);
    // Columns are counted in bytes, for this client says that it knows them.
    let uri = client.uri(&there);
    let change = json!({ "text": "# ö\u{1f600}ö rule\nrule ö { who anyone may read what anything }\nrule x {\n" });
    client.tell(
        "textDocument/didChange",
        json!({ "textDocument": { "uri": uri, "version": 9 }, "contentChanges": [change] }),
    );
    client.until("what is missing is told", |client| client.said.get(&there).is_some_and(|said| said["version"] == 9));
    let outline = client.ask("textDocument/documentSymbol", json!({ "textDocument": { "uri": uri } }));
    assert_eq!(outline[0]["selectionRange"]["end"]["character"], 7, "{outline}");
    assert_eq!(client.quit(), 0);
}

#[test]
fn what_is_taken_back_or_overtaken_has_no_answer() {
    let dir = demo();
    let mut client = client(dir.path());
    client.open(STAFF);
    let document = json!({ "textDocument": { "uri": client.uri(STAFF) } });
    // Lines above rules that wait are about a text that is gone.
    let overtaken = client.begin("textDocument/codeLens", document.clone());
    client.edit(STAFF, 0..0, "# another text\n");
    let answer = client.answer(overtaken);
    assert!(answer.is_ok() || answer.as_ref().unwrap_err()["code"] == -32801, "{answer:?}");
    let back = client.begin("textDocument/codeLens", document.clone());
    client.tell("$/cancelRequest", json!({ "id": back }));
    let answer = client.answer(back);
    assert!(answer.is_ok() || answer.as_ref().unwrap_err()["code"] == -32800, "{answer:?}");
    // It goes on as before, and what it does not know it says.
    assert!(!client.lines(STAFF).is_empty());
    let id = client.begin("textDocument/documentColor", document);
    assert_eq!(client.answer(id).unwrap_err()["code"], -32601);
    assert_eq!(client.quit(), 0);
}

/// Whether a process has ended, and only its parent has not looked yet.
fn is_over(id: u32) -> bool {
    fs::read_to_string(format!("/proc/{id}/status")).map_or(true, |status| status.contains("State:\tZ"))
}

/// Edits as they come: words, signs, lines and letters put in, taken out, moved; in policy, data and manifest. In the end
/// the service says what `check` says of the same texts.
fn at_random(rounds: usize, seed: u64) {
    let dir = demo();
    let mut client = client(dir.path());
    let names =
        [STAFF, "policy/houses.bastide", "policy/proofs.bastide", "policy/vocabulary.bastide", "data/groups.csv"];
    names.iter().for_each(|name| client.open(name));
    let whole: BTreeMap<String, String> = client.texts.clone();
    let mut rng = fastrand::Rng::with_seed(seed);
    let words = [
        "rule ",
        "x ",
        "{",
        "}",
        "\n",
        "who anyone ",
        "may never ",
        "what ",
        "under ",
        "\"",
        "(",
        ", ",
        "members of ",
        "user.clearance ",
        "where ",
        "not ",
        "<= ",
        "\u{1f600}",
        "ö",
        "\t",
        "resource.",
        "expect ",
        "kind ",
        "#",
        "\\",
        "1",
    ];
    let size = |id: u32| {
        let status = fs::read_to_string(format!("/proc/{id}/status")).unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap()
    };
    let (mut early, id) = (0, client.id());
    for round in 0..rounds {
        let name = if rng.u8(..) < 230 { names[rng.usize(..4)] } else { names[4] };
        let text = client.texts[name].clone();
        let boundary = |mut at: usize| {
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            at
        };
        let from = boundary(rng.usize(..=text.len()));
        let upto = boundary((from + rng.usize(..12)).min(text.len())).max(from);
        match rng.u8(..10) {
            0..5 => client.edit(name, from..from, words[rng.usize(..words.len())]),
            5..8 => client.edit(name, from..upto, ""),
            // Sometimes somebody undoes it all.
            _ => client.edit(name, 0..text.len(), &whole[name]),
        }
        if rng.u8(..) < 20 {
            let text = &client.texts[name];
            let mut at = rng.usize(..=text.len());
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            let params = json!({ "textDocument": { "uri": client.uri(name) }, "position": position(text, at) });
            let method = ["textDocument/completion", "textDocument/hover", "textDocument/definition"][rng.usize(..3)];
            let id = client.begin(method, params);
            // An answer comes, be it that there is none.
            let _ = client.answer(id);
        }
        if round == rounds / 3 {
            early = size(id);
        }
    }
    let late = size(id);
    assert!(late < 2 * early + 50_000, "memory grows: {early} KiB, then {late} KiB");
    for (name, text) in &client.texts {
        fs::write(dir.path().join(name), text).unwrap();
    }
    let expected = checked(dir.path());
    client.until("it says what `check` says", |client| said(client) == expected);
    // And again of the texts as they were.
    for name in names {
        let end = client.texts[name].len();
        client.edit(name, 0..end, &whole[name]);
        fs::write(dir.path().join(name), &whole[name]).unwrap();
    }
    let expected = checked(dir.path());
    client.until("and of the first texts", |client| said(client) == expected);
    assert_eq!(client.quit(), 0);
}

#[test]
fn edits_at_random_end_as_check_says() {
    at_random(1_500, 7);
}

/// The long form: `cargo test -p bastide --test editor -- --ignored`.
#[test]
#[ignore = "takes minutes"]
fn a_hundred_thousand_edits_at_random() {
    for seed in 0..10 {
        at_random(10_000, seed);
    }
}

#[test]
fn positions_of_the_client_are_those_of_the_protocol() {
    let text = "a\u{1f600}b\nö c";
    assert_eq!(position(text, 5), json!({ "line": 0, "character": 3 }));
    assert_eq!(byte(text, &json!({ "line": 0, "character": 3 })), 5);
    assert_eq!(byte(text, &json!({ "line": 1, "character": 2 })), text.find('c').unwrap());
}
