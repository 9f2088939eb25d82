package mariadb

// This file tests what needs no server: versions, tokens, statements.

import (
	"strings"
	"testing"

	"erbario/internal/engine/sqltok"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestVersions(t *testing.T) {
	for version, want := range map[string]string{"10.11.19-MariaDB-0+deb12u1": "MariaDB 10.11.19", "5.5.5-10.6.4-MariaDB-log": "MariaDB 10.6.4", "11.8.2-MariaDB": "MariaDB 11.8.2", "8.0.36": "MySQL 8.0.36", "8.4.3-commercial": "MySQL 8.4.3", "9.1": "MySQL 9.1.0"} {
		s, err := readServer(version)
		require.NoError(t, err)
		assert.Equal(t, want, s.String())
	}
	for version, want := range map[string]string{"10.5.23-MariaDB": "MariaDB 10.5.23, and erbario works with MariaDB 10.6.0 and newer", "5.7.44": "MySQL 5.7.44, and erbario works with MySQL 8.0.16", "what": "neither"} {
		_, err := readServer(version)
		assert.ErrorContains(t, err, want)
	}
	maria, _ := readServer("10.11.19-MariaDB")
	old, _ := readServer("10.6.4-MariaDB")
	my, _ := readServer("8.0.36")
	assert.Contains(t, maria.session(), "SESSION max_statement_time = 0")
	assert.Contains(t, my.session(), "SESSION max_execution_time = 0")
	assert.Equal(t, []bool{true, false, false}, []bool{maria.uuid(), old.uuid(), my.uuid()})
	assert.Equal(t, "utf8mb4_0900_bin", my.binary())
	for _, c := range []struct {
		server     server
		value      string
		sqlType    string
		expression bool
		want       string
	}{
		{maria, "'it''s'", "varchar(9)", false, "'it''s'"}, {maria, "1.5", "decimal(8,2)", false, "1.5"}, {maria, "uuid()", "uuid", false, "uuid()"}, {maria, "NULL", "int", false, ""},
		{my, "it's", "varchar(9)", false, "'it''s'"}, {my, "1.5", "decimal(8,2)", false, "1.5"}, {my, "uuid()", "char(36)", true, "uuid()"}, {my, "NULL", "varchar(9)", false, "'NULL'"}, {my, "CURRENT_TIMESTAMP(6)", "datetime(6)", true, "CURRENT_TIMESTAMP(6)"},
		{my, "2026-01-01", "date", false, "'2026-01-01'"}, {my, "b'101'", "bit(3)", false, "b'101'"},
	} {
		got := c.server.defaultOf([]byte(c.value), c.sqlType, c.expression)
		if c.want == "" {
			assert.Nil(t, got, c.value)
			continue
		}
		require.NotNil(t, got, c.value)
		assert.Equal(t, c.want, got.Text)
	}
	assert.Equal(t, "int", shortType("int(11)", maria))
	assert.Equal(t, "bigint unsigned", shortType("bigint(20) unsigned", maria))
	assert.Equal(t, "tinyint(1)", shortType("tinyint(1)", my))
}

// A view that is copied reads its own database, never the one that it was copied from.
func TestUnqualified(t *testing.T) {
	for text, want := range map[string]string{
		"select `garden`.`odd`.`id` AS `id` from `garden`.`odd`":                                                                    "select `odd`.`id` AS `id` from `odd`",
		"select `o`.`id` AS `id` from (`garden`.`odd` `o` left join `garden`.`kid` `k` on(`k`.`odd_id` = `o`.`id`))":                "select `o`.`id` AS `id` from (`odd` `o` left join `kid` `k` on(`k`.`odd_id` = `o`.`id`))",
		"select 'garden.x' AS `t`,`garden`.`f`(1) AS `n` from `garden`.`odd` where `garden`.`odd`.`a` in (select `q`.`a` from `q`)": "",
		"select `other`.`t`.`a` AS `a` from `other`.`t`":                                                                            "",
		"select `garden`.`a` AS `a` from `garden`.`odd` `garden`":                                                                   "",
	} {
		got, ok := unqualified(text, "garden")
		if want == "" {
			assert.False(t, ok, text)
			continue
		}
		assert.True(t, ok, text)
		assert.Equal(t, want, got)
	}
}

func TestTokens(t *testing.T) {
	var got []string
	for _, x := range tokens("SELECT `a``b`, 'it''s \\' ;', \"x\", _utf8mb4'é', 0x41, 1.5e3, a<=>b -- rest\n, c--1 # more\n/* ; */ = :name") {
		got = append(got, x.Text)
	}
	assert.Equal(
		t,
		[]string{
			"SELECT",
			"`a``b`",
			",",
			`'it''s \' ;'`,
			",",
			`"x"`,
			",",
			"_utf8mb4'é'",
			",",
			"0x41",
			",",
			"1.5e3",
			",",
			"a",
			"<=>",
			"b",
			",",
			"c",
			"-",
			"-",
			"1",
			"=",
			":name",
		},
		got,
	)
	assert.Equal(t, sqltok.Bad, tokens("/*! DROP TABLE t */")[0].Kind)
	assert.Equal(t, canon("(`A` <> 'x')"), canon("a != \"x\""))
}

func TestSplit(t *testing.T) {
	src := "SELECT 1; -- one;\nSELECT ';', \"a;b\", `c;d`, 'it\\';' /* ; */, IF(a, 1, 2), CASE WHEN a THEN 1 END;\n" +
		"CREATE TRIGGER a BEFORE UPDATE ON t FOR EACH ROW IF (NEW.a > 1) THEN SET NEW.a = IF(NEW.b, 1, 2); ELSEIF 1 THEN SET NEW.b = 1; END IF;\n" +
		"CREATE PROCEDURE p() BEGIN DECLARE n INT; WHILE n < 3 DO SET n = CASE WHEN n THEN IF(n, 1, 2) END; IF n THEN LEAVE x; END IF; END WHILE; REPEAT SET n = 1; UNTIL n END REPEAT; CASE n WHEN 1 THEN SET n = 2; END CASE; END;\n" +
		"CREATE TRIGGER b AFTER DELETE ON t FOR EACH ROW PRECEDES `a` IF OLD.id THEN DELETE FROM u WHERE id = OLD.id; END IF; SELECT :name"
	var got []string
	for _, p := range (Engine{}).Split(src) {
		if !p.Comment {
			got = append(got, p.Text)
		}
	}
	require.Len(t, got, 6)
	assert.True(t, strings.HasPrefix(got[2], "CREATE TRIGGER a") && strings.HasSuffix(got[2], "END IF"))
	assert.True(t, strings.HasPrefix(got[3], "CREATE PROCEDURE") && strings.HasSuffix(got[3], "END CASE; END"))
	assert.Equal(t, "SELECT :name", got[5])
	assert.Equal(t, "SELECT 7, ':name'", Engine{}.Bind("SELECT :name, ':name'", map[string]string{"name": "7"}))
}

// A key of several columns is compared column by column, whatever its values hold.
func TestCompareKey(t *testing.T) {
	e := Engine{}
	assert.Equal(t, "(a) > (7)", e.CompareKey([]string{"a"}, ">", "(7)"))
	assert.Equal(t, "(a > -7 OR a = -7 AND b > 'x, (y)' OR a = -7 AND b = 'x, (y)' AND c > 3)",
		e.CompareKey([]string{"a", "b", "c"}, ">", "(-7, 'x, (y)', 3)"))
	assert.Equal(t, "(a < 1 OR a = 1 AND b <= X'00')", e.CompareKey([]string{"a", "b"}, "<=", "(1, X'00')"))
}
