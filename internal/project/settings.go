package project

// This file sets settings in erbario.toml, and leaves all else there as it is.

import (
	"fmt"
	"path/filepath"
	"strings"
)

// Set is the text of the settings with one more; a value that is no number, true or false is
// quoted. What is set already gets the new value.
func Set(text, section, key, value string) string {
	if value != "true" && value != "false" {
		value = fmt.Sprintf("%q", value)
	}
	line := key + " = " + value
	lines := strings.SplitAfter(text, "\n")
	at := -1 // behind the last setting of the section
	for i, l := range lines {
		l = strings.TrimSpace(l)
		switch {
		case l == "["+section+"]":
			at = i + 1
		case strings.HasPrefix(l, "["):
			if at > 0 {
				i = len(lines)
			}
		case at > 0:
			name, _, _ := strings.Cut(l, "=")
			if strings.TrimSpace(name) == key {
				lines[i] = line + "\n"
				return strings.Join(lines, "")
			}
			if l != "" && !strings.HasPrefix(l, "#") {
				at = i + 1
			}
		}
		if i == len(lines) {
			break
		}
	}
	if at < 0 {
		first := strings.Index(text, "\n[database.")
		block := fmt.Sprintf("\n[%s]\n%s\n", section, line)
		if first < 0 {
			return strings.TrimRight(text, "\n") + "\n" + block
		}
		return text[:first] + block + text[first:]
	}
	return strings.Join(lines[:at], "") + line + "\n" + strings.Join(lines[at:], "")
}

// SettingsText is the text of the settings.
func (p *Project) SettingsText() (string, error) { return ReadFile(filepath.Join(p.Dir, SettingsFile)) }

// WriteSettings writes the text of the settings.
func (p *Project) WriteSettings(text string) error {
	return WriteFile(filepath.Join(p.Dir, SettingsFile), text)
}
