package project

// This file looks for secrets where version control would take them.

import (
	"context"
	"fmt"
	"net/url"
	"os/exec"
	"slices"
	"strings"
	"time"
)

// Secrets are warnings of secrets that version control has, or would take: a password in
// erbario.toml, and a .env that git tracks.
func (p *Project) Secrets() []string {
	var out []string
	for _, name := range p.Names() {
		d := p.Settings.Database[name]
		if slices.ContainsFunc([]string{d.URL, d.Direct, d.Scratch}, writtenPassword) {
			out = append(
				out,
				fmt.Sprintf(
					"%s contains the password of the database %s: put it into .env, such as %s=secret, and write ${%s} instead",
					SettingsFile, name, passwordVariable(name), passwordVariable(name)),
			)
		}
	}
	if p.tracked(".env") {
		out = append(out,
			"git tracks .env, and everybody who can read the repository can read its secrets. Run git rm --cached .env, add .env to .gitignore, and change the passwords")
	}
	return out
}

func passwordVariable(database string) string {
	return strings.ToUpper(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, database)) + "_PASSWORD"
}

// writtenPassword tells whether a URL, with its variables not filled in, has a password.
func writtenPassword(raw string) bool {
	raw = variable().ReplaceAllString(raw, "")
	u, err := url.Parse(raw)
	if err != nil || strings.HasPrefix(raw, "sqlite:") {
		return false
	}
	password, _ := u.User.Password()
	return password != "" || u.Query().Get("password") != ""
}

// tracked tells whether git tracks a file of the project; without git, or outside of a
// repository, it does not.
func (p *Project) tracked(name string) bool {
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
	defer stop()
	cmd := exec.CommandContext(ctx, "git", "ls-files", "--error-unmatch", "--", name)
	cmd.Dir = p.Dir
	return cmd.Run() == nil
}
