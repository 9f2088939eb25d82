// Package ddl holds what the engines do alike when they turn declarations and changes into
// SQL: each puts in the few words that are its own. What an engine does in a way of its own
// is in its own folder.
package ddl
