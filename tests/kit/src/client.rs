//! A client of the editor service, over pipes: sends messages, and keeps all that comes.

use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

/// Nothing takes so long.
const PATIENCE: Duration = Duration::from_secs(120);

/// A client, and the service it speaks with.
pub struct Client {
    process: Child,
    input: Option<ChildStdin>,
    output: Receiver<Value>,
    root: PathBuf,
    next: i64,
    versions: BTreeMap<String, i32>,
    /// What the client holds as the text of each file.
    pub texts: BTreeMap<String, String>,
    /// By name of the file, what was said of it last, and of which version.
    pub said: BTreeMap<String, Value>,
    /// Whatever else came, in order.
    pub others: Vec<Value>,
    /// Where all that is said is written to, if anywhere.
    record: Option<File>,
}

/// A file of its own in the folder that `BASTIDE_CONVERSATIONS` names: there all that is said is kept.
fn record() -> Option<File> {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    let folder = std::env::var_os("BASTIDE_CONVERSATIONS")?;
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    let name = format!("{}-{number}.jsonl", std::process::id());
    Some(File::create(Path::new(&folder).join(name)).expect("the folder is there"))
}

impl Client {
    /// Starts the service of a program for the estate in a folder, and greets it.
    pub fn new(program: &Path, root: &Path, capabilities: Value, options: Value) -> Client {
        let program = program.canonicalize().expect("the program is there");
        let mut process = Command::new(program)
            .args(["editor", "--on", "2026-11-24"])
            .current_dir(root)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("the program starts");
        let (sender, output) = channel();
        let mut from = BufReader::new(process.stdout.take().expect("its output"));
        std::thread::spawn(move || {
            while let Some(message) = read(&mut from) {
                if sender.send(message).is_err() {
                    return;
                }
            }
        });
        let root = root.canonicalize().expect("the folder is there");
        let mut client = Client {
            input: process.stdin.take(),
            process,
            output,
            root,
            next: 0,
            versions: BTreeMap::new(),
            texts: BTreeMap::new(),
            said: BTreeMap::new(),
            others: Vec::new(),
            record: record(),
        };
        let folder = format!("file://{}", client.root.display());
        let params = json!({ "processId": null, "rootUri": folder, "capabilities": capabilities, "initializationOptions": options });
        let greeting = client.ask("initialize", params);
        assert_eq!(greeting["serverInfo"]["name"], "bastide");
        client.tell("initialized", json!({}));
        client
    }

    /// The number of its process.
    pub fn id(&self) -> u32 {
        self.process.id()
    }

    /// The name of a file for the service.
    pub fn uri(&self, name: &str) -> String {
        format!("file://{}/{name}", self.root.display())
    }

    fn name(&self, uri: &str) -> String {
        let inside = uri.strip_prefix(&format!("file://{}/", self.root.display()));
        inside.unwrap_or_else(|| panic!("`{uri}` lies outside")).to_string()
    }

    fn keep(&mut self, from: &str, message: &Value) {
        if let Some(file) = &mut self.record {
            writeln!(file, "{}", json!({ "from": from, "message": message })).expect("there is room");
        }
    }

    fn send(&mut self, message: &Value) {
        self.keep("client", message);
        let body = message.to_string();
        let input = self.input.as_mut().expect("it is open");
        write!(input, "Content-Length: {}\r\n\r\n{body}", body.len()).and_then(|()| input.flush()).expect("it listens");
    }

    /// Says something that has no answer.
    pub fn tell(&mut self, method: &str, params: Value) {
        let mut message = json!({ "jsonrpc": "2.0", "method": method, "params": params });
        if params.is_null() {
            message.as_object_mut().expect("it is one").remove("params");
        }
        self.send(&message);
    }

    /// Asks, and does not wait.
    pub fn begin(&mut self, method: &str, params: Value) -> i64 {
        self.next += 1;
        let mut message = json!({ "jsonrpc": "2.0", "id": self.next, "method": method, "params": params });
        if params.is_null() {
            message.as_object_mut().expect("it is one").remove("params");
        }
        self.send(&message);
        self.next
    }

    /// Takes in one message; none where nothing comes in time.
    fn take(&mut self, patience: Duration) -> Option<Value> {
        let message = self.output.recv_timeout(patience).ok()?;
        self.keep("service", &message);
        if message["method"] == "textDocument/publishDiagnostics" {
            let params = &message["params"];
            let name = self.name(params["uri"].as_str().expect("a name"));
            // What is said is never about an older text than the one at hand when it was said.
            self.said.insert(name, params.clone());
        }
        Some(message)
    }

    /// The answer to a question, or the error.
    pub fn answer(&mut self, id: i64) -> Result<Value, Value> {
        let known = self.others.iter().position(|message| message["id"] == id && message.get("method").is_none());
        let until = Instant::now() + PATIENCE;
        let message = match known {
            Some(at) => self.others.remove(at),
            None => loop {
                let message = self.take(until - Instant::now()).unwrap_or_else(|| panic!("no answer to question {id}"));
                if message["id"] == id && message.get("method").is_none() {
                    break message;
                }
                self.others.push(message);
            },
        };
        match message.get("error") {
            Some(error) => Err(error.clone()),
            None => Ok(message["result"].clone()),
        }
    }

    /// Asks, and waits for the answer.
    #[track_caller]
    pub fn ask(&mut self, method: &str, params: Value) -> Value {
        let id = self.begin(method, params);
        self.answer(id).unwrap_or_else(|error| panic!("{method}: {error}"))
    }

    /// Waits until something is so, by what comes.
    #[track_caller]
    pub fn until(&mut self, what: &str, mut is: impl FnMut(&Client) -> bool) {
        let until = Instant::now() + PATIENCE;
        while !is(self) {
            let message = self.take(until.saturating_duration_since(Instant::now()));
            let message = message.unwrap_or_else(|| panic!("{what}: it never came; said: {:#?}", self.said));
            self.others.push(message);
        }
    }

    /// Opens a file as it stands on the disk.
    pub fn open(&mut self, name: &str) {
        let text = std::fs::read_to_string(self.root.join(name)).expect("it is there");
        self.texts.insert(name.to_string(), text.clone());
        self.versions.insert(name.to_string(), 1);
        let document = json!({ "uri": self.uri(name), "languageId": "bastide", "version": 1, "text": text });
        self.tell("textDocument/didOpen", json!({ "textDocument": document }));
    }

    /// Notes which version of a text there is, where the text is sent by other ways.
    pub fn is_at(&mut self, uri: &str, version: i32) {
        let name = self.name(uri);
        self.versions.insert(name, version);
    }

    /// Closes a file.
    pub fn close(&mut self, name: &str) {
        self.texts.remove(name);
        self.tell("textDocument/didClose", json!({ "textDocument": { "uri": self.uri(name) } }));
    }

    /// Puts a text in the place of some bytes.
    pub fn edit(&mut self, name: &str, bytes: std::ops::Range<usize>, new: &str) {
        let text = self.texts.get(name).expect("it is open").clone();
        let range = json!({ "start": position(&text, bytes.start), "end": position(&text, bytes.end) });
        self.texts.get_mut(name).expect("it is open").replace_range(bytes, new);
        let version = self.versions.entry(name.to_string()).or_default();
        *version += 1;
        let document = json!({ "uri": format!("file://{}/{name}", self.root.display()), "version": *version });
        let change = json!({ "range": range, "text": new });
        self.tell("textDocument/didChange", json!({ "textDocument": document, "contentChanges": [change] }));
    }

    /// Puts a text behind the last place of another one.
    pub fn insert_after(&mut self, name: &str, after: &str, new: &str) {
        let at = self.texts[name].rfind(after).expect("it stands there") + after.len();
        self.edit(name, at..at, new);
    }

    /// A text and a position in it: at the first place of `word`, so many bytes on.
    pub fn at(&self, name: &str, word: &str, on: usize) -> Value {
        let text = &self.texts[name];
        let byte = text.find(word).unwrap_or_else(|| panic!("`{word}` stands in `{name}`")) + on;
        json!({ "textDocument": { "uri": self.uri(name) }, "position": position(text, byte) })
    }

    /// The codes of what is said of a file.
    pub fn codes(&self, name: &str) -> Vec<String> {
        let said = self.said.get(name).and_then(|said| said["diagnostics"].as_array());
        let code = |one: &Value| one["code"].as_str().unwrap_or_default().to_string();
        said.map(|list| list.iter().map(code).collect()).unwrap_or_default()
    }

    /// Whether what is said of a file is said of its present text.
    pub fn is_up_to_date(&self, name: &str) -> bool {
        self.said.get(name).is_some_and(|said| said["version"] == self.versions[name])
    }

    /// The lines above the rules of a file.
    pub fn lines(&mut self, name: &str) -> Vec<(u64, String)> {
        let lines = self.ask("textDocument/codeLens", json!({ "textDocument": { "uri": self.uri(name) } }));
        let line = |one: &Value| {
            let title = one["command"]["title"].as_str().expect("a title").to_string();
            (one["range"]["start"]["line"].as_u64().expect("a line"), title)
        };
        lines.as_array().expect("a list").iter().map(line).collect()
    }

    /// Makes the edits of an answer in the texts, those of files that are not open on the disk.
    pub fn apply(&mut self, edit: &Value) -> Vec<String> {
        let mut changed = Vec::new();
        for document in edit["documentChanges"].as_array().expect("changes by document") {
            let name = self.name(document["textDocument"]["uri"].as_str().expect("a name"));
            let path = self.root.join(&name);
            let is_open = self.texts.contains_key(&name);
            let mut text =
                if is_open { self.texts[&name].clone() } else { std::fs::read_to_string(&path).expect("it is there") };
            let mut edits: Vec<(usize, usize, String)> = document["edits"]
                .as_array()
                .expect("edits")
                .iter()
                .map(|edit| {
                    let new = edit["newText"].as_str().expect("a text").to_string();
                    (byte(&text, &edit["range"]["start"]), byte(&text, &edit["range"]["end"]), new)
                })
                .collect();
            edits.sort();
            for (from, upto, new) in edits.into_iter().rev() {
                if is_open {
                    self.edit(&name, from..upto, &new);
                }
                text.replace_range(from..upto, &new);
            }
            if !is_open {
                std::fs::write(path, text).expect("it can be written");
            }
            changed.push(name);
        }
        changed.sort();
        changed
    }

    /// Says goodbye; the status it ends with.
    pub fn quit(mut self) -> i32 {
        self.ask("shutdown", Value::Null);
        self.tell("exit", Value::Null);
        self.input = None;
        self.process.wait().expect("it ends").code().unwrap_or(-1)
    }
}

/// The line and column of a byte, in units of UTF-16.
pub fn position(text: &str, byte: usize) -> Value {
    let before = &text[..byte];
    let line = before.matches('\n').count();
    let column: usize = before.rsplit('\n').next().unwrap_or_default().encode_utf16().count();
    json!({ "line": line, "character": column })
}

/// And back.
pub fn byte(text: &str, position: &Value) -> usize {
    let (line, mut left) =
        (position["line"].as_u64().expect("a line"), position["character"].as_u64().expect("a column"));
    let start: usize = text.split_inclusive('\n').take(line as usize).map(str::len).sum();
    let mut at = start;
    for c in text[start..].chars() {
        if left == 0 || c == '\n' {
            break;
        }
        left -= (c.len_utf16() as u64).min(left);
        at += c.len_utf8();
    }
    at
}

fn read(from: &mut impl BufRead) -> Option<Value> {
    let mut length = 0;
    loop {
        let mut line = String::new();
        if from.read_line(&mut line).ok()? == 0 {
            return None;
        }
        let line = line.trim_end();
        if line.is_empty() {
            break;
        }
        if let Some(number) = line.strip_prefix("Content-Length: ") {
            length = number.parse().expect("a length");
        }
    }
    let mut body = vec![0; length];
    from.read_exact(&mut body).ok()?;
    Some(serde_json::from_slice(&body).expect("JSON"))
}
