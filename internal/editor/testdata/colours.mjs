// Colours every file of models that it is given by the grammar for editors, and holds some words to their scopes.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
const tools = createRequire(new URL("../../../tools/browser/package.json", import.meta.url));
const tm = tools("vscode-textmate"), oniguruma = tools("vscode-oniguruma");

const wasm = readFileSync(tools.resolve("vscode-oniguruma/release/onig.wasm"));
await oniguruma.loadWASM(wasm.buffer.slice(wasm.byteOffset, wasm.byteOffset + wasm.byteLength));
const path = new URL("../../../editors/erbario.tmLanguage.json", import.meta.url);
const registry = new tm.Registry({
  onigLib: Promise.resolve({ createOnigScanner: (p) => new oniguruma.OnigScanner(p), createOnigString: (s) => new oniguruma.OnigString(s) }),
  loadGrammar: async () => tm.parseRawGrammar(readFileSync(path, "utf8"), "erbario.tmLanguage.json"),
});
const grammar = await registry.loadGrammar("source.erbario");

const colour = (text) => {
  const out = [];
  let state = tm.INITIAL;
  for (const line of text.split("\n")) {
    const { tokens, ruleStack } = grammar.tokenizeLine(line, state);
    for (const t of tokens) out.push([line.slice(t.startIndex, t.endIndex), t.scopes.at(-1)]);
    state = ruleStack;
  }
  return out;
};
const scope = (text, word) => colour(text).filter(([w]) => w.trim() === word).map(([, s]) => s);

for (const [text, word, want] of [
  ["model Sheet", "model", "keyword.other.block.erbario"], ["model Sheet", "Sheet", "entity.name.type.erbario"],
  ["    label text(40) unique", "label", "variable.other.member.erbario"], ["    label text(40) unique", "text", "storage.type.erbario"],
  ["    label text(40) unique", "unique", "keyword.other.clause.erbario"], ["    unique label", "unique", "keyword.other.line.erbario"],
  ["    taxon references Taxon optional", "Taxon", "entity.name.type.erbario"], ["# model x", "# model x", "comment.line.number-sign.erbario"],
  ["    check {weight_g} > 0", "weight_g", "variable.other.member.erbario"], ["    a date default 2026-01-31", "2026-01-31", "constant.other.date.erbario"],
  ["    a boolean default true", "true", "constant.language.erbario"], ["seed demo", "demo", "entity.name.function.erbario"],
]) assert.ok(scope(text, word).includes(want), `${text}: ${word} is ${scope(text, word)}, not ${want}`);

let words = 0;
for (const file of process.argv.slice(2)) {
  const tokens = colour(readFileSync(file, "utf8"));
  for (const [w, s] of tokens) {
    words++;
    assert.ok(!/^\s*(model|choice|shape|seed)\s/.test(w) || s.startsWith("comment"), `${file}: ${w} has no colour`);
  }
}
assert.ok(words > 100 || process.argv.length < 3);
