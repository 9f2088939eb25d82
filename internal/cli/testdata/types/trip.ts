// Reads every row of a database into its type and stores it in another.
import { readFileSync, writeFileSync } from "node:fs";
import initSqlJs from "sql.js";
import * as models from "./types";

// What an insert and an update may have, and not.
const box: models.BoxInsert = { label: "C", sheets_of_id: null };
const change: models.SheetUpdate = { state: "on hold", weight: "1.5", marks: null };
if (Object.keys(models.fromBox(box)).length !== 2 || models.fromSheet(change)["marks"] !== null) throw new Error("left out");
// @ts-expect-error: code is immutable
const immutable: models.SheetUpdate = { code: "x" };
// @ts-expect-error: no such state
const state: models.SheetUpdate = { state: "lost" };
// @ts-expect-error: a label is required
const required: models.BoxInsert = {};

async function main(): Promise<void> {
  const [before, after] = process.argv.slice(2) as [string, string];
  const SQL = await initSqlJs();
  const from = new SQL.Database(readFileSync(before)), to = new SQL.Database(readFileSync(after));
  const trip = <T>(table: string, read: (row: { [column: string]: unknown }) => T,
    store: (one: T) => { [column: string]: unknown }) => {
    const rows = from.prepare("SELECT * FROM " + table + " ORDER BY id");
    while (rows.step()) {
      const one = store(read((rows as any).getAsObject(null, { useBigInt: true })));
      const places = Object.keys(one).map(() => "?").join(", ");
      to.run(`INSERT INTO ${table} (${Object.keys(one).join(", ")}) VALUES (${places})`, Object.values(one) as never);
    }
  };
  trip("boxes", models.toBox, models.fromBox);
  trip("sheets", models.toSheet, models.fromSheet);
  writeFileSync(after, to.export());
}

main().catch((e) => { console.error(e); process.exit(1); });
