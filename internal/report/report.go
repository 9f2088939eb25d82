// Package report puts what a run found into the formats that editors and build servers read: SARIF 2.1.0, whose
// results are at lines of files, and the XML of JUnit, whose cases have passed or failed.
package report

import (
	"encoding/json"
	"encoding/xml"
	"io"
)

// Report is what one run found.
type Report struct {
	Command  string // of the program, such as "check"
	Version  string // of the program
	Failed   string // why the run ended early; empty: it did not
	Findings []Finding
	Cases    []Case
}

// Level says how bad a finding is.
type Level string

// The levels, in SARIF's words.
const (
	Error   Level = "error"
	Warning Level = "warning"
	Note    Level = "note"
)

// Rule is a kind of finding.
type Rule struct {
	ID    string // such as "changed-outside"
	Words string // one sentence on what it finds
}

// Finding is one thing at a place in a file.
type Finding struct {
	Rule    Rule
	Level   Level
	Message string
	Path    string // relative, with slashes; empty: it is about no file
	Line    int    // from 1; 0: the whole file
	Column  int    // from 1, in characters; 0: the whole line
}

// Case is one thing that was looked at, and is well or is not.
type Case struct {
	Class, Name string
	Failure     string // in one sentence; empty: it is well
	Details     string // more lines on that
	Broken      bool   // nobody could look at it: Failure says why
}

// Find adds a finding.
func (r *Report) Find(f Finding) { r.Findings = append(r.Findings, f) }

// Look adds a case.
func (r *Report) Look(c Case) { r.Cases = append(r.Cases, c) }

// JUnit writes the cases.
func (r *Report) JUnit(w io.Writer) error {
	type problem struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",cdata"`
	}
	type testcase struct {
		Class   string   `xml:"classname,attr"`
		Name    string   `xml:"name,attr"`
		Failure *problem `xml:"failure,omitempty"`
		Error   *problem `xml:"error,omitempty"`
	}
	type suite struct {
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Errors   int        `xml:"errors,attr"`
		Cases    []testcase `xml:"testcase"`
	}
	cases := r.Cases
	if r.Failed != "" {
		cases = append(cases, Case{Class: "erbario." + r.Command, Name: "the run", Failure: r.Failed, Broken: true})
	}
	s := suite{Name: "erbario " + r.Command, Tests: len(cases)}
	for _, c := range cases {
		one := testcase{Class: c.Class, Name: c.Name}
		switch {
		case c.Failure == "":
		case c.Broken:
			s.Errors++
			one.Error = &problem{c.Failure, c.Details}
		default:
			s.Failures++
			one.Failure = &problem{c.Failure, c.Details}
		}
		s.Cases = append(s.Cases, one)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(w)
	enc.Indent("", "  ")
	if err := enc.Encode(struct {
		XMLName struct{} `xml:"testsuites"`
		Suite   suite    `xml:"testsuite"`
	}{Suite: s}); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// write writes a value as JSON.
func write(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}
