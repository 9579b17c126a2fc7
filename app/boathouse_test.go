package app

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/app/coverage"
	"millgate/core/finding"
	"millgate/testkit/boathouse"
	"millgate/testkit/memnet"
)

// Rule: What is found of the stand-in is found of a service of another stack too, and nothing else.

// boathouseFaults are the faults of the boathouse, with what is to be found of each.
var boathouseFaults = map[string][]string{
	"":                                    nil,
	"confirming opens nothing":            {"R GET /confirm/{code}"},
	"mail without end":                    {"T quota mail"},
	"a link works twice":                  {"U GET /confirm/{code}"},
	"any secret will do":                  {"P POST /members"},
	"new members cannot come in":          {"R POST /members"},
	"a duty can be asked for":             {"P POST /members"},
	"pages show everything":               {"U GET /bookings/{booking}"},
	"bodies before passes":                {"L the guard of pass"},
	"counted before passes are looked at": {"R quota calls"},
	"passes live five minutes longer":     {"S everything behind pass"},
	"leaving ends all":                    {"R everything behind pass"},
	"the plan is public":                  {"X GET /openapi.yaml"},
	"the plan names more":                 {"X GET /cellar"},
	"a missing pass breaks it":            {"W GET /logbook"},
	"the boats fail":                      {"R GET /boats"},
	"each host counts alone":              {"T quota calls", "T quota entry", "T quota mail"},
}

func TestFaultsOfTheBoathouse(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long; make test has it")
	}
	assert.Len(t, boathouseFaults, len(boathouse.Faults)+1)
	for _, fault := range append([]string{""}, boathouse.Faults...) {
		t.Run(fault, func(t *testing.T) {
			virtually(t, func(t *testing.T, n *memnet.Net) {
				s := boathouse.New(fault, "ting")
				base, end := n.Serve(s.Handler())
				defer end()
				post, close := n.Serve(s.Post())
				defer close()
				s.Base = base
				for k, v := range map[string]string{"BELL": "ting", "ANN": "ann-rows-alone", "BOB": "bob-rows-with-her",
					"STEW": "stew-has-the-keys", "KEY": s.Key()} {
					t.Setenv("BOATHOUSE_"+k, v)
				}
				a := openIn(t, n, fmt.Sprintf(boathouse.Declaration, base, post))
				run, res := sweptAt(t, a, "slip")
				var got []string
				for _, f := range res.Findings {
					got = append(got, string(f.Kind)+" "+f.Where())
					assert.NotEqual(t, finding.NotSure, f.Confidence, f.Reason)
				}
				slices.Sort(got)
				assert.Equal(t, boathouseFaults[fault], slices.Compact(got), said(res.Findings))
				assert.Empty(t, res.Doubts(run, coverage.DefaultMostUnproven))
			})
		})
	}
}

// said are findings as a person reads them.
func said(list []finding.Finding) (out string) {
	for _, f := range list {
		out += fmt.Sprintf("\n%s %s by %v: %s. %s", f.Kind, f.Where(), f.Callers, f.Title, f.Reason)
	}
	return out
}
