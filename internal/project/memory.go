package project

// This file keeps what is slow to find out in the user's own folder for caches, never in the
// project: a file for each fact, which may be deleted at any time.

import (
	"os"
	"path/filepath"
	"slices"
	"time"
)

// Memory keeps short texts by name in a folder. Where the folder cannot be written or read it
// knows nothing, and says nothing of it.
type Memory struct{ folder string }

// most is how many texts it keeps; the oldest go first.
const most = 200

// NewMemory is the one in the user's folder for caches.
func NewMemory() *Memory {
	home, err := os.UserCacheDir()
	if err != nil {
		return &Memory{}
	}
	return &Memory{filepath.Join(home, "erbario")}
}

// Recall is what was remembered by a name; "": nothing was, or it is forgotten.
func (m *Memory) Recall(name string) string {
	if m.folder == "" {
		return ""
	}
	text, err := os.ReadFile(filepath.Join(m.folder, name))
	if err != nil {
		return ""
	}
	return string(text)
}

// Remember keeps a text by a name, which is a file name.
func (m *Memory) Remember(name, text string) {
	if m.folder == "" || os.MkdirAll(m.folder, 0o700) != nil {
		return
	}
	// Written beside and moved: a run at the same time never reads a half.
	beside, err := os.CreateTemp(m.folder, ".new-*")
	if err != nil {
		return
	}
	_, err = beside.WriteString(text)
	if closed := beside.Close(); err != nil || closed != nil ||
		os.Rename(beside.Name(), filepath.Join(m.folder, name)) != nil {
		_ = os.Remove(beside.Name())
		return
	}
	m.forget()
}

// forget removes the oldest where there are too many.
func (m *Memory) forget() {
	entries, err := os.ReadDir(m.folder)
	if err != nil || len(entries) <= most {
		return
	}
	age := func(e os.DirEntry) time.Time {
		if info, err := e.Info(); err == nil {
			return info.ModTime()
		}
		return time.Time{}
	}
	slices.SortFunc(entries, func(a, b os.DirEntry) int { return age(a).Compare(age(b)) })
	for _, e := range entries[:len(entries)-most] {
		_ = os.Remove(filepath.Join(m.folder, e.Name()))
	}
}
