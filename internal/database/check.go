package database

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// Check is something that was looked at before anything is changed.
type Check struct {
	What   string `json:"what"`             // "rights"
	Found  string `json:"found,omitempty"`  // for people
	Failed string `json:"failed,omitempty"` // why it stands in the way
	Note   bool   `json:"note,omitempty"`   // it does not stand in the way, but is worth a look
	Err    error  `json:"-"`                // that of Failed
}

// Failure is a Check that stands in the way.
func Failure(what string, err error) Check { return Check{What: what, Failed: err.Error(), Err: err} }

// Need is what a new state of a database takes of the one in which it is staged.
type Need struct {
	Kinds      []ObjectKind // of what it holds besides tables
	Collations []string     // that its tables use
	Tables     []TableNeed
	Sessions   int // that make tables at a time
}

// Target is a Reader of a database that may be restored to.
type Target interface {
	// CanTake looks at what can be known of whether a new state can be staged here.
	CanTake(ctx context.Context, need Need) []Check
}

// Collator is a Reader that knows which collations its tables use.
type Collator interface {
	Collations(ctx context.Context) ([]string, error)
}

// Unknown is the Check that a server knows all collations, or one that does: near
// gives the nearest for one that it lacks, empty if there is none.
func Unknown(collations []string, near func(string) string) Check {
	c := Check{What: "collations"}
	var mapped []string
	for _, name := range slices.Sorted(slices.Values(collations)) {
		switch as := near(name); as {
		case name:
		case "":
			return Failure(c.What, fmt.Errorf("the server knows neither the collation %s nor one like it; restore to a newer server", name))
		default:
			mapped = append(mapped, name+" becomes "+as)
		}
	}
	c.Note = len(mapped) > 0
	c.Found = "the server knows them"
	if c.Note {
		c.Found = strings.Join(mapped, ", ") + ", the nearest one here"
	}
	return c
}
