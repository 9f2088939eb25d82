package draft

// This file remembers what migrations make from one run to the next: running a thousand of
// them on scratch takes seconds, and their texts hardly ever change.

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/sqlschema"
)

// Memory keeps short texts by name beyond a run. It may forget any of them at any time.
type Memory interface {
	Recall(name string) string // "": it does not know
	Remember(name, text string)
}

// worth is how many migrations are worth remembering: fewer are run as fast as they are
// looked for.
const worth = 50

// told are the fingerprints that what the migrations make is known to have: by the head of
// the newest, which is wrong where others were merged since, and as remembered. It is empty
// where nobody knows.
func (s *State) told(list []*migration.Migration) (out []string) {
	if len(list) == 0 {
		return nil
	}
	if after := list[len(list)-1].After; after != "" {
		out = append(out, after)
	}
	if s.Memory != nil && len(list) >= worth {
		if known := s.Memory.Recall(s.memoryName(list)); known != "" {
			out = append(out, known)
		}
	}
	return out
}

// remember keeps the fingerprint of what a run of migrations made.
func (s *State) remember(list []*migration.Migration, made *sqlschema.Schema) {
	if s.Memory != nil && len(list) >= worth {
		s.Memory.Remember(s.memoryName(list), sqlschema.Fingerprint(made))
	}
}

// memoryName stands for all that decides what migrations make: the engine, their texts, and
// the tables that they find.
func (s *State) memoryName(list []*migration.Migration) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\n", s.Engine.Name())
	for _, t := range s.Wanted.Tables {
		if t.Outside() {
			fmt.Fprintf(h, "%s\n", sqlschema.Fingerprint(&sqlschema.Schema{Tables: []*sqlschema.Table{t}}))
		}
	}
	for _, m := range list {
		fmt.Fprintf(h, "%s %d\n%s", m.ID, len(m.Text), m.Text)
	}
	return hex.EncodeToString(h.Sum(nil))[:32]
}

// makeObjects is what the server makes of what is declared in SQL, from memory where the statements
// and all that they may stand on are as they were.
func (s *State) makeObjects(ctx context.Context) (*objects.Made, error) {
	base := objects.Base(s.Engine, s.Wanted, s.Upcoming)
	if s.Memory == nil {
		return objects.MakeOn(ctx, s.Engine, s.Wanted, base)
	}
	name, err := s.objectsName(ctx, base)
	if err != nil {
		return nil, err
	}
	var known objects.Made
	if json.Unmarshal([]byte(s.Memory.Recall(name)), &known) == nil {
		return &known, nil
	}
	made, err := objects.MakeOn(ctx, s.Engine, s.Wanted, base)
	if err != nil || len(made.Failed)+len(made.Tables) > 0 { // what is missing may be installed
		return made, err
	}
	if text, err := json.Marshal(made); err == nil {
		s.Memory.Remember(name, string(text))
	}
	return made, nil
}

// objectsName stands for all that decides what a server makes of what is declared in SQL.
func (s *State) objectsName(ctx context.Context, base *sqlschema.Schema) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "objects 2 %s\n", s.Engine.Name())
	if s.Engine.Caps().Journal { // it is a server
		rows, err := s.DB.Select(ctx, "SELECT version()")
		if err != nil {
			return "", err
		}
		fmt.Fprintf(h, "%v\n", rows)
	}
	for _, c := range s.Engine.DDL().CreateAll(base) {
		fmt.Fprintf(h, "%d %s\n", len(c.SQL), c.SQL)
	}
	for _, o := range s.Wanted.Objects {
		fmt.Fprintf(h, "%s %s %s %d %s\n", o.Kind, o.Name, o.On, len(o.SQL), o.SQL)
	}
	return hex.EncodeToString(h.Sum(nil))[:32], nil
}
