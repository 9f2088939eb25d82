package report

import (
	"encoding/json"
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var rule = Rule{ID: "drift", Words: "a database is as its migrations left it"}

// A result has its rule, a place relative to where the program was started, and a fingerprint that does not depend
// on the line.
func TestSARIF(t *testing.T) {
	look := func(r *Report) (run struct {
		Tool struct {
			Driver struct{ Rules []struct{ ID string } }
		}
		Invocations []struct {
			ExecutionSuccessful        bool
			ToolExecutionNotifications []struct{ Message struct{ Text string } }
		}
		Results []struct {
			RuleID              string
			RuleIndex           int
			Level               string
			Message             struct{ Text string }
			PartialFingerprints map[string]string
			Locations           []struct {
				PhysicalLocation struct {
					ArtifactLocation struct{ URI string }
					Region           *struct{ StartLine, StartColumn int }
				}
			}
		}
	}) {
		var b strings.Builder
		require.NoError(t, r.SARIF(&b))
		var doc struct {
			Version string
			Runs    []json.RawMessage
		}
		require.NoError(t, json.Unmarshal([]byte(b.String()), &doc))
		require.Equal(t, "2.1.0", doc.Version)
		require.Len(t, doc.Runs, 1)
		require.NoError(t, json.Unmarshal(doc.Runs[0], &run))
		return run
	}
	r := &Report{Command: "status"}
	r.Find(Finding{Rule: rule, Level: Warning, Message: "a <b>", Path: "models/odd name.erbario", Line: 3, Column: 5})
	r.Find(Finding{Rule: rule, Level: Warning, Message: "a <b>", Path: "models/odd name.erbario", Line: 7})
	r.Find(Finding{Rule: Rule{ID: "other"}, Level: Error, Message: "b"})
	run := look(r)
	require.Len(t, run.Results, 3)
	assert.Len(t, run.Tool.Driver.Rules, 2)
	assert.True(t, run.Invocations[0].ExecutionSuccessful)
	one := run.Results[0]
	assert.Equal(t, "models/odd%20name.erbario", one.Locations[0].PhysicalLocation.ArtifactLocation.URI)
	assert.Equal(t, 5, one.Locations[0].PhysicalLocation.Region.StartColumn)
	assert.Equal(t, "a <b>", one.Message.Text)
	assert.NotEqual(t, one.PartialFingerprints, run.Results[1].PartialFingerprints, "the same once more")
	assert.Equal(t, 1, run.Results[2].RuleIndex)
	assert.Empty(t, run.Results[2].Locations)

	moved := &Report{}
	moved.Find(Finding{Rule: rule, Level: Warning, Message: "a <b>", Path: "models/odd name.erbario", Line: 9})
	assert.Equal(t, one.PartialFingerprints, look(moved).Results[0].PartialFingerprints)

	failed := look(&Report{Failed: "no server"})
	assert.False(t, failed.Invocations[0].ExecutionSuccessful)
	assert.Equal(t, "no server", failed.Invocations[0].ToolExecutionNotifications[0].Message.Text)
	assert.NotNil(t, failed.Results, "an empty list, not null")
}

// Cases are counted by how they ended.
func TestJUnit(t *testing.T) {
	r := &Report{Command: "prove", Failed: "the rest was not tried"}
	r.Look(Case{Class: "c", Name: "well"})
	r.Look(Case{Class: "c", Name: "bad", Failure: `it "differs" & more`, Details: "one\ntwo ]]> three"})
	r.Look(Case{Class: "c", Name: "gone", Failure: "nobody is there", Broken: true})
	var b strings.Builder
	require.NoError(t, r.JUnit(&b))
	var doc struct {
		XMLName xml.Name `xml:"testsuites"`
		Suite   struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Errors   int `xml:"errors,attr"`
			Cases    []struct {
				Name    string `xml:"name,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
					Text    string `xml:",chardata"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(b.String()), &doc))
	assert.Equal(t, []int{4, 1, 2}, []int{doc.Suite.Tests, doc.Suite.Failures, doc.Suite.Errors})
	assert.Nil(t, doc.Suite.Cases[0].Failure)
	assert.Equal(t, `it "differs" & more`, doc.Suite.Cases[1].Failure.Message)
	assert.Equal(t, "one\ntwo ]]> three", doc.Suite.Cases[1].Failure.Text)
}
