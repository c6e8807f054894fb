package cli

import (
	"hovix/internal/pieces"
	"hovix/internal/redirects"
	"hovix/internal/restore"
)

// failureJSON is the JSON document of a command that failed.
type failureJSON struct {
	Error  string `json:"error"`            // what failed, on what, and why
	Advice string `json:"advice,omitempty"` // what to do
	Status int    `json:"status"`           // the exit status
}

// extractedJSON is the JSON document of inspect --extract.
type extractedJSON struct {
	File   string           `json:"file"`
	Pieces []pieces.Written `json:"pieces"`
}

// entryJSON is an entry in the JSON document of inspect --list.
type entryJSON struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`             // of the content, in bytes
	SHA256 string `json:"sha256,omitempty"` // of the content, in hexadecimal digits
}

// listJSON is the JSON document of inspect --list.
type listJSON struct {
	File    string      `json:"file"`
	Entries []entryJSON `json:"entries"`
}

// undoPlanJSON is the JSON document of undo --plan.
type undoPlanJSON struct {
	*restore.UndoPlan
	Points []*restore.Point `json:"points"` // all that is kept, oldest first
}

// discardedJSON is the JSON document of undo --discard.
type discardedJSON struct {
	Discarded []*restore.Point `json:"discarded"`
	Bytes     int64            `json:"bytes"` // that were freed
}

// gatheredJSON is the JSON document of redirects gather without a file for the pages.
type gatheredJSON struct {
	*redirects.Gathered
	Asked   int     `json:"asked,omitempty"` // requests that were made
	Seconds float64 `json:"seconds"`
}
