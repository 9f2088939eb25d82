// Runs the packaged extension against a stub of the editor's module: it starts the server, an open model with a
// mistake gets a diagnostic, and the server ends with the extension. Usage: node stub.cjs EXTENSION PROGRAM MODEL
const assert = require("node:assert/strict");
const { EventEmitter } = require("node:events");
const { readFileSync } = require("node:fs");
const Module = require("node:module");
const path = require("node:path");
const { pathToFileURL, fileURLToPath } = require("node:url");

const [extension, program, model] = process.argv.slice(2).map((p) => path.resolve(p));

class Uri {
  constructor(text) { this.text = text; this.scheme = text.split(":")[0]; this.fsPath = this.scheme === "file" ? fileURLToPath(text) : text; this.path = this.fsPath; }
  static parse(text) { return new Uri(text); }
  static file(p) { return new Uri(pathToFileURL(p).toString()); }
  toString() { return this.text; }
  with() { return this; }
}
class Position { constructor(line, character) { this.line = line; this.character = character; } }
class Range { constructor(a, b, c, d) { [this.start, this.end] = c === undefined ? [a, b] : [new Position(a, b), new Position(c, d)]; } }
class Diagnostic { constructor(range, message, severity) { Object.assign(this, { range, message, severity }); } }
class Emitter {
  constructor() { this.list = []; this.event = (f) => { this.list.push(f); return { dispose() {} }; }; }
  fire(x) { for (const f of this.list) f(x); }
  dispose() {}
}
// Whatever else is asked for is a class of which everything can be asked.
const anything = (name) => new Proxy(class {}, {
  get: (target, key) => (key in target || typeof key === "symbol" ? target[key] : anything(`${name}.${String(key)}`)),
  apply: () => ({ dispose() {}, then: undefined }),
});
const object = (known, name) => new Proxy(known, { get: (t, key) => (key in t || typeof key === "symbol" ? t[key] : name.startsWith("on") ? undefined : anything(`${name}.${String(key)}`)) });
const event = () => ({ dispose() {} });

const found = new EventEmitter(), shown = [];
const document = {
  uri: Uri.file(model), fileName: model, languageId: "erbario", version: 1, isClosed: false, isDirty: false,
  getText: () => readFileSync(model, "utf8"), lineCount: 3, save: async () => true,
};
const registered = () => event();
const vscode = object({
  version: "1.90.0", Uri, Position, Range, Diagnostic, EventEmitter: Emitter,
  Disposable: class { constructor(f) { this.f = f; } dispose() { if (this.f) this.f(); } static from() { return new this(); } },
  CancellationTokenSource: class { constructor() { this.token = { isCancellationRequested: false, onCancellationRequested: event }; } cancel() {} dispose() {} },
  DiagnosticSeverity: { Error: 0, Warning: 1, Information: 2, Hint: 3 }, DiagnosticTag: { Unnecessary: 1, Deprecated: 2 },
  env: { appName: "stub", language: "en" },
  commands: object({ registerCommand: registered, executeCommand: async () => undefined }, "commands"),
  extensions: object({ getExtension: () => undefined, all: [] }, "extensions"),
  window: object({
    showErrorMessage: async (m) => { shown.push(m); }, createOutputChannel: () => ({ append() {}, appendLine() {}, show() {}, dispose() {}, replace() {}, clear() {}, hide() {} }),
    visibleTextEditors: [], tabGroups: { all: [], onDidChangeTabs: event, onDidChangeTabGroups: event }, onDidChangeActiveTextEditor: event, onDidChangeVisibleTextEditors: event,
    activeTextEditor: undefined,
  }, "window"),
  languages: new Proxy({
    match: (selector, d) => (d === document ? 10 : 0),
    createDiagnosticCollection: () => ({ set: (uri, list) => found.emit("set", String(uri), list), delete() {}, clear() {}, dispose() {}, has: () => false, get: () => [] }),
  }, { get: (t, key) => t[key] ?? registered }),
  workspace: object({
    getConfiguration: () => ({ get: (name) => (name === "command" ? program : undefined), inspect: () => undefined, has: () => false }),
    textDocuments: [document], notebookDocuments: [], workspaceFolders: [{ uri: Uri.file(path.dirname(path.dirname(model))), name: "p", index: 0 }],
    getWorkspaceFolder: () => undefined, createFileSystemWatcher: () => ({ onDidCreate: event, onDidChange: event, onDidDelete: event, dispose() {} }),
    ...Object.fromEntries(["OpenTextDocument", "CloseTextDocument", "ChangeTextDocument", "SaveTextDocument", "OpenNotebookDocument",
      "CloseNotebookDocument", "ChangeNotebookDocument", "SaveNotebookDocument", "ChangeConfiguration", "ChangeWorkspaceFolders", "CreateFiles", "RenameFiles", "DeleteFiles"]
      .map((n) => ["onDid" + n, event])),
    onWillSaveTextDocument: event, onWillCreateFiles: event, onWillRenameFiles: event, onWillDeleteFiles: event,
  }, "workspace"),
}, "vscode");

const load = Module._load;
Module._load = (name, ...rest) => (name === "vscode" ? vscode : load(name, ...rest));
const { activate, deactivate } = require(extension);

const late = setTimeout(() => { console.error("no diagnostic", shown); process.exit(1); }, 15000);
found.on("set", async (uri, list) => {
  if (!uri.endsWith(path.basename(model)) || list.length === 0) return;
  assert.match(list[0].message, /no type txt; did you mean text\?/);
  assert.equal(list[0].range.start.line, 1);
  clearTimeout(late);
  await deactivate();
  assert.deepEqual(shown, []);
  process.exit(0);
});
activate({ subscriptions: [], extensionPath: path.dirname(extension), asAbsolutePath: (p) => p }).catch((e) => { console.error(e); process.exit(1); });
