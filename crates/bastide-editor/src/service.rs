//! The conversation with a client.

use crate::desk::Desk;
use crate::documents::{Document, Documents, path_of};
use crate::lines::{Encoding, Lines};
use crate::{Voice, commands, complete, hover, lens, names, outline, publish, subject, words};
use bastide_engine::Cancel;
use bastide_syntax::format::{FormatError, format};
use bastide_syntax::{FileId, parse};
use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, unbounded};
use lsp_server::{Connection, ErrorCode, Message, Notification, Request, RequestId, Response};
use lsp_types as lsp;
use lsp_types::notification::{self as told, Notification as _};
use lsp_types::request::{self as asked, Request as _};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// How often it is looked whether files have changed outside, where the client does not tell.
const LOOK: Duration = Duration::from_millis(1500);

/// How a conversation ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Ended {
    /// As the protocol wants it.
    InOrder,
    /// The client was gone, or left without a word.
    Otherwise,
    /// There was no client.
    Nobody,
}

/// What a client can do.
#[derive(Clone, Debug)]
struct Client {
    encoding: Encoding,
    /// It asks anew for the lines above rules when it is told to.
    refreshes: bool,
    /// It tells of files that change, once it is asked to.
    watches: bool,
    /// It shows texts that are answers itself.
    shows_answers: bool,
}

/// What comes in, for the thread that knows the estates.
enum Job {
    Request(Request),
    Notification(Notification),
    Response,
    End,
}

/// What a long question is stopped by; another one for each.
type Stop = Arc<Mutex<Cancel>>;

fn stop(of: &Stop) {
    of.lock().unwrap_or_else(PoisonError::into_inner).cancel();
}

/// Speaks with a client until it says goodbye.
///
/// # Errors
/// It does not keep to the protocol.
pub fn serve(connection: &Connection, voice: Arc<dyn Voice>) -> Result<Ended, String> {
    let (id, params) = match connection.initialize_start() {
        Ok(greeting) => greeting,
        Err(error) if error.channel_is_disconnected() => return Ok(Ended::Nobody),
        Err(error) => return Err(error.to_string()),
    };
    let params: lsp::InitializeParams = serde_json::from_value(params).map_err(|error| error.to_string())?;
    let client = Client::of(&params);
    let answer = json!({
        "capabilities": capabilities(&client),
        "serverInfo": { "name": "bastide", "version": env!("CARGO_PKG_VERSION") },
    });
    connection.initialize_finish(id, answer).map_err(|error| error.to_string())?;
    let audits = params.initialization_options.as_ref().is_some_and(|options| options["audit"] == Value::Bool(true));
    let (jobs, queue) = unbounded();
    let stops = Stop::default();
    let sender = connection.sender.clone();
    let (of_thread, watches) = (Arc::clone(&stops), client.watches);
    let work = std::thread::Builder::new()
        .name("estates".to_string())
        .spawn(move || Service::new(sender, client, voice, audits, of_thread).run(&queue))
        .map_err(|error| error.to_string())?;
    if watches {
        let _ = connection.sender.send(Message::Request(watching()));
    }
    let mut ended = Ended::Otherwise;
    for message in &connection.receiver {
        let job = match message {
            Message::Request(request) => {
                if connection.handle_shutdown(&request).map_err(|error| error.to_string())? {
                    ended = Ended::InOrder;
                    break;
                }
                Job::Request(request)
            }
            Message::Notification(notification) if notification.method == told::Exit::METHOD => break,
            Message::Notification(notification) => Job::Notification(notification),
            Message::Response(_) => Job::Response,
        };
        // The thread ends before this one only by a fault, which it has told.
        if jobs.send(job).is_err() {
            return Err("nothing is answered any more".to_string());
        }
        stop(&stops);
    }
    let _ = jobs.send(Job::End);
    stop(&stops);
    let _ = work.join();
    Ok(ended)
}

/// Asks to be told of files that change.
fn watching() -> Request {
    let patterns = ["**/*.bastide", "**/bastide.toml", "**/*.{csv,jsonl,json,ldif,xlsx,ods,parquet,gz}"];
    let watchers: Vec<Value> = patterns.iter().map(|pattern| json!({ "globPattern": pattern })).collect();
    let method = told::DidChangeWatchedFiles::METHOD;
    let registration = json!({ "id": "files", "method": method, "registerOptions": { "watchers": watchers } });
    let params = json!({ "registrations": [registration] });
    Request::new(RequestId::from("files".to_string()), asked::RegisterCapability::METHOD.to_string(), params)
}

impl Client {
    fn of(params: &lsp::InitializeParams) -> Client {
        let capabilities = &params.capabilities;
        let general = capabilities.general.as_ref();
        let workspace = capabilities.workspace.as_ref();
        let refreshes = workspace.and_then(|w| w.code_lens.as_ref()).and_then(|lens| lens.refresh_support);
        let watches = workspace.and_then(|w| w.did_change_watched_files.as_ref()).and_then(|w| w.dynamic_registration);
        let options = params.initialization_options.as_ref();
        Client {
            encoding: Encoding::of(general.and_then(|general| general.position_encodings.as_deref())),
            refreshes: refreshes == Some(true),
            watches: watches == Some(true),
            shows_answers: options.is_some_and(|options| options["showsAnswers"] == Value::Bool(true)),
        }
    }
}

fn capabilities(client: &Client) -> lsp::ServerCapabilities {
    let sync = lsp::TextDocumentSyncOptions {
        open_close: Some(true),
        change: Some(lsp::TextDocumentSyncKind::INCREMENTAL),
        save: Some(lsp::TextDocumentSyncSaveOptions::Supported(true)),
        ..lsp::TextDocumentSyncOptions::default()
    };
    let semantic = lsp::SemanticTokensOptions {
        legend: words::legend(),
        full: Some(lsp::SemanticTokensFullOptions::Bool(true)),
        ..lsp::SemanticTokensOptions::default()
    };
    let triggers = [".", "\"", "/", " "].map(str::to_string).to_vec();
    lsp::ServerCapabilities {
        position_encoding: Some(client.encoding.kind()),
        text_document_sync: Some(lsp::TextDocumentSyncCapability::Options(sync)),
        hover_provider: Some(lsp::HoverProviderCapability::Simple(true)),
        completion_provider: Some(lsp::CompletionOptions {
            trigger_characters: Some(triggers),
            ..lsp::CompletionOptions::default()
        }),
        definition_provider: Some(lsp::OneOf::Left(true)),
        references_provider: Some(lsp::OneOf::Left(true)),
        rename_provider: Some(lsp::OneOf::Right(lsp::RenameOptions {
            prepare_provider: Some(true),
            work_done_progress_options: lsp::WorkDoneProgressOptions::default(),
        })),
        document_symbol_provider: Some(lsp::OneOf::Left(true)),
        folding_range_provider: Some(lsp::FoldingRangeProviderCapability::Simple(true)),
        document_formatting_provider: Some(lsp::OneOf::Left(true)),
        semantic_tokens_provider: Some(lsp::SemanticTokensServerCapabilities::SemanticTokensOptions(semantic)),
        code_lens_provider: Some(lsp::CodeLensOptions { resolve_provider: Some(false) }),
        code_action_provider: Some(lsp::CodeActionProviderCapability::Simple(true)),
        execute_command_provider: Some(lsp::ExecuteCommandOptions {
            commands: commands::ALL.map(|(name, _)| name.to_string()).to_vec(),
            ..lsp::ExecuteCommandOptions::default()
        }),
        workspace: Some(lsp::WorkspaceServerCapabilities {
            workspace_folders: Some(lsp::WorkspaceFoldersServerCapabilities {
                supported: Some(true),
                change_notifications: Some(lsp::OneOf::Left(false)),
            }),
            file_operations: None,
        }),
        ..lsp::ServerCapabilities::default()
    }
}

/// Why a request has no answer.
struct Refused(ErrorCode, String);

type Answer = Result<Value, Refused>;

fn refuse<T>(why: impl Into<String>) -> Result<T, Refused> {
    Err(Refused(ErrorCode::RequestFailed, why.into()))
}

fn read<T: DeserializeOwned>(params: Value) -> Result<T, Refused> {
    serde_json::from_value(params).map_err(|error| Refused(ErrorCode::InvalidParams, error.to_string()))
}

fn written(value: impl serde::Serialize) -> Answer {
    serde_json::to_value(value).map_err(|error| Refused(ErrorCode::InternalError, error.to_string()))
}

/// The thread that knows the estates.
struct Service {
    out: Sender<Message>,
    client: Client,
    voice: Arc<dyn Voice>,
    audits: bool,
    stops: Stop,
    documents: Documents,
    desks: BTreeMap<PathBuf, Desk>,
    /// Requests that came, in their order.
    waiting: Vec<Request>,
    /// Requests for the lines above rules that wait until those are known.
    lenses: Vec<(RequestId, PathBuf, lsp::Uri)>,
    /// Requests that were taken back.
    dropped: HashSet<RequestId>,
    /// Counts requests of ours.
    asked: usize,
}

impl Service {
    fn new(out: Sender<Message>, client: Client, voice: Arc<dyn Voice>, audits: bool, stops: Stop) -> Service {
        Service {
            out,
            client,
            voice,
            audits,
            stops,
            documents: Documents::default(),
            desks: BTreeMap::new(),
            waiting: Vec::new(),
            lenses: Vec::new(),
            dropped: HashSet::new(),
            asked: 0,
        }
    }

    fn run(mut self, queue: &Receiver<Job>) {
        loop {
            // Everything that is there is taken in before anything is worked out.
            let mut job = if self.has_work() {
                queue.try_recv().ok()
            } else {
                match queue.recv_timeout(LOOK) {
                    Ok(job) => Some(job),
                    Err(RecvTimeoutError::Timeout) => {
                        self.look_outside();
                        continue;
                    }
                    Err(RecvTimeoutError::Disconnected) => return,
                }
            };
            while let Some(one) = job {
                match one {
                    Job::Request(request) => self.waiting.push(request),
                    Job::Notification(notification) => {
                        // What was asked before a change is about the text before it.
                        if notification.method.starts_with("textDocument/") {
                            self.answer_all();
                        }
                        self.notified(notification);
                    }
                    Job::Response => {}
                    Job::End => return,
                }
                job = queue.try_recv().ok();
            }
            *self.stops.lock().unwrap_or_else(PoisonError::into_inner) = Cancel::default();
            // What came in between has stopped the one before.
            if !queue.is_empty() && self.waiting.is_empty() {
                continue;
            }
            if !self.waiting.is_empty() {
                self.answer_all();
            } else if !self.read_stale() {
                self.find_out();
            }
        }
    }

    fn has_work(&self) -> bool {
        !self.waiting.is_empty() || self.desks.values().any(|desk| desk.is_stale() || desk.next(self.audits).is_some())
    }

    fn cancel(&self) -> Cancel {
        self.stops.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn send(&self, message: Message) {
        // A client that is gone hears nothing.
        let _ = self.out.send(message);
    }

    fn notify<N: told::Notification>(&self, params: N::Params)
    where
        N::Params: serde::Serialize,
    {
        self.send(Message::Notification(Notification::new(N::METHOD.to_string(), params)));
    }

    /// Reads one estate whose texts have changed, and says what is wrong with it. False where there is none.
    fn read_stale(&mut self) -> bool {
        let Some(root) = self.desks.iter().find(|(_, desk)| desk.is_stale()).map(|(root, _)| root.clone()) else {
            return false;
        };
        self.bring_up(&root);
        true
    }

    /// Brings what is known of an estate up to its texts.
    fn bring_up(&mut self, root: &PathBuf) {
        let today = self.voice.today();
        if let Some(desk) = self.desks.get_mut(root).filter(|desk| desk.is_stale()) {
            desk.read(&self.documents, today);
            self.publish(root);
        }
    }

    fn publish(&mut self, root: &PathBuf) {
        let Some(desk) = self.desks.get_mut(root) else { return };
        let mut found = publish::all(desk, self.client.encoding);
        // What was said of a file and is not so any more is taken back.
        for uri in desk.published.keys() {
            found.entry(uri.clone()).or_default();
        }
        let mut messages = Vec::new();
        for (uri, diagnostics) in found {
            let Ok(parsed) = uri.parse::<lsp::Uri>() else { continue };
            let version = self.documents.get(&parsed).map(|document| document.version);
            let params = lsp::PublishDiagnosticsParams { uri: parsed, diagnostics, version };
            let said = serde_json::to_string(&params).unwrap_or_default();
            if desk.published.get(&uri) == Some(&said) {
                continue;
            }
            desk.published.insert(uri, said);
            messages.push(params);
        }
        for params in messages {
            self.notify::<told::PublishDiagnostics>(params);
        }
    }

    /// Works out one more thing while nobody waits.
    fn find_out(&mut self) {
        let (today, cancel) = (self.voice.today(), self.cancel());
        let audits = self.audits;
        let next = self.desks.iter().find_map(|(root, desk)| Some((root.clone(), desk.next(audits)?)));
        let Some((root, step)) = next else { return };
        let Some(desk) = self.desks.get_mut(&root) else { return };
        let voice = Arc::clone(&self.voice);
        let audit =
            |loaded: &bastide_formats::Loaded, moment: &bastide_model::Moment| voice.audit(loaded, &root, moment);
        if desk.find_out(step, today, &cancel, &audit).is_err() {
            return;
        }
        let done = desk.next(audits);
        match step {
            crate::desk::Step::Advice | crate::desk::Step::Findings => self.publish(&root),
            crate::desk::Step::Reaches | crate::desk::Step::Solely | crate::desk::Step::SolelyOf(_) => {
                let is_last = !matches!(done, Some(crate::desk::Step::SolelyOf(_)));
                if self.client.refreshes && is_last {
                    self.ask::<asked::CodeLensRefresh>(Value::Null);
                }
            }
        }
        self.answer_lenses();
    }

    fn ask<R: asked::Request>(&mut self, params: Value) {
        self.asked += 1;
        let id = RequestId::from(format!("ours-{}", self.asked));
        self.send(Message::Request(Request { id, method: R::METHOD.to_string(), params }));
    }

    /// Looks whether files have changed outside.
    fn look_outside(&mut self) {
        for desk in self.desks.values_mut() {
            if desk.has_changed_outside() {
                desk.touch(None);
            }
        }
    }

    fn touch(&mut self, root: Option<PathBuf>, name: Option<String>) {
        let Some(root) = root else { return };
        // Lines that were asked for are about a text that is gone.
        let (gone, stay) = std::mem::take(&mut self.lenses).into_iter().partition(|(_, of, _)| *of == root);
        self.lenses = stay;
        let gone: Vec<(RequestId, PathBuf, lsp::Uri)> = gone;
        for (id, ..) in gone {
            let code = ErrorCode::ContentModified as i32;
            self.send(Message::Response(Response::new_err(id, code, "the text has changed".to_string())));
        }
        self.desks.entry(root.clone()).or_insert_with(|| Desk::new(&root)).touch(name);
    }

    fn notified(&mut self, notification: Notification) {
        let encoding = self.client.encoding;
        let Notification { method, params } = notification;
        match method.as_str() {
            told::DidOpenTextDocument::METHOD => {
                let Ok(params) = read::<lsp::DidOpenTextDocumentParams>(params) else { return };
                let lsp::TextDocumentItem { uri, version, text, .. } = params.text_document;
                let opened = self.documents.open(uri, text, version, encoding);
                let about = opened.map(|d| {
                    (d.root.clone(), d.name(), std::fs::read_to_string(&d.path).ok().as_ref() == Some(&d.text))
                });
                let Some((Some(root), name, is_saved)) = about else { return };
                // A text that is as the file says changes nothing.
                if !is_saved || !self.desks.contains_key(&root) {
                    self.touch(Some(root), name);
                }
            }
            told::DidChangeTextDocument::METHOD => {
                let Ok(params) = read::<lsp::DidChangeTextDocumentParams>(params) else { return };
                let lsp::VersionedTextDocumentIdentifier { uri, version } = params.text_document;
                let changed = self.documents.change(&uri, version, params.content_changes, encoding);
                let Some((root, name)) = changed.map(|document| (document.root.clone(), document.name())) else {
                    return;
                };
                self.touch(root, name);
            }
            told::DidCloseTextDocument::METHOD => {
                let Ok(params) = read::<lsp::DidCloseTextDocumentParams>(params) else { return };
                let closed = self.documents.close(&params.text_document.uri);
                let Some((root, path, text)) = closed.map(|d| (d.root, d.path, d.text)) else { return };
                let Some(root) = root else { return };
                if self.documents.of(&root).next().is_none() {
                    self.forget(&root);
                } else if std::fs::read_to_string(&path).ok().as_ref() != Some(&text) {
                    self.touch(Some(root), None);
                }
            }
            told::DidSaveTextDocument::METHOD => {}
            told::DidChangeWatchedFiles::METHOD => {
                let Ok(params) = read::<lsp::DidChangeWatchedFilesParams>(params) else { return };
                let paths: Vec<PathBuf> = params.changes.iter().filter_map(|change| path_of(&change.uri)).collect();
                let told = |root: &PathBuf| {
                    // What is open counts as it stands in the editor.
                    paths.iter().any(|path| path.starts_with(root) && self.documents.at(path).is_none())
                };
                let roots: Vec<PathBuf> = self.desks.keys().filter(|root| told(root)).cloned().collect();
                roots.into_iter().for_each(|root| self.touch(Some(root), None));
            }
            told::DidChangeConfiguration::METHOD => {
                let settings = params.get("settings").map(|settings| settings.get("bastide").unwrap_or(settings));
                if let Some(audits) = settings.and_then(|settings| settings.get("audit")).and_then(Value::as_bool) {
                    self.audits = audits;
                    if !audits {
                        let roots: Vec<PathBuf> = self.desks.keys().cloned().collect();
                        for root in roots {
                            self.desks.get_mut(&root).into_iter().for_each(|desk| desk.later.findings = None);
                            self.publish(&root);
                        }
                    }
                }
            }
            told::Cancel::METHOD => {
                if let Ok(lsp::CancelParams { id }) = read(params) {
                    self.dropped.insert(match id {
                        lsp::NumberOrString::Number(number) => RequestId::from(number),
                        lsp::NumberOrString::String(text) => RequestId::from(text),
                    });
                    self.drop_lenses();
                }
            }
            _ => {}
        }
    }

    fn drop_lenses(&mut self) {
        let (gone, stay): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.lenses).into_iter().partition(|(id, ..)| self.dropped.contains(id));
        self.lenses = stay;
        gone.into_iter().for_each(|(id, ..)| self.taken_back(id));
    }

    fn taken_back(&mut self, id: RequestId) {
        self.dropped.remove(&id);
        let code = ErrorCode::RequestCanceled as i32;
        self.send(Message::Response(Response::new_err(id, code, "it was taken back".to_string())));
    }

    /// Nobody looks at an estate any more.
    fn forget(&mut self, root: &PathBuf) {
        self.touch(Some(root.clone()), None);
        if let Some(desk) = self.desks.remove(root) {
            for uri in desk.published.keys().filter_map(|uri| uri.parse().ok()) {
                let params = lsp::PublishDiagnosticsParams { uri, diagnostics: Vec::new(), version: None };
                self.notify::<told::PublishDiagnostics>(params);
            }
        }
    }

    fn answer_all(&mut self) {
        for request in std::mem::take(&mut self.waiting) {
            let id = request.id.clone();
            if self.dropped.contains(&id) {
                self.taken_back(id);
                continue;
            }
            match self.answer(request) {
                Some(Ok(value)) => self.send(Message::Response(Response::new_ok(id, value))),
                Some(Err(Refused(code, why))) => {
                    self.send(Message::Response(Response::new_err(id, code as i32, why)));
                }
                None => {}
            }
        }
        // What was taken back after its answer is of no use.
        if self.lenses.is_empty() {
            self.dropped.clear();
        }
    }

    fn answer(&mut self, request: Request) -> Option<Answer> {
        let Request { id, method, params } = request;
        Some(match method.as_str() {
            asked::Completion::METHOD => self.completion(params),
            asked::Formatting::METHOD => self.formatting(params),
            asked::DocumentSymbolRequest::METHOD => self.symbols(params),
            asked::FoldingRangeRequest::METHOD => self.folds(params),
            asked::SemanticTokensFullRequest::METHOD => self.coloured(params),
            asked::HoverRequest::METHOD => self.hover(params),
            asked::GotoDefinition::METHOD => self.definition(params),
            asked::References::METHOD => self.references(params),
            asked::PrepareRenameRequest::METHOD => self.prepared(params),
            asked::Rename::METHOD => self.renamed(params),
            asked::CodeActionRequest::METHOD => self.actions(params),
            asked::ExecuteCommand::METHOD => self.executed(params),
            asked::CodeLensRequest::METHOD => return self.lens(id, params),
            _ => Err(Refused(ErrorCode::MethodNotFound, format!("`{method}` is not answered here"))),
        })
    }

    fn document(&self, uri: &lsp::Uri) -> Result<&Document, Refused> {
        self.documents.get(uri).ok_or_else(|| Refused(ErrorCode::InvalidParams, "the text is not open".to_string()))
    }

    /// The estate of a text, as of its present texts, and its file there.
    fn desk(&mut self, uri: &lsp::Uri) -> Result<(&Desk, &Document, FileId), Refused> {
        let document = self.document(uri)?;
        let root = document.root.clone();
        let Some(root) = root else {
            return refuse("the text belongs to no estate: there is no `bastide.toml` above it");
        };
        self.bring_up(&root);
        let document = self.document(uri)?;
        let name = document.name().unwrap_or_default();
        let Some(desk) = self.desks.get(&root) else { return refuse("the estate is not there") };
        match desk.file(&name) {
            Some(file) => Ok((desk, document, file)),
            None => refuse("the manifest does not name this file"),
        }
    }

    fn completion(&mut self, params: Value) -> Answer {
        let params: lsp::CompletionParams = read(params)?;
        let at = params.text_document_position;
        let document = self.document(&at.text_document.uri)?;
        let byte = document.lines.byte(&document.text, at.position);
        if document.path.extension().is_none_or(|ending| ending != "bastide") {
            return Ok(Value::Null);
        }
        // Names are looked up in what was last made out: whoever types waits for nothing but the first reading.
        let root = document.root.clone();
        if let Some(root) = root.filter(|root| self.desks.get(root).is_none_or(|desk| desk.names().is_none())) {
            self.bring_up(&root);
        }
        let document = self.document(&at.text_document.uri)?;
        let Some(desk) = document.root.as_ref().and_then(|root| self.desks.get(root)) else { return Ok(Value::Null) };
        written(complete::offers(desk, &document.text, &document.lines, byte))
    }

    fn formatting(&mut self, params: Value) -> Answer {
        let params: lsp::DocumentFormattingParams = read(params)?;
        let document = self.document(&params.text_document.uri)?;
        if document.path.extension().is_none_or(|ending| ending != "bastide") {
            return Ok(Value::Null);
        }
        match format(FileId(0), &document.text) {
            Ok(new_text) if new_text == document.text => written(Vec::<lsp::TextEdit>::new()),
            Ok(new_text) => {
                let range = document.lines.range(&document.text, 0..document.text.len());
                written(vec![lsp::TextEdit { range, new_text }])
            }
            Err(FormatError::Mistakes(_)) => refuse("a text with mistakes is not laid out anew"),
            Err(FormatError::Fault) => refuse("the new layout would not say the same: a fault of Bastide itself"),
        }
    }

    /// A policy text, parsed as it stands.
    fn parsed(&self, uri: &lsp::Uri) -> Result<Option<(&Document, bastide_syntax::tree::File)>, Refused> {
        let document = self.document(uri)?;
        let is_policy = document.path.extension().is_some_and(|ending| ending == "bastide");
        Ok(is_policy.then(|| (document, parse(FileId(0), &document.text).tree)))
    }

    fn symbols(&mut self, params: Value) -> Answer {
        let params: lsp::DocumentSymbolParams = read(params)?;
        let Some((document, tree)) = self.parsed(&params.text_document.uri)? else { return Ok(Value::Null) };
        written(outline::symbols(&tree, &document.text, &document.lines))
    }

    fn folds(&mut self, params: Value) -> Answer {
        let params: lsp::FoldingRangeParams = read(params)?;
        let Some((document, tree)) = self.parsed(&params.text_document.uri)? else { return Ok(Value::Null) };
        written(outline::folds(&tree, &document.text, &document.lines))
    }

    fn coloured(&mut self, params: Value) -> Answer {
        let params: lsp::SemanticTokensParams = read(params)?;
        let Some((document, tree)) = self.parsed(&params.text_document.uri)? else { return Ok(Value::Null) };
        let data = words::coloured(&tree, &document.text, &document.lines);
        written(lsp::SemanticTokens { result_id: None, data })
    }

    fn hover(&mut self, params: Value) -> Answer {
        let params: lsp::HoverParams = read(params)?;
        let at = params.text_document_position_params;
        let (today, cancel) = (self.voice.today(), self.cancel());
        let (desk, document, file) = self.desk(&at.text_document.uri)?;
        let byte = document.lines.byte(&document.text, at.position);
        let Some((value, bytes)) = hover::told(desk, file, byte, today, &cancel) else {
            // Whoever moved on has been heard of by now.
            return if cancel.is_cancelled() { Err(overtaken()) } else { Ok(Value::Null) };
        };
        let range = Some(document.lines.range(&document.text, bytes));
        let contents = lsp::HoverContents::Markup(lsp::MarkupContent { kind: lsp::MarkupKind::Markdown, value });
        written(lsp::Hover { contents, range })
    }

    fn definition(&mut self, params: Value) -> Answer {
        let params: lsp::GotoDefinitionParams = read(params)?;
        let at = params.text_document_position_params;
        let encoding = self.client.encoding;
        let (desk, document, file) = self.desk(&at.text_document.uri)?;
        let byte = document.lines.byte(&document.text, at.position);
        let Some((wanted, _)) = subject::at(desk, file, byte) else { return Ok(Value::Null) };
        written(names::declared(desk, &wanted, encoding))
    }

    fn references(&mut self, params: Value) -> Answer {
        let params: lsp::ReferenceParams = read(params)?;
        let at = params.text_document_position;
        let encoding = self.client.encoding;
        let (desk, document, file) = self.desk(&at.text_document.uri)?;
        let byte = document.lines.byte(&document.text, at.position);
        let Some((wanted, _)) = subject::at(desk, file, byte) else { return Ok(Value::Null) };
        let with_declaration = params.context.include_declaration;
        let mut lines: BTreeMap<FileId, Lines> = BTreeMap::new();
        let mut all = Vec::new();
        for place in names::places(desk, &wanted).into_iter().filter(|place| with_declaration || !place.declares) {
            let (Some(uri), Some(text)) = (desk.uri(place.file), desk.sources().map(|s| s.text(place.file))) else {
                continue;
            };
            let lines = lines.entry(place.file).or_insert_with(|| Lines::new(text, encoding));
            let location = lsp::Location { uri, range: lines.range(text, place.range) };
            if !all.contains(&location) {
                all.push(location);
            }
        }
        written(all)
    }

    fn prepared(&mut self, params: Value) -> Answer {
        let params: lsp::TextDocumentPositionParams = read(params)?;
        let (desk, document, file) = self.desk(&params.text_document.uri)?;
        let byte = document.lines.byte(&document.text, params.position);
        let Some((wanted, bytes)) = subject::at(desk, file, byte) else {
            return refuse("nothing that has a name stands here");
        };
        if let subject::Subject::Finding(_) = wanted {
            return refuse("findings have the names that Bastide gives them");
        }
        let placeholder = match &wanted {
            subject::Subject::Place(_) => document.text[bytes.clone()].to_string(),
            other => other.words().1.to_string(),
        };
        let range = document.lines.range(&document.text, bytes);
        written(lsp::PrepareRenameResponse::RangeWithPlaceholder { range, placeholder })
    }

    fn renamed(&mut self, params: Value) -> Answer {
        let params: lsp::RenameParams = read(params)?;
        let at = params.text_document_position;
        let (today, encoding) = (self.voice.today(), self.client.encoding);
        let (desk, document, file) = self.desk(&at.text_document.uri)?;
        let byte = document.lines.byte(&document.text, at.position);
        let Some((wanted, _)) = subject::at(desk, file, byte) else {
            return refuse("nothing that has a name stands here");
        };
        match names::rename(desk, &wanted, &params.new_name, today, encoding) {
            Ok(edit) => written(edit),
            Err(why) => refuse(why),
        }
    }

    fn actions(&mut self, params: Value) -> Answer {
        let params: lsp::CodeActionParams = read(params)?;
        let (today, encoding) = (self.voice.today(), self.client.encoding);
        let uri = params.text_document.uri;
        let (desk, document, file) = self.desk(&uri)?;
        let from = document.lines.byte(&document.text, params.range.start);
        let upto = document.lines.byte(&document.text, params.range.end);
        let wanted = |kind: &lsp::CodeActionKind| {
            let only = params.context.only.as_ref();
            only.is_none_or(|only| only.iter().any(|wanted| kind.as_str().starts_with(wanted.as_str())))
        };
        let mut all: Vec<lsp::CodeActionOrCommand> = Vec::new();
        if wanted(&lsp::CodeActionKind::QUICKFIX) {
            let mending = publish::mending(desk, file, &(from..upto), encoding);
            all.extend(mending.into_iter().map(lsp::CodeActionOrCommand::CodeAction));
        }
        if wanted(&lsp::CodeActionKind::EMPTY) {
            for (name, title) in commands::ALL {
                if commands::has_meaning(desk, name, file, from, today) {
                    let arguments = Some(vec![json!(uri.as_str()), json!(params.range.start)]);
                    let command = lsp::Command { title: title.to_string(), command: name.to_string(), arguments };
                    all.push(lsp::CodeActionOrCommand::Command(command));
                }
            }
        }
        written(all)
    }

    fn executed(&mut self, params: Value) -> Answer {
        let params: lsp::ExecuteCommandParams = read(params)?;
        let [uri, position, ..] = params.arguments.as_slice() else {
            return Err(Refused(ErrorCode::InvalidParams, "a command takes a text and a position in it".to_string()));
        };
        let uri: lsp::Uri = read(uri.clone())?;
        let position: lsp::Position = read(position.clone())?;
        let (today, cancel, voice) = (self.voice.today(), self.cancel(), Arc::clone(&self.voice));
        self.desk(&uri)?;
        let root = self.document(&uri)?.root.clone().unwrap_or_default();
        let Some(desk) = self.desks.get(&root) else { return refuse("the estate is not there") };
        let document = self.document(&uri)?;
        let file = desk.file(&document.name().unwrap_or_default()).unwrap_or(FileId(0));
        let byte = document.lines.byte(&document.text, position);
        let found = commands::answer(desk, &self.documents, &*voice, &params.command, (file, byte), today, &cancel);
        match found {
            Ok(text) => {
                if !self.client.shows_answers {
                    let params = lsp::ShowMessageParams { typ: lsp::MessageType::INFO, message: text.clone() };
                    self.notify::<told::ShowMessage>(params);
                }
                written(text)
            }
            Err(_) if cancel.is_cancelled() => Err(overtaken()),
            Err(why) => refuse(why),
        }
    }

    /// The lines above rules: at once where the client can be told to ask again, else once they are known.
    fn lens(&mut self, id: RequestId, params: Value) -> Option<Answer> {
        let params: lsp::CodeLensParams = match read(params) {
            Ok(params) => params,
            Err(refused) => return Some(Err(refused)),
        };
        let uri = params.text_document.uri;
        let root = match self.desk(&uri) {
            Ok((desk, ..)) => desk.root.clone(),
            // A text that belongs to no estate has no such lines.
            Err(_) => return Some(Ok(json!([]))),
        };
        let refreshes = self.client.refreshes;
        match self.lines_above(&uri) {
            Ok((lines, whole)) if whole || refreshes => Some(written(lines)),
            Ok(_) => {
                self.lenses.push((id, root, uri));
                None
            }
            Err(refused) => Some(Err(refused)),
        }
    }

    fn answer_lenses(&mut self) {
        for (id, root, uri) in std::mem::take(&mut self.lenses) {
            match self.lines_above(&uri) {
                Ok((_, false)) => self.lenses.push((id, root, uri)),
                Ok((lines, true)) => self.send(Message::Response(Response::new_ok(id, lines))),
                Err(Refused(code, why)) => self.send(Message::Response(Response::new_err(id, code as i32, why))),
            }
        }
    }

    /// The lines, and whether all is known.
    fn lines_above(&mut self, uri: &lsp::Uri) -> Result<(Vec<lsp::CodeLens>, bool), Refused> {
        let today = self.voice.today();
        let (desk, document, file) = self.desk(uri)?;
        let mut whole = !desk.later_is_open();
        let lines = lens::lines(desk, file, today).into_iter().map(|above| {
            whole &= above.text.is_some();
            let range = document.lines.range(&document.text, above.name);
            let title = above.text.unwrap_or_else(|| "counting…".to_string());
            let arguments = Some(vec![json!(uri.as_str()), json!(range.start)]);
            let command = lsp::Command { title, command: "bastide.reach".to_string(), arguments };
            lsp::CodeLens { range, command: Some(command), data: None }
        });
        let lines = lines.collect();
        Ok((lines, whole))
    }
}

fn overtaken() -> Refused {
    Refused(ErrorCode::ContentModified, "the question was overtaken".to_string())
}
