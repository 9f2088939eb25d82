package report

// This file writes SARIF 2.1.0. Paths are relative, and each result has a fingerprint that stays when lines move, so
// that a build server knows again what it has shown before.

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/url"
)

type sarifText struct {
	Text string `json:"text"`
}

type sarifRule struct {
	ID    string    `json:"id"`
	Words sarifText `json:"shortDescription"`
}

type sarifRegion struct {
	Line   int `json:"startLine"`
	Column int `json:"startColumn,omitempty"`
}

type sarifFile struct {
	URI string `json:"uri"`
}

type sarifPlace struct {
	File   sarifFile    `json:"artifactLocation"`
	Region *sarifRegion `json:"region,omitempty"`
}

type sarifLocation struct {
	Place sarifPlace `json:"physicalLocation"`
}

type sarifResult struct {
	Rule         string            `json:"ruleId"`
	RuleIndex    int               `json:"ruleIndex"`
	Level        Level             `json:"level"`
	Message      sarifText         `json:"message"`
	Locations    []sarifLocation   `json:"locations,omitempty"`
	Fingerprints map[string]string `json:"partialFingerprints"`
}

type sarifNotice struct {
	Level   Level     `json:"level"`
	Message sarifText `json:"message"`
}

type sarifInvocation struct {
	Whole   bool          `json:"executionSuccessful"`
	Notices []sarifNotice `json:"toolExecutionNotifications,omitempty"`
}

type sarifDriver struct {
	Name    string      `json:"name"`
	Version string      `json:"version"`
	Rules   []sarifRule `json:"rules"`
}

type sarifTool struct {
	Driver sarifDriver `json:"driver"`
}

type sarifRun struct {
	Tool        sarifTool         `json:"tool"`
	Invocations []sarifInvocation `json:"invocations"`
	ColumnKind  string            `json:"columnKind"`
	Results     []sarifResult     `json:"results"`
}

// SARIF writes the findings.
func (r *Report) SARIF(w io.Writer) error {
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	run.Tool.Driver = sarifDriver{Name: "Erbario", Version: r.Version, Rules: []sarifRule{}}
	done := sarifInvocation{Whole: r.Failed == ""}
	if r.Failed != "" {
		done.Notices = []sarifNotice{{Error, sarifText{r.Failed}}}
	}
	run.Invocations = []sarifInvocation{done}
	at := map[string]int{}
	again := map[string]int{}
	for _, f := range r.Findings {
		i, known := at[f.Rule.ID]
		if !known {
			i = len(run.Tool.Driver.Rules)
			at[f.Rule.ID] = i
			run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{f.Rule.ID, sarifText{f.Rule.Words}})
		}
		one := sarifResult{Rule: f.Rule.ID, RuleIndex: i, Level: f.Level, Message: sarifText{f.Message}}
		if f.Path != "" {
			place := sarifPlace{File: sarifFile{(&url.URL{Path: f.Path}).EscapedPath()}}
			if f.Line > 0 {
				place.Region = &sarifRegion{f.Line, f.Column}
			}
			one.Locations = []sarifLocation{{place}}
		}
		key := f.Rule.ID + "\n" + f.Path + "\n" + f.Message
		again[key]++
		sum := sha256.Sum256(fmt.Appendf(nil, "%s\n%d", key, again[key]))
		one.Fingerprints = map[string]string{"erbario/v1": hex.EncodeToString(sum[:8])}
		run.Results = append(run.Results, one)
	}
	return write(w, struct {
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}{"2.1.0", []sarifRun{run}})
}
