// Command bench measures the program beside the database's own client doing the
// same work, in one run: these machines are noisy, and only ratios hold. It
// prints a table; nothing is asserted.
//
//	go run ./internal/bench bin/erbario
package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/migration"
	"erbario/internal/testserver"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: bench PROGRAM")
		os.Exit(2)
	}
	program, err := filepath.Abs(os.Args[1])
	check(err)
	dir, err := os.MkdirTemp("", "erbario-bench-")
	check(err)
	defer os.RemoveAll(dir)
	check(os.Setenv("XDG_CACHE_HOME", filepath.Join(dir, "cache")))
	b := &bench{program: program, dir: dir}
	fmt.Printf("%s %s, %s, %d cores\n\n", runtime.GOOS, runtime.GOARCH, cpu(), runtime.NumCPU())
	fmt.Printf("%-58s %12s %12s %8s  %s\n", "", "erbario", "beside it", "ratio", "goal")
	parts := map[string]func(){
		"start":          b.startUp,
		"models":         b.thousandModels,
		"editing":        b.editing,
		"line":           b.fiveHundredMigrations,
		"rows":           b.millionRows,
		"seed":           b.seeds,
		"huge":           b.hugeSeed,
		"server-models":  b.serverModels,
		"server-line":    b.serverLine,
		"server-seed":    b.serverSeed,
		"in-use":         b.inUse,
		"mariadb-models": b.mariadbModels,
		"mariadb-line":   b.mariadbLine,
		"mariadb-seed":   b.mariadbSeed,
		"mariadb-in-use": b.mariadbInUse,
		"growth":         b.growth,
		"mariadb-unique": b.mariadbUnique,
	}
	defer func() {
		if b.postgres != nil {
			b.postgres.Stop()
		}
		if b.mariadb != nil {
			b.mariadb.Stop()
		}
	}()
	for _, name := range []string{"start", "models", "editing", "line", "rows", "seed", "huge", "server-models", "server-line", "server-seed", "in-use", "mariadb-models", "mariadb-line", "mariadb-seed", "mariadb-in-use", "mariadb-unique", "growth"} {
		if only := os.Getenv("ERBARIO_BENCH"); only == "" && name != "huge" || only == name {
			parts[name]()
		}
	}
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func cpu() string {
	text, _ := os.ReadFile("/proc/cpuinfo")
	for line := range strings.Lines(string(text)) {
		if name, ok := strings.CutPrefix(line, "model name"); ok {
			return strings.TrimSpace(strings.Trim(strings.TrimSpace(name), ":"))
		}
	}
	return "unknown processor"
}

type bench struct {
	program, dir string
	memory       int64 // of the last run, in kB, at its most
	postgres     *testserver.Server
	mariadb      *testserver.Server
}

// run runs a command and returns how long it took.
func (b *bench) run(dir, stdin string, name string, args ...string) time.Duration {
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	if stdin != "" {
		f, err := os.Open(stdin)
		check(err)
		defer f.Close()
		cmd.Stdin = f
	}
	began := time.Now()
	out, err := cmd.CombinedOutput()
	took := time.Since(began)
	if err != nil {
		fmt.Fprintf(os.Stderr, "%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
		os.Exit(1)
	}
	if use, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		b.memory = use.Maxrss
	}
	return took
}

// median of the times that f gives, of which the first is left out.
func median(n int, f func() time.Duration) time.Duration {
	var list []time.Duration
	f()
	for range n {
		list = append(list, f())
	}
	slices.Sort(list)
	return list[len(list)/2]
}

func row(what string, ours, beside time.Duration, goal string) {
	ratio, other := "", ""
	if beside > 0 {
		ratio, other = fmt.Sprintf("%.2f×", float64(ours)/float64(beside)), ms(beside)
	}
	fmt.Printf("%-58s %12s %12s %8s  %s\n", what, ms(ours), other, ratio, goal)
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

func (b *bench) write(path, text string) {
	path = filepath.Join(b.dir, path)
	check(os.MkdirAll(filepath.Dir(path), 0o755))
	check(os.WriteFile(path, []byte(text), 0o644))
}

func (b *bench) startUp() {
	b.write("empty/main.go", "package main\n\nfunc main() {}\n")
	b.write("empty/go.mod", "module empty\n\ngo 1.26\n")
	b.run(filepath.Join(b.dir, "empty"), "", "go", "build", "-o", "empty", ".")
	empty := filepath.Join(b.dir, "empty", "empty")
	ours := median(31, func() time.Duration { return b.run(b.dir, "", b.program, "--version") })
	theirs := median(31, func() time.Duration { return b.run(b.dir, "", empty) })
	row("start: --version / an empty Go program", ours, theirs, "≤ 3×")
	info, err := os.Stat(b.program)
	check(err)
	fmt.Printf("%-58s %9.1f MB %12s %8s  %s\n", "the program's file", float64(info.Size())/1e6, "", "", "≤ 32 MB")
}

// thousand are the models of a thousand tables of twenty fields.
func thousand() string {
	var models strings.Builder
	types := []string{
		"text(80)", "integer", "date optional", "decimal(8,2) optional", "boolean default false",
		"timestamp default now", "text optional", "bigint range 0..",
	}
	for i := range 1000 {
		fmt.Fprintf(&models, "model Sheet%d\n", i)
		for j := range 19 {
			fmt.Fprintf(&models, "    field_%d %s\n", j, types[j%len(types)])
		}
		if i > 0 {
			fmt.Fprintf(&models, "    before references Sheet%d optional\n", i-1)
		} else {
			models.WriteString("    mark text(20) unique\n")
		}
		models.WriteByte('\n')
	}
	return models.String()
}

func (b *bench) thousandModels() {
	dir := filepath.Join(b.dir, "thousand")
	check(os.MkdirAll(dir, 0o755))
	b.run(dir, "", b.program, "init", "--url", "sqlite:herbarium.db")
	b.write("thousand/models/all.erbario", thousand())
	row("check of 1,000 models of 20 fields",
		median(7, func() time.Duration { return b.run(dir, "", b.program, "check") }), 0, "≤ 250 ms")
	took := b.run(dir, "", b.program, "draft", "all", "of", "them")
	row("draft of them all, proved", took, 0, "")
	row("apply of it", b.run(dir, "", b.program, "apply"), 0, "")
	checked := median(7, func() time.Duration { return b.run(dir, "", b.program, "check") })
	ours := median(7, func() time.Duration { return b.run(dir, "", b.program, "diff", "--exit-code") })
	theirs := median(7, func() time.Duration { return b.run(dir, "", "sqlite3", "herbarium.db", ".schema") })
	row("diff with 1,000 tables / sqlite3 .schema", ours, theirs, "plus check")
	row("  the same without check", max(ours-checked, time.Millisecond), theirs, "≤ 1.5×")
	b.adopt("", "sqlite:../thousand/herbarium.db", theirs)
}

// adopt takes a database over that has tables of its own, in an empty folder, beside what the
// client needs to show it.
func (b *bench) adopt(server, url string, beside time.Duration) {
	took := median(3, func() time.Duration {
		dir := filepath.Join(b.dir, "adopting")
		check(os.RemoveAll(dir))
		check(os.MkdirAll(dir, 0o755))
		return b.run(dir, "", b.program, "adopt", "--url", url, "--dry-run")
	})
	row(server+"adopt of 1,000 tables / the same dump", took, beside, "≤ 2×, plus 1 s")
}

func (b *bench) fiveHundredMigrations() {
	dir := filepath.Join(b.dir, "line")
	check(os.MkdirAll(dir, 0o755))
	b.run(dir, "", b.program, "init", "--url", "sqlite:herbarium.db")
	var plain strings.Builder
	follows := ""
	for i := range 500 {
		id := fmt.Sprintf("20260101T%02d%02d%02d-sheet", i/3600, i/60%60, i%60)
		sql := fmt.Sprintf(
			"CREATE TABLE sheet_%d (id INTEGER PRIMARY KEY AUTOINCREMENT, name VARCHAR(80) NOT NULL, seen_on DATE, weight DECIMAL(8,2))",
			i,
		)
		head := fmt.Sprintf("-- : %s  sqlite  form 2\n", id)
		if follows != "" {
			head += "-- : follows " + follows + "\n"
		}
		follows = id
		b.write(
			"line/migrations/"+id+".sqlite.sql",
			fmt.Sprintf("%s\n-- : step 1  create sheet_%d\n-- : apply\n%s;\n-- : undo\nDROP TABLE sheet_%d;\n", head, i,
				sql, i),
		)
		fmt.Fprintf(&plain, "BEGIN IMMEDIATE;\n%s;\nCOMMIT;\n", sql)
	}
	b.write("line/plain.sql", plain.String())
	fresh := func(f func() time.Duration) func() time.Duration {
		return func() time.Duration {
			os.Remove(filepath.Join(dir, "herbarium.db"))
			return f()
		}
	}
	var ours, theirs []time.Duration
	for range 5 { // by turns, since the disk has moods
		ours = append(ours, fresh(func() time.Duration { return b.run(dir, "", b.program, "apply") })())
		theirs = append(theirs, fresh(func() time.Duration {
			return b.run(dir, filepath.Join(dir, "plain.sql"), "sqlite3", "herbarium.db")
		})())
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	row("apply of 500 migrations / sqlite3, 500 commits", ours[2], theirs[2], "≤ 1.2×")
}

const million = 1_000_000

// millionRows copies a table of a million rows, and asks ten questions of it.
func (b *bench) millionRows() {
	dir := filepath.Join(b.dir, "million")
	check(os.MkdirAll(dir, 0o755))
	b.run(dir, "", b.program, "init", "--url", "sqlite:herbarium.db")
	var fields strings.Builder
	for i := range 10 {
		fmt.Fprintf(&fields, "    field_%d text(20)\n", i)
	}
	before := "model Specimen\n    accession text(20) unique\n    weight_g decimal(8,3) optional\n    collected_on date optional\n" + fields.String()
	b.write("million/models/all.erbario", before)
	b.run(dir, "", b.program, "draft", "first")
	b.run(dir, "", b.program, "apply")
	b.write(
		"million/rows.sql",
		fmt.Sprintf(
			"BEGIN; WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO specimens (accession, weight_g, collected_on%s) SELECT 'HB-' || i, (i %% 9000) / 8.0, date('2000-01-01', (i %% 9000) || ' days')%s FROM n; COMMIT;",
			million, repeat(", field_%d"),
			repeat(", CASE WHEN i %% %d00017 = 0 THEN 'word ' || i ELSE substr('leaf root stem', 1 + i %% 5, 4) END")),
	)
	b.run(dir, filepath.Join(dir, "rows.sql"), "sqlite3", "herbarium.db")
	copyOf := func(name string) {
		b.run(dir, "", "cp", "herbarium.db",
			name) // not through our own memory: a child begins with what its parent has
	}
	copyOf("before.db")

	// Ten questions: no word may be longer than four letters.
	short := strings.ReplaceAll(before, "text(20)\n", "text(4)\n")
	b.write("million/models/all.erbario", short)
	asked := median(3, func() time.Duration { return b.run(dir, "", b.program, "diff") })
	e, err := engines.All().ByName("sqlite")
	check(err)
	var queries []string
	for i := range 10 {
		queries = append(
			queries,
			fmt.Sprintf(
				"SELECT id, field_%[1]d FROM specimens WHERE NOT (typeof(field_%[1]d) IN ('text', 'null') AND length(field_%[1]d) <= 4 AND instr(field_%[1]d, char(0)) = 0)",
				i,
			),
		)
	}
	ctx := context.Background()
	bare := median(3, func() time.Duration {
		db, err := e.Open(ctx, "sqlite:"+filepath.Join(dir, "herbarium.db"), engine.ReadOnly)
		check(err)
		defer db.Close()
		began := time.Now()
		for _, q := range queries {
			_, err := db.Count(ctx, q)
			check(err)
		}
		return time.Since(began)
	})
	row("diff with ten questions to 1,000,000 rows / the ten bare queries", asked, bare, "≤ 1.2×")

	// A copy of the table: a required field, worked out.
	b.write("million/models/all.erbario",
		strings.Replace(before, "    weight_g", "    drawer integer\n    weight_g", 1))
	b.run(dir, "", b.program, "draft", "drawers", "--fill", "specimens.drawer=sql:id % 40")
	files, err := migration.ReadFolder(filepath.Join(dir, "migrations"), e)
	check(err)
	var byHand strings.Builder
	byHand.WriteString("PRAGMA foreign_keys = OFF;\nPRAGMA legacy_alter_table = ON;\nBEGIN IMMEDIATE;\n")
	for _, sql := range files[len(files)-1].SQL(false) {
		byHand.WriteString(sql + ";\n")
	}
	byHand.WriteString("COMMIT;\n")
	b.write("million/byhand.sql", byHand.String())
	var ours, theirs []time.Duration
	var memory int64
	for range 3 { // by turns
		check(os.Rename(filepath.Join(dir, "before.db"), filepath.Join(dir, "herbarium.db")))
		copyOf("before.db")
		theirs = append(theirs, b.run(dir, filepath.Join(dir, "byhand.sql"), "sqlite3", "herbarium.db"))
		check(os.Rename(filepath.Join(dir, "before.db"), filepath.Join(dir, "herbarium.db")))
		copyOf("before.db")
		ours = append(ours, b.run(dir, "", b.program, "apply"))
		memory = max(memory, b.memory)
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	row("copy of a table of 1,000,000 rows / the same in sqlite3", ours[1], theirs[1], "≤ 2×")
	fmt.Printf("%-58s %12s %12s %8s  %s\n", "  its memory", fmt.Sprintf("%d MB", memory/1024), "", "", "≤ 60 MB")
}

// seedModels is a table of eight columns with one uniqueness, and a seed of it.
const seedModels = `choice Rarity: common, scarce, threatened

model Specimen
    accession          text(20)                unique
    label              text(80)                nonblank
    collector          text(80)                nonblank
    collected_on       date
    weight_g           decimal(8,3)
    rarity             Rarity                  default common
    mounted            boolean                 default false

seed big
    Specimen %d
        accession %s
        collector name
        label sentence 5
`

// seeds makes a million rows and loads them, beside the client's own import of the
// very same rows, with the same cache; unique values in order, and at random.
func (b *bench) seeds() {
	for _, kind := range []struct{ what, accession string }{{"in order", `"HB-{0000000}"`}, {"at random", "random 10"}} {
		dir := filepath.Join(b.dir, "seed "+kind.what)
		check(os.MkdirAll(dir, 0o755))
		b.run(dir, "", b.program, "init", "--url", "sqlite:herbarium.db")
		check(
			os.WriteFile(filepath.Join(dir, "models", "all.erbario"),
				fmt.Appendf(nil, seedModels, million, kind.accession), 0o644),
		)
		b.run(dir, "", b.program, "draft", "first", "--apply")
		b.run(dir, "", "cp", "herbarium.db", "empty.db")
		b.run(dir, "", b.program, "seed", "big")
		b.run(dir, "", "sqlite3", "herbarium.db", ".mode csv", ".once rows.csv", "SELECT * FROM specimens")
		settings, err := os.ReadFile(filepath.Join(dir, "erbario.toml"))
		check(err)
		for _, cache := range []struct {
			what, url, pragma string
		}{{"default cache", "sqlite:herbarium.db", "PRAGMA cache_size = -2000"}, {"cache of 200 MB", "sqlite:herbarium.db?cache=200MB", "PRAGMA cache_size = -204800"}} {
			check(
				os.WriteFile(filepath.Join(dir, "erbario.toml"),
					[]byte(strings.ReplaceAll(string(settings), "sqlite:herbarium.db", cache.url)), 0o644),
			)
			var ours, theirs []time.Duration
			var memory int64
			for range 3 { // by turns
				b.run(dir, "", "cp", "empty.db", "other.db")
				theirs = append(theirs,
					b.run(dir, "", "sqlite3", "other.db", cache.pragma, ".mode csv", ".import rows.csv specimens"))
				b.run(dir, "", "cp", "empty.db", "herbarium.db")
				ours = append(ours, b.run(dir, "", b.program, "seed", "big"))
				memory = max(memory, b.memory)
			}
			slices.Sort(ours)
			slices.Sort(theirs)
			rate := func(d time.Duration) string { return fmt.Sprintf("%.0f k/s", million/1000/d.Seconds()) }
			fmt.Printf("%-58s %12s %12s %8s  %s\n",
				fmt.Sprintf("seed of 1,000,000 rows, unique %s, %s / .import", kind.what, cache.what), rate(ours[1]),
				rate(theirs[1]), fmt.Sprintf("%.2f×", theirs[1].Seconds()/ours[1].Seconds()), "≥ 0.8×")
			fmt.Printf("%-58s %12s\n", "  its memory", fmt.Sprintf("%d MB", memory/1024))
		}
	}
}

// hugeSeed makes ten million rows, for the memory that they take.
func (b *bench) hugeSeed() {
	dir := filepath.Join(b.dir, "huge")
	check(os.MkdirAll(dir, 0o755))
	b.run(dir, "", b.program, "init", "--url", "sqlite:herbarium.db")
	check(
		os.WriteFile(filepath.Join(dir, "models", "all.erbario"), fmt.Appendf(nil, seedModels, 10*million, "random 10"),
			0o644),
	)
	b.run(dir, "", b.program, "draft", "first", "--apply")
	took := b.run(dir, "", b.program, "seed", "big")
	fmt.Printf("%-58s %12s %12s %8s  %s\n", "seed of 10,000,000 rows: its memory", fmt.Sprintf("%d MB", b.memory/1024),
		took.Round(time.Second), "", "≤ 150 MB")
}

// repeat writes a piece of SQL for each of the ten fields.
func repeat(format string) string {
	var b strings.Builder
	for i := range 10 {
		fmt.Fprintf(&b, format, i+1)
	}
	return strings.ReplaceAll(b.String(), "field_10", "field_0")
}
