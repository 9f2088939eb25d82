-- The card index of the reading room, as an older program created it.
CREATE TABLE READERS (
    ReaderNo INTEGER PRIMARY KEY,
    Name VARCHAR(60) NOT NULL COLLATE NOCASE,
    since DATE
);
CREATE TABLE "card index" (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    shelf CHAR(3) DEFAULT 'A',
    reader_id INT REFERENCES READERS (ReaderNo) ON DELETE SET NULL,
    taken DATETIME DEFAULT CURRENT_TIMESTAMP,
    pages NUMERIC(5,1) CHECK (pages > 0),
    CONSTRAINT one_place UNIQUE (shelf, taken)
);
CREATE TABLE remarks (
    card INTEGER,
    remark TEXT,
    "by whom" TEXT DEFAULT 'I.Q.'
);
CREATE INDEX by_pages ON "card index" (pages DESC) WHERE pages IS NOT NULL;
CREATE VIEW on_loan AS
SELECT c.id, c.shelf, r.Name AS reader
FROM "card index" c JOIN READERS r ON r.ReaderNo = c.reader_id;
CREATE TRIGGER tidy AFTER INSERT ON READERS
BEGIN
    UPDATE READERS SET Name = trim(Name) WHERE ReaderNo = NEW.ReaderNo;
END;
INSERT INTO READERS (Name, since) VALUES (' Ida Quell ', '1994-03-01'), ('Tobia Fenn', '2003-10-12');
INSERT INTO "card index" (shelf, reader_id, taken, pages) VALUES
    ('A', 1, '2026-11-02 09:10:00', 12),
    ('A', 2, '2026-11-03 14:30:00', 40.5),
    ('B', NULL, '2026-11-04 10:00:00', NULL);
INSERT INTO remarks (card, remark) VALUES (2, 'spine torn');
