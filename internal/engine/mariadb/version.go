package mariadb

// This file is what servers can do, by their version: the one place that tells MariaDB
// from MySQL, and old from new.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// server is a server by its version.
type server struct {
	mysql  bool
	number int // 10.11.19 is 101119, 8.0.36 is 80036
}

// The oldest versions whose statements are whole or not at all.
const (
	oldestMariaDB = 100600
	oldestMySQL   = 80016 // the first that holds checks, too
)

// readServer reads what a server says of its version.
func readServer(version string) (server, error) {
	s := server{mysql: !strings.Contains(strings.ToLower(version), "mariadb")}
	text := version
	if rest, ok := strings.CutPrefix(text, "5.5.5-"); ok { // for the sake of old replicas
		text = rest
	}
	text, _, _ = strings.Cut(text, "-")
	parts := append(strings.Split(text, "."), "0", "0")
	for i, weight := range []int{10000, 100, 1} {
		n, err := strconv.Atoi(strings.TrimFunc(parts[i], func(r rune) bool { return r < '0' || r > '9' }))
		if err != nil {
			return s, fmt.Errorf("the server reports %q, which is neither MariaDB nor MySQL", version)
		}
		s.number += n * weight
	}
	oldest := oldestMariaDB
	if s.mysql {
		oldest = oldestMySQL
	}
	if s.number < oldest {
		return s, fmt.Errorf(
			"the server is %s, and erbario works with %s and newer: on older ones a crash can leave a change of a table half done",
			s, server{s.mysql, oldest})
	}
	return s, nil
}

func (s server) String() string {
	name := "MariaDB"
	if s.mysql {
		name = "MySQL"
	}
	return fmt.Sprintf("%s %d.%d.%d", name, s.number/10000, s.number/100%100, s.number%100)
}

// binary is the collation in which every text is another: by case, by accents, by
// blanks at its end.
func (s server) binary() string {
	if s.mysql {
		return "utf8mb4_0900_bin"
	}
	return "utf8mb4_nopad_bin"
}

// uuid tells whether there is a type for UUIDs, else they are CHAR(36).
func (s server) uuid() bool { return !s.mysql && s.number >= 100700 }

// ignored is the word for an index that the server keeps and does not use.
func (s server) ignored() string {
	if s.mysql {
		return "INVISIBLE"
	}
	return "IGNORED"
}

// expressionDefaults tells whether the catalogue writes a default as an expression, texts
// in quotes; else it gives a constant bare, and says of an expression that it is one.
func (s server) expressionDefaults() bool { return !s.mysql }

// displayWidths tells whether the catalogue gives integers a width that means nothing.
func (s server) displayWidths() bool { return !s.mysql }

// columnChecks tells whether the catalogue tells a check of a column from one of the
// table.
func (s server) columnChecks() bool { return !s.mysql }

// readOnly is the variable that has a session write nothing.
func (s server) readOnly() string {
	if s.mysql {
		return "transaction_read_only"
	}
	return "tx_read_only"
}

// timeLimit is the variable that ends statements after a while.
func (s server) timeLimit() string {
	if s.mysql {
		return "max_execution_time"
	}
	return "max_statement_time"
}

// session is the statement that sets a session up, whatever the server says.
func (s server) session() string {
	return "SET SESSION " + strings.Join(append(slices.Clone(sessionSettings), s.timeLimit()+" = 0"), ", SESSION ")
}

// statusTable is where the server tells since when it has been there.
func (s server) statusTable() string {
	if s.mysql {
		return "performance_schema.global_status"
	}
	return "information_schema.global_status"
}
