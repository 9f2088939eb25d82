package main

// This file measures MariaDB as postgres.go measures PostgreSQL.

import (
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"erbario/internal/testserver"
)

// mariadbServer starts MariaDB once, like PostgreSQL without waiting for the disk.
func (b *bench) mariadbServer() *testserver.Server {
	if b.mariadb == nil {
		s, err := testserver.StartMariaDB("--innodb-flush-method=nosync", "--innodb-flush-log-at-trx-commit=2",
			"--innodb-doublewrite=0", "--innodb-buffer-pool-size=512M", "--innodb-log-file-size=512M",
			"--table-definition-cache=4000", "--table-open-cache=4000")
		check(err)
		b.mariadb = s
	}
	return b.mariadb
}

func (b *bench) onMariaDB(name string) (dir, url string) {
	dir, url = filepath.Join(b.dir, "mariadb-"+name), testserver.In(b.mariadbServer().URL, name)
	check(os.MkdirAll(dir, 0o755))
	b.run(dir, "", b.program, "init", "--url", url)
	return dir, url
}

// client are the arguments by which a program of MariaDB's reaches a database.
func client(raw string, more ...string) []string {
	u, err := url.Parse(raw)
	check(err)
	return append(
		[]string{"--no-defaults", "--protocol=tcp", "-h", u.Hostname(), "-P", u.Port(), "-u", "root"},
		append(more, strings.TrimPrefix(u.Path, "/"))...)
}

func openMariaDB(raw string) *sql.DB {
	u, err := url.Parse(raw)
	check(err)
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr, c.DBName = "root", "tcp", u.Host, strings.TrimPrefix(u.Path, "/")
	db, err := sql.Open("mysql", c.FormatDSN())
	check(err)
	return db
}

func (b *bench) mariadbSQL(raw string, statements ...string) {
	db := openMariaDB(raw)
	defer db.Close()
	for _, s := range statements {
		_, err := db.Exec(s)
		check(err)
	}
}

func (b *bench) mariadbModels() {
	dir, raw := b.onMariaDB("thousand")
	check(os.WriteFile(filepath.Join(dir, "models", "all.erbario"), []byte(thousand()), 0o644))
	row("MariaDB: draft of 1,000 models of 20 fields", b.run(dir, "", b.program, "draft", "all", "of", "them"), 0, "")
	row("MariaDB: apply of it", b.run(dir, "", b.program, "apply"), 0, "")
	var ours, theirs []time.Duration
	for range 5 { // by turns
		ours = append(ours, b.run(dir, "", b.program, "diff", "--exit-code"))
		theirs = append(theirs, b.run(dir, "", "mariadb-dump", client(raw, "--no-data", "--result-file=dump.sql")...))
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	row("MariaDB: diff with 1,000 tables / mariadb-dump --no-data", ours[2], theirs[2], "≤ 0.5×")
	b.adopt("MariaDB: ", raw, theirs[2])
}

func (b *bench) mariadbLine() {
	dir, raw := b.onMariaDB("line")
	var plain strings.Builder
	follows := ""
	for i := range 500 {
		id := fmt.Sprintf("20260101T%02d%02d%02d-sheet", i/3600, i/60%60, i%60)
		sql := fmt.Sprintf(
			"CREATE TABLE sheet_%d (id bigint NOT NULL AUTO_INCREMENT PRIMARY KEY, name varchar(80) NOT NULL, seen_on date, weight decimal(8,2))",
			i,
		)
		head := fmt.Sprintf("-- : %s  mariadb  form 2\n", id)
		if follows != "" {
			head += "-- : follows " + follows + "\n"
		}
		follows = id
		check(os.MkdirAll(filepath.Join(dir, "migrations"), 0o755))
		check(
			os.WriteFile(
				filepath.Join(dir, "migrations", id+".mariadb.sql"),
				fmt.Appendf(nil,
					"%s\n-- : step 1  create sheet_%d  (outside transaction)\n-- : apply\n%s;\n-- : undo\nDROP TABLE sheet_%d;\n",
					head, i, sql, i),
				0o644,
			),
		)
		fmt.Fprintf(&plain, "%s;\n", sql)
	}
	check(os.WriteFile(filepath.Join(dir, "plain.sql"), []byte(plain.String()), 0o644))
	fresh := func() {
		b.mariadbSQL(b.mariadbServer().URL, "DROP DATABASE IF EXISTS line", "CREATE DATABASE line")
	}
	var ours, theirs []time.Duration
	for range 5 {
		fresh()
		ours = append(ours, b.run(dir, "", b.program, "apply"))
		fresh()
		theirs = append(theirs, b.run(dir, filepath.Join(dir, "plain.sql"), "mariadb", client(raw)...))
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	row("MariaDB: apply of 500 migrations / mariadb, 500 tables", ours[2], theirs[2], "≤ 1.3×")
}

func (b *bench) mariadbSeed() {
	dir, raw := b.onMariaDB("seed")
	check(
		os.WriteFile(filepath.Join(dir, "models", "all.erbario"),
			fmt.Appendf(nil, seedModels, million, `"HB-{0000000}"`), 0o644),
	)
	b.run(dir, "", b.program, "draft", "first", "--apply")
	b.run(dir, "", b.program, "seed", "big")
	out := filepath.Join(dir, "rows.txt")
	b.run(
		dir,
		"",
		"sh",
		"-c",
		"mariadb "+strings.Join(client(raw, "-N", "--quick", "-e", "'SELECT * FROM specimens'"),
			" ")+" | sed 's/NULL/\\\\N/g' > "+out,
	)
	load := client(raw, "--local-infile=1", "-e",
		"LOAD DATA LOCAL INFILE '"+out+"' INTO TABLE specimens CHARACTER SET utf8mb4")
	var ours, theirs []time.Duration
	var memory int64
	for range 3 {
		b.mariadbSQL(raw, "TRUNCATE specimens")
		theirs = append(theirs, b.run(dir, "", "mariadb", load...))
		b.mariadbSQL(raw, "TRUNCATE specimens", "DELETE FROM erbario_seed_runs", "DELETE FROM erbario_seed_rows")
		ours = append(ours, b.run(dir, "", b.program, "seed", "big"))
		memory = max(memory, b.memory)
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	rate := func(d time.Duration) string { return fmt.Sprintf("%.0f k/s", million/1000/d.Seconds()) }
	fmt.Printf("%-58s %12s %12s %8s  %s\n", "MariaDB: seed of 1,000,000 rows / LOAD DATA of them", rate(ours[1]),
		rate(theirs[1]), fmt.Sprintf("%.2f×", theirs[1].Seconds()/ours[1].Seconds()), "≥ 0.8×")
	fmt.Printf("%-58s %12s\n", "  its memory", fmt.Sprintf("%d MB", memory/1024))
}

// mariadbInUse applies each change to a table of a million rows while others work on it,
// in the form for tables in use and in the plain one.
func (b *bench) mariadbInUse() {
	models := func(a [4]string) []byte { return fmt.Appendf(nil, usedModels, a[0], a[1], a[2], a[3]) }
	before := [4]string{"", "optional", "", "collector_id bigint optional index"}
	dir, raw := b.onMariaDB("used")
	path := filepath.Join(dir, "models", "all.erbario")
	check(os.WriteFile(path, models(before), 0o644))
	b.run(dir, "", b.program, "draft", "first", "--apply")
	b.mariadbSQL(raw, "INSERT INTO collectors (name) SELECT concat('collector ', seq) FROM seq_1_to_100",
		"INSERT INTO specimens (accession, label, weight_g, collector_id) SELECT concat('HB-', seq), concat('label ', seq), (seq % 9000) / 8.0, 1 + seq % 100 FROM seq_1_to_1000000")
	settings, err := os.ReadFile(filepath.Join(dir, "erbario.toml"))
	check(err)
	for _, u := range used {
		var longest, took [2]time.Duration
		for i, online := range []string{"always", "never"} {
			check(
				os.WriteFile(filepath.Join(dir, "erbario.toml"),
					append(slices.Clone(settings), "\n[plan]\nonline = \""+online+"\"\n"...), 0o644),
			)
			check(os.WriteFile(path, models(u.after), 0o644))
			b.run(dir, "", b.program, append([]string{"draft", "change"}, u.flags...)...)
			stop := b.mariadbTraffic(raw)
			took[i] = b.run(dir, "", b.program, "apply")
			longest[i] = stop()
			b.run(dir, "", b.program, "undo")
			files, err := filepath.Glob(filepath.Join(dir, "migrations", "*-change.*"))
			check(err)
			for _, f := range files {
				check(os.Remove(f))
			}
		}
		fmt.Printf("%-58s %12s %12s %8s\n", "MariaDB in use: "+u.what+", longest wait / plainly", ms(longest[0]),
			ms(longest[1]), fmt.Sprintf("%.2f×", float64(longest[0])/float64(longest[1])))
		fmt.Printf("%-58s %12s %12s\n", "  the change took", ms(took[0]), ms(took[1]))
	}
}

func (b *bench) mariadbTraffic(raw string) func() time.Duration {
	return traffic("?", func() (func(sql string, id int) error, func()) {
		db := openMariaDB(raw)
		db.SetMaxOpenConns(1)
		return func(sql string, id int) error {
			_, err := db.Exec(sql, id)
			return err
		}, func() { db.Close() }
	})
}
