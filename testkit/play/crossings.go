package play

import (
	"millgate/core/access"
	"millgate/core/check"
)

// Crossings are none: a test puts what a family asks for in their place.
type Crossings struct{}

// Control is none.
func (Crossings) Control(int) (check.Sample, bool) { return check.Sample{}, false }

// Works is none.
func (Crossings) Works(string, string) (check.Sample, bool) { return check.Sample{}, false }

// Using are none.
func (Crossings) Using(string) []string { return nil }

// Address is nowhere.
func (Crossings) Address(int) check.Request { return check.Request{} }

// ControlAt is none.
func (Crossings) ControlAt(int) (*check.Probe, string) { return nil, "" }

// At are none.
func (Crossings) At(int) []*check.Probe { return nil }

// Classes are none.
func (Crossings) Classes() []access.Class { return nil }
