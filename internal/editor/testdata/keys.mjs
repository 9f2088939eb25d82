// A session by keystrokes, with the protocol's own library as the client: a model is typed, one character after the
// other, with a mistake that is fixed by its quick fix; a field is renamed over three files. Usage: node keys.mjs PROGRAM FOLDER
import assert from "node:assert/strict";
import { spawn } from "node:child_process";
import { readFileSync, writeFileSync } from "node:fs";
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";
const tools = createRequire(new URL("../../../tools/browser/package.json", import.meta.url));
const lsp = tools("vscode-languageserver-protocol/node");

const [program, folder] = process.argv.slice(2);
const server = spawn(program, ["editor", "--stdio"], { stdio: ["pipe", "pipe", "inherit"] });
const connection = lsp.createProtocolConnection(new lsp.StreamMessageReader(server.stdout), new lsp.StreamMessageWriter(server.stdin));
const found = new Map(), waiting = [];
connection.onNotification(lsp.PublishDiagnosticsNotification.type, (p) => {
  found.set(p.uri + "#" + p.version, p.diagnostics);
  for (const w of waiting.splice(0)) w();
});
connection.onRequest(lsp.RegistrationRequest.type, () => {});
connection.listen();
const { capabilities } = await connection.sendRequest(lsp.InitializeRequest.type, {
  processId: process.pid, rootUri: pathToFileURL(folder).toString(), workspaceFolders: null,
  capabilities: { workspace: { didChangeWatchedFiles: { dynamicRegistration: true } } },
});
assert.equal(capabilities.positionEncoding, "utf-16");
await connection.sendNotification(lsp.InitializedNotification.type, {});

class Open {
  constructor(name, text) {
    this.path = `${folder}/${name}`;
    this.uri = pathToFileURL(this.path).toString();
    [this.text, this.version] = [text, 1];
    connection.sendNotification(lsp.DidOpenTextDocumentNotification.type, { textDocument: { uri: this.uri, languageId: "erbario", version: 1, text } });
  }
  end() { const lines = this.text.split("\n"); return { line: lines.length - 1, character: lines.at(-1).length }; }
  async type(text) {
    for (const key of text) { // one key, one message
      const at = this.end();
      this.text += key;
      await connection.sendNotification(lsp.DidChangeTextDocumentNotification.type, { textDocument: { uri: this.uri, version: ++this.version },
        contentChanges: [{ range: { start: at, end: at }, text: key }] });
    }
  }
  async wrong() {
    while (!found.has(this.uri + "#" + this.version)) await new Promise((r) => waiting.push(r));
    return found.get(this.uri + "#" + this.version);
  }
  async edited(edits) {
    const offset = (p) => this.text.split("\n").slice(0, p.line).reduce((n, l) => n + l.length + 1, 0) + p.character;
    for (const e of [...edits].sort((a, b) => offset(b.range.start) - offset(a.range.start)))
      this.text = this.text.slice(0, offset(e.range.start)) + e.newText + this.text.slice(offset(e.range.end));
    await connection.sendNotification(lsp.DidChangeTextDocumentNotification.type, { textDocument: { uri: this.uri, version: ++this.version },
      contentChanges: [{ text: this.text }] });
  }
  ask(type, position, more = {}) { return connection.sendRequest(type, { textDocument: { uri: this.uri }, position, ...more }); }
  save() { writeFileSync(this.path, this.text); }
}
const read = (name) => readFileSync(`${folder}/${name}`, "utf8");
const sheet = new Open("models/sheet.erbario", read("models/sheet.erbario")), box = new Open("models/box.erbario", read("models/box.erbario"));
const label = new Open("models/label.erbario", "");
assert.deepEqual(await sheet.wrong(), []);

// Typed, with a mistake and a letter of two units before it on the line; fixed by the quick fix.
await label.type('# \u{1d54f}\nmodel Label\n    "\u{1d54f} name" txt(40)');
const [mistake] = await label.wrong();
assert.equal(mistake.message, "no type txt; did you mean text?");
assert.deepEqual(mistake.range, { start: { line: 2, character: 14 }, end: { line: 2, character: 17 } });
const [fix] = await connection.sendRequest(lsp.CodeActionRequest.type, { textDocument: { uri: label.uri }, range: mistake.range, context: { diagnostics: [mistake] } });
await label.edited(fix.edit.changes[label.uri]);
assert.deepEqual(await label.wrong(), []);

// Completed, and typed on.
await label.type("\n    sheet references ");
const models = await label.ask(lsp.CompletionRequest.type, label.end());
assert.ok(models.items.map((i) => i.label).includes("Sheet"));
await label.edited([models.items.find((i) => i.label === "Sheet").textEdit]);
await label.type(" by ");
assert.deepEqual((await label.ask(lsp.CompletionRequest.type, label.end())).items.map((i) => i.label), ["code", "title"]);
await label.type("code optional\n");
assert.deepEqual(await label.wrong(), []);
const hover = await label.ask(lsp.HoverRequest.type, { line: 3, character: 6 });
assert.match(hover.contents.value, /labels\.sheet_code/);

// Renamed over three files.
const edit = await sheet.ask(lsp.RenameRequest.type, { line: 1, character: 5 }, { newName: "number" });
assert.equal(Object.keys(edit.changes).length, 3);
for (const d of [sheet, box, label]) await d.edited(edit.changes[d.uri]);
for (const d of [sheet, box, label]) {
  assert.deepEqual(await d.wrong(), []);
  d.save();
}
assert.match(label.text, /references Sheet by number optional/);

await connection.sendRequest(lsp.ShutdownRequest.type);
await connection.sendNotification(lsp.ExitNotification.type);
const code = await new Promise((r) => server.on("exit", r));
assert.equal(code, 0);
