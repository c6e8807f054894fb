// Package fault marks the points of a run at which a test lets it be killed. In
// a program that is built without the tag "faults" a point does nothing.
package fault
