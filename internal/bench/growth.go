package main

// This file measures how the work grows: with the number of tables, of migrations, and of
// things in the database that nobody declared. Where it is in proportion to what changes,
// the time hardly grows; the exponent tells: 0 is not at all, 1 with the number, 2 with its
// square.

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// place is where a project's database is made.
type place struct {
	name, file string
	on         func(name string) (dir, url string)
	sql        func(url string, statements ...string)
}

func (b *bench) places() []place {
	return []place{
		{"SQLite", "sqlite", func(name string) (string, string) {
			dir := filepath.Join(b.dir, "sqlite-"+name)
			check(os.MkdirAll(dir, 0o755))
			b.run(dir, "", b.program, "init", "--url", "sqlite:herbarium.db")
			return dir, filepath.Join(dir, "herbarium.db")
		}, func(file string, statements ...string) {
			for _, s := range statements {
				b.run(b.dir, "", "sqlite3", file, s)
			}
		}},
		{"PostgreSQL", "postgres", b.on, b.sql},
		{"MariaDB", "mariadb", b.onMariaDB, b.mariadbSQL},
	}
}

// grown prints the times for growing numbers, and the exponent by which they grow.
func grown(what string, numbers []int, times []time.Duration, goal string) {
	var list []string
	for _, t := range times {
		list = append(list, ms(t))
	}
	last := len(times) - 1
	exponent := math.Log(float64(times[last])/float64(times[0])) / math.Log(float64(numbers[last])/float64(numbers[0]))
	fmt.Printf("%-58s %s  exponent %.2f  %s\n", what, strings.Join(list, ", "), exponent, goal)
}

// some are so many models of ten fields, a third of which refer to another.
func some(n int) string {
	var models strings.Builder
	for i := range n {
		fmt.Fprintf(&models,
			"model Sheet%d\n    name text(80) unique\n    seen_on date optional\n    weight decimal(8,2) range 0..1000\n",
			i)
		for k := range 6 {
			fmt.Fprintf(&models, "    field_%d text(40) optional\n", k)
		}
		if i > 0 && i%3 == 0 {
			fmt.Fprintf(&models, "    before references Sheet%d optional\n", i-1)
		}
		models.WriteString("    timestamps\n\n")
	}
	return models.String()
}

const fresh = "model Fresh\n    name text(20)\n    sheet references Sheet7\n"

// growth runs all of it.
func (b *bench) growth() {
	numbers := []int{100, 300, 1000}
	for _, p := range b.places() {
		var drafts, applies, news, diffs []time.Duration
		for _, n := range numbers {
			dir, _ := p.on(fmt.Sprintf("tables%d", n))
			check(os.WriteFile(filepath.Join(dir, "models", "all.erbario"), []byte(some(n)), 0o644))
			drafts = append(drafts, b.run(dir, "", b.program, "draft", "first"))
			applies = append(applies, b.run(dir, "", b.program, "apply"))
			diffs = append(diffs, median(3, func() time.Duration { return b.run(dir, "", b.program, "diff") }))
			check(os.WriteFile(filepath.Join(dir, "models", "fresh.erbario"), []byte(fresh), 0o644))
			news = append(news, b.run(dir, "", b.program, "draft", "fresh"))
		}
		for i, n := range numbers {
			row(fmt.Sprintf("%s: draft of %d models from nothing / apply of it", p.name, n), drafts[i], applies[i],
				"≤ 4×")
		}
		grown(p.name+": draft of one new model beside 100, 300, 1,000 tables", numbers, news, "≤ 1.5 s")
		grown(p.name+": diff of as many", numbers, diffs, "")
	}
	for _, p := range b.places() {
		var first, status, drafts, proofs []time.Duration
		for _, n := range numbers {
			dir, _ := p.on(fmt.Sprintf("line%d", n))
			b.line(dir, p.file, n)
			b.run(dir, "", b.program, "apply")
			first = append(first, b.run(dir, "", b.program, "status"))
			status = append(status, median(3, func() time.Duration { return b.run(dir, "", b.program, "status") }))
			if p.file == "sqlite" || n < 1000 {
				proofs = append(proofs, b.run(dir, "", b.program, "prove", "--all"))
			}
			check(
				os.WriteFile(filepath.Join(dir, "models", "fresh.erbario"),
					[]byte(strings.ReplaceAll(fresh, "Sheet7", "Sheet0")), 0o644),
			)
			drafts = append(drafts, b.run(dir, "", b.program, "draft", "fresh"))
			b.run(dir, "", b.program, "apply")
			if n == 1000 {
				row(p.name+": status with 1,001 migrations, the newest drafted here",
					median(3, func() time.Duration { return b.run(dir, "", b.program, "status") }), 0, "≤ 1 s")
			}
		}
		grown(p.name+": the first status with 100, 300, 1,000 migrations by hand", numbers, first, "")
		grown(p.name+": status again", numbers, status, "≤ 1 s")
		grown(p.name+": draft behind as many", numbers, drafts, "≤ 2 s")
		grown(p.name+": prove --all of as many", numbers[:len(proofs)], proofs, "exponent ≤ 1")
	}
	for _, p := range b.places()[1:] {
		dir, url := p.on("undeclared")
		check(os.WriteFile(filepath.Join(dir, "models", "all.erbario"), []byte(some(20)), 0o644))
		b.run(dir, "", b.program, "draft", "first", "--apply")
		check(os.WriteFile(filepath.Join(dir, "models", "fresh.erbario"), []byte(fresh), 0o644))
		times := func() (diff, draft time.Duration) {
			diff = median(3, func() time.Duration { return b.run(dir, "", b.program, "diff") })
			draft = b.run(dir, "", b.program, "draft", "fresh")
			files, err := filepath.Glob(filepath.Join(dir, "migrations", "*-fresh.*"))
			check(err)
			for _, f := range files {
				check(os.Remove(f))
			}
			return diff, draft
		}
		diff, draft := times()
		var others []string
		for i := range 173 {
			refer := ""
			if i > 0 {
				refer = fmt.Sprintf(", FOREIGN KEY (b) REFERENCES other_%d (id)", i-1)
			}
			others = append(
				others,
				fmt.Sprintf(
					"CREATE TABLE other_%d (id integer PRIMARY KEY, name varchar(50) NOT NULL, b integer CHECK (b > 0), c date%s)",
					i, refer),
				fmt.Sprintf("CREATE INDEX other_%d_name ON other_%d (name)", i, i),
			)
		}
		p.sql(url, others...)
		with, drafted := times()
		row(p.name+": diff beside 173 undeclared tables / without them", with, diff, "")
		row(p.name+": draft beside them / without them", drafted, draft, "")
	}
}

// line writes so many migrations of a tenth as many tables, a column after another, and the
// models that they make.
func (b *bench) line(dir, engine string, n int) {
	create := map[string]string{
		"sqlite":   "CREATE TABLE sheets_%d (\n    id INTEGER PRIMARY KEY AUTOINCREMENT\n)",
		"postgres": "CREATE TABLE sheets_%d (\n    id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY\n)",
		"mariadb":  "CREATE TABLE `sheets_%d` (\n    `id` bigint NOT NULL AUTO_INCREMENT,\n    PRIMARY KEY (`id`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
	}[engine]
	add := map[string]string{
		"sqlite":   "ALTER TABLE sheets_%[1]d ADD COLUMN c%[2]d BIGINT\n        CONSTRAINT sheets_%[1]d_c%[2]d_type CHECK (typeof(c%[2]d) IN ('integer', 'null'))",
		"postgres": "ALTER TABLE sheets_%[1]d ADD COLUMN c%[2]d bigint",
		"mariadb":  "ALTER TABLE `sheets_%[1]d` ADD COLUMN `c%[2]d` bigint, ALGORITHM=INSTANT",
	}[engine]
	kind := ""
	if engine == "mariadb" {
		kind = "  (outside transaction)"
	}
	models := make([]strings.Builder, n/10)
	follows := ""
	check(os.MkdirAll(filepath.Join(dir, "migrations"), 0o755))
	for i := range n {
		id := fmt.Sprintf("20260101T%02d%02d%02d-m%d", i/3600, i/60%60, i%60, i)
		t, k := i%len(models), i/len(models)
		up, down := fmt.Sprintf(create, t), fmt.Sprintf("DROP TABLE sheets_%d", t)
		if k == 0 {
			fmt.Fprintf(&models[t], "model Sheet%d\n    table \"sheets_%d\"\n", t, t)
		} else {
			up, down = fmt.Sprintf(add, t, k), fmt.Sprintf("ALTER TABLE sheets_%d DROP COLUMN c%d", t, k)
			if engine == "sqlite" {
				down = fmt.Sprintf("ALTER TABLE sheets_%[1]d DROP CONSTRAINT sheets_%[1]d_c%[2]d_type;\n%[3]s", t, k, down)
			}
			fmt.Fprintf(&models[t], "    c%d bigint optional\n", k)
		}
		head := fmt.Sprintf("-- : %s  %s  form 2\n", id, engine)
		if follows != "" {
			head += "-- : follows " + follows + "\n"
		}
		if kind != "" {
			head += "-- : not atomic: it can stop between two steps, and goes on or back from there\n"
		}
		follows = id
		check(
			os.WriteFile(filepath.Join(dir, "migrations", id+"."+engine+".sql"),
				fmt.Appendf(nil, "%s\n-- : step 1  m%d%s\n-- : apply\n%s;\n-- : undo\n%s;\n", head, i, kind, up, down),
				0o644),
		)
	}
	var all strings.Builder
	for i := range models {
		all.WriteString(models[i].String() + "\n")
	}
	check(os.WriteFile(filepath.Join(dir, "models", "all.erbario"), []byte(all.String()), 0o644))
}

// mariadbUnique makes a text of a million rows unique.
func (b *bench) mariadbUnique() {
	dir, url := b.onMariaDB("unique")
	check(os.WriteFile(filepath.Join(dir, "models", "all.erbario"), []byte("model Sheet\n    name text(80)\n"), 0o644))
	b.run(dir, "", b.program, "draft", "first", "--apply")
	b.mariadbSQL(url,
		"INSERT INTO sheets (name) SELECT concat('sheet number ', seq * 7919 % 1000003, ' of the house') FROM seq_1_to_1000000")
	check(
		os.WriteFile(filepath.Join(dir, "models", "all.erbario"), []byte("model Sheet\n    name text(80) unique\n"),
			0o644),
	)
	b.run(dir, "", b.program, "draft", "unique")
	ours := b.run(dir, "", b.program, "apply")
	b.run(dir, "", b.program, "undo")
	began := time.Now()
	b.mariadbSQL(url, "ALTER TABLE sheets ADD UNIQUE INDEX bare (name)")
	row("MariaDB: unique over 1,000,000 texts / the bare statement", ours, time.Since(began), "≤ 2.5×")
}
