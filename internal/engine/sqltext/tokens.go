package sqltext

// This file turns the tokens of an engine's own reader into those that all engines share.

import "erbario/internal/engine"

// Lexed is a token as an engine's own reader has it.
type Lexed interface {
	// Shared is the same token in the form that all engines share.
	Shared() engine.Token
}

// Shared turns an engine's own tokens into those that all engines share.
func Shared[T Lexed](list []T) []engine.Token {
	out := make([]engine.Token, len(list))
	for i, t := range list {
		if out[i] = t.Shared(); !out[i].Named {
			out[i].Name = ""
		}
	}
	return out
}
