// Package herbarium is the example project: the collections of an invented
// botanic garden, with rows and an evolution.
package herbarium

import "embed"

// Project is the example project: its settings and its models.
//
//go:embed all:project
var Project embed.FS

// Rows is SQL that fills the first state of the example's tables, as an
// application would.
//
//go:embed rows.sql
var Rows string
