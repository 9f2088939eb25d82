CREATE TABLE boxes (code TEXT PRIMARY KEY NOT NULL, label TEXT UNIQUE COLLATE NOCASE, w REAL GENERATED ALWAYS AS (length(label) * 2.0) STORED) STRICT;

CREATE TABLE [old.Collectors] (
  -- the key
  [ID] INTEGER PRIMARY KEY /* rowid */,
  `Name` nvarchar(100) NOT NULL DEFAULT 'unknown', -- who; what
  "Full Name" TEXT COLLATE RTRIM,
  age INT CONSTRAINT age_ok CHECK (age >= 0 AND age < 150),
  created INTEGER DEFAULT (strftime('%s','now')),
  modified DATETIME NOT NULL DEFAULT (datetime('now','localtime')),
  flag BOOLEAN NOT NULL CHECK (flag IN (0,1)) DEFAULT 0,
  guid GUID, money CURRENCY DEFAULT 1.5, n UNSIGNED BIG INT, v VARYING CHARACTER(10), t TIMESTAMP, any_
);

CREATE TABLE loans (loan_id INTEGER, collector INT REFERENCES [old.Collectors] ON DELETE CASCADE ON UPDATE NO ACTION DEFERRABLE INITIALLY DEFERRED, box TEXT, due DATE, PRIMARY KEY (loan_id, box), FOREIGN KEY (box) REFERENCES boxes (code) MATCH FULL, UNIQUE (collector, due)) WITHOUT ROWID;

CREATE TABLE hasty (id INTEGER PRIMARY KEY, label TEXT NOT NULL ON CONFLICT IGNORE);

CREATE TABLE replaced (id INTEGER PRIMARY KEY ON CONFLICT REPLACE AUTOINCREMENT, label TEXT UNIQUE ON CONFLICT REPLACE, a TEXT, b TEXT, CONSTRAINT both UNIQUE (a, b) ON CONFLICT IGNORE);

CREATE TABLE keyless (a, b, c INTEGER DEFAULT -5, d TEXT DEFAULT 'it''s; "x" -- no', e BLOB DEFAULT x'00ff', f REAL DEFAULT 1e3, g DEFAULT NULL, h DEFAULT CURRENT_DATE, i DEFAULT TRUE);

CREATE TABLE requests ("id" integer NOT NULL PRIMARY KEY AUTOINCREMENT, "name" varchar(150) NOT NULL UNIQUE, "added_at" datetime NOT NULL, "col_id" integer NULL REFERENCES "old.Collectors" ("ID") DEFERRABLE INITIALLY DEFERRED, "data" text NOT NULL CHECK ((JSON_VALID("data") OR "data" IS NULL)), "amount" decimal NOT NULL, "quantity" smallint unsigned NOT NULL CHECK ("quantity" >= 0), "on" bool NOT NULL, "u" char(32) NOT NULL);

CREATE VIRTUAL TABLE words USING fts5(title, body, content='');

CREATE INDEX "my index" ON loans (due, collector DESC) WHERE due > '2020-01-01';

CREATE UNIQUE INDEX ux ON boxes (label COLLATE NOCASE, lower(code));

CREATE INDEX twin_1 ON keyless (a);

CREATE INDEX twin_2 ON keyless (a);

CREATE VIEW v AS SELECT l.*, b.label FROM loans l LEFT JOIN boxes b ON b.code = l.box;

CREATE VIEW v2 AS SELECT * FROM v;

CREATE TRIGGER ins INSTEAD OF INSERT ON v BEGIN INSERT INTO boxes (code) VALUES (NEW.box); END;

CREATE TRIGGER tr AFTER UPDATE OF age ON [old.Collectors] WHEN NEW.age > 3 BEGIN INSERT INTO keyless (a) VALUES ('x;y'); SELECT RAISE(IGNORE); END;

CREATE TABLE "sheets_of_old_sheets_of_old_sheets_of_old_sheets_of_old_sheets_of_old_sheets_of_old_sheets" (id int PRIMARY KEY, n int);

CREATE TABLE long_column (id int PRIMARY KEY, "number_of_old_number_of_old_number_of_old_number_of_old_number_of_old_number_of_old_number" int);

CREATE TABLE word_list (word TEXT COLLATE NOCASE PRIMARY KEY);

CREATE TABLE word_uses (id INTEGER PRIMARY KEY, word TEXT REFERENCES word_list);


CREATE TABLE backwards (a int NOT NULL, b text NOT NULL, PRIMARY KEY (a DESC, b COLLATE NOCASE));

CREATE TABLE version (Version integer PRIMARY KEY DEFAULT 0, seen text UNIQUE);

CREATE INDEX version_seen_idx ON version (seen);
