package database

import "context"

// State is a state of a site's tables that stands in a database beside the live
// one, and what it takes to make it the live one: a new state that has been
// staged, or an old one that was replaced and is kept. It can be written down as
// JSON and be used by another process, weeks later.
type State struct {
	Engine  Engine            `json:"engine"`
	Tables  map[string]string `json:"tables,omitempty"`  // name → name under which the table stands meanwhile
	Absent  []string          `json:"absent,omitempty"`  // names of tables that the state does not have
	Objects []Attached        `json:"objects,omitempty"` // MariaDB: what is made when tables have their names
	// MariaDB: views that were put aside, and the names under which they stand until Complete
	// drops them: their text is among Objects. A view whose tables are not there breaks the dump
	// of a database.
	Views   map[string]string `json:"views,omitempty"`
	Schemas map[string]string `json:"schemas,omitempty"` // PostgreSQL: schema → where its content stands
	// PostgreSQL: schema → what of it the state does not have.
	Without map[string][]string `json:"without,omitempty"`
	File    string              `json:"file,omitempty"`    // SQLite: the file that stands beside the live one
	Serial  uint64              `json:"serial,omitempty"`  // SQLite: by which the file is known, whatever its name
	Notes   []string            `json:"notes,omitempty"`   // what a person should know of the exchange that put it aside
	Inherit bool                `json:"inherit,omitempty"` // tables get the owners and grants of those that they replace
}

// IsEmpty reports whether the state holds nothing, so that nothing is lost with it.
func (s *State) IsEmpty() bool {
	return s == nil || len(s.Tables) == 0 && len(s.Schemas) == 0 && len(s.Objects) == 0 && s.File == ""
}

// Attached is something of MariaDB that is bound to names, not to what bears
// them: a foreign key, view, trigger, routine or event, by its name, and by that
// of its table if it has one.
type Attached struct {
	Kind  ObjectKind `json:"kind"`
	Name  string     `json:"name"`
	Table string     `json:"table,omitempty"` // of a foreign key
	SQL   string     `json:"sql,omitempty"`   // the statement that makes it; empty: the state does not have it
	Session
}

// Kinds that only Attached has.
const (
	ForeignKey ObjectKind = "foreign key"
	Procedure  ObjectKind = "procedure"
	Position   ObjectKind = "position"  // of a sequence
	Extension  ObjectKind = "extension" // of PostgreSQL
)

// Exchanger exchanges states of a database for the live one. The step itself is
// one that the engine does wholly or not at all; what MariaDB cannot do in it is
// done by Complete.
type Exchanger interface {
	// Exchange makes s the live state. stamp tells what is put aside from what
	// others have put aside. record is given the state that will be put aside, as it
	// will stand, just before the one step; its error gives up.
	Exchange(ctx context.Context, s *State, stamp string, record func(aside *State) error) error
	// Exchanged reports whether that step has been done for s; aside is what record
	// was given.
	Exchanged(ctx context.Context, s, aside *State) (bool, error)
	// Complete does what is left to do after the step. It may be called again. What
	// could not be done in full comes as warnings.
	Complete(ctx context.Context, s, aside *State) (warnings []string, err error)
	// Check returns an error if something of a kept state is no longer there.
	Check(ctx context.Context, s *State) error
	// Size tells how many bytes a state takes that stands beside the live one.
	Size(ctx context.Context, s *State) (int64, error)
	// Drop removes a state for good.
	Drop(ctx context.Context, s *State) error
	// Sweep removes what a stage of this id has made and was killed before it could
	// remove, and what its Note was told of.
	Sweep(ctx context.Context, id string, notes []Note) error
	// ByHand gives the statements that make a kept state the live one.
	ByHand(ctx context.Context, s *State) ([]string, error)
	Close() error
}

// StageOptions says how a new state is staged.
type StageOptions struct {
	ID          string // part of the names of what is staged: lower case letters and digits
	Connections int
	// Note is told, before it is run, of how to undo a step that reaches outside of
	// the stage. nil: nobody wants to know.
	Note func(Note) error
	// Resume goes on with a stage of this ID that was interrupted; Notes are what its
	// Note was told. The error wraps ErrNotResumed where that cannot be.
	Resume bool
	Notes  []Note
	// Charset is that of an SQLite database that is made: UTF-8, UTF-16le, UTF-16be.
	Charset string
	// Names are those of the tables that the source has, though not all may be staged:
	// foreign keys may point to the ones that the target keeps.
	Names []string
	// StoredCode says that routines, triggers, events and rules were agreed to.
	StoredCode bool
}

// Note is something that a stage has made outside of itself, and that goes if the stage
// is given up.
type Note struct {
	Kind ObjectKind `json:"kind"` // Sequence, Type, Extension
	Name string     `json:"name"` // as sqltext.JoinName gives it
}

// Noted tells Note, if there is one.
func (o *StageOptions) Noted(undo Note) error {
	if o.Note == nil {
		return nil
	}
	return o.Note(undo)
}
