package editor

// This file has a sentence for each word of the language, as the reference has it.

import (
	_ "embed"
	"strings"
	"sync"
)

//go:embed words.txt
var wordsText string

// explanations are the sentences, by the place of the word and the word: "clause optional".
var explanations = sync.OnceValue(func() map[string]string {
	out := map[string]string{}
	place := ""
	for line := range strings.Lines(wordsText) {
		line = strings.TrimRight(line, "\n")
		word, sentence, ok := strings.Cut(line, ": ")
		switch {
		case strings.HasPrefix(line, "["):
			place = strings.Trim(line, "[]")
		case ok:
			out[place+" "+word] = sentence
		}
	}
	return out
})

func explain(place, word string) string { return explanations()[place+" "+word] }
