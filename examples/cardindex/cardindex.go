// Package cardindex is the database of an older program, which the demo takes over: the card index
// of a reading room, with odd names, a table without a key, a view and a trigger.
package cardindex

import _ "embed"

// Cards creates the database, with a few rows, on SQLite.
//
//go:embed cards.sql
var Cards string

// OnLoan is the view of the example as it is to be later.
const OnLoan = `CREATE VIEW on_loan AS
SELECT c.id, c.shelf, r.Name AS reader, c.taken
FROM {CardIndex} c JOIN {Reader} r ON r.ReaderNo = c.reader_id;
`
