"use strict";
// Starts `bastide editor`, and shows the answers to its commands as texts beside the file.

const vscode = require("vscode");
const { LanguageClient, TransportKind } = require("vscode-languageclient/node");

let client;

/** The texts of answers, by their names. */
const answers = new Map();

/** What is asked of the service under the name of each command of ours. */
const COMMANDS = {
  "bastide.showReach": ["bastide.reach", "reach"],
  "bastide.showWhy": ["bastide.why", "why"],
  "bastide.showTry": ["bastide.try", "try"],
  "bastide.showDiff": ["bastide.diff", "diff"],
};

/** Shows an answer beside the file. */
async function show(name, text) {
  const uri = vscode.Uri.parse(`bastide-answer:${name}.txt`);
  answers.set(uri.path, text);
  changed.fire(uri);
  const document = await vscode.workspace.openTextDocument(uri);
  await vscode.window.showTextDocument(document, { viewColumn: vscode.ViewColumn.Beside, preview: true, preserveFocus: true });
}

const changed = new vscode.EventEmitter();

async function ask(command, name, uri, position) {
  const editor = vscode.window.activeTextEditor;
  const about = uri ?? editor?.document.uri.toString();
  const at = position ?? editor?.selection.active;
  if (!about || !at) {
    return;
  }
  try {
    const text = await client.sendRequest("workspace/executeCommand", { command, arguments: [about, at] });
    await show(name, text);
  } catch (error) {
    vscode.window.showWarningMessage(`Bastide: ${error.message}`);
  }
}

async function activate(context) {
  const settings = vscode.workspace.getConfiguration("bastide");
  const run = { command: settings.get("program"), args: ["editor"], transport: TransportKind.stdio };
  const files = ["**/*.bastide", "**/bastide.toml", "**/*.csv"];
  client = new LanguageClient("bastide", "Bastide", { run, debug: run }, {
    documentSelector: files.map((pattern) => ({ scheme: "file", pattern })),
    initializationOptions: { audit: settings.get("audit"), showsAnswers: true },
    synchronize: { configurationSection: "bastide" },
    middleware: {
      // A click on the line above a rule, and a command of the menu, show their answer beside the file.
      executeCommand: (command, args) => ask(command, command.split(".").pop(), ...args),
    },
  });
  const content = { onDidChange: changed.event, provideTextDocumentContent: (uri) => answers.get(uri.path) ?? "" };
  context.subscriptions.push(vscode.workspace.registerTextDocumentContentProvider("bastide-answer", content));
  for (const [ours, [command, name]] of Object.entries(COMMANDS)) {
    context.subscriptions.push(vscode.commands.registerCommand(ours, () => ask(command, name)));
  }
  await client.start();
}

function deactivate() {
  return client?.stop();
}

module.exports = { activate, deactivate, COMMANDS };
