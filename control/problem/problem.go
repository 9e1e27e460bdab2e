// Package problem is the kinds of errors that the packages of control return for
// a request that cannot be carried out. Their texts say what happened, why, and
// what to do next; the API turns each kind into a status of its own.
package problem

import (
	"fmt"

	"nightjar/core/rules"
)

// InvalidRequest means that a request cannot be carried out as it is.
type InvalidRequest struct{ Why string }

func (e InvalidRequest) Error() string { return e.Why }

// Invalid is an InvalidRequest.
func Invalid(format string, args ...any) error { return InvalidRequest{fmt.Sprintf(format, args...)} }

// NotFound means that what a request names does not exist.
type NotFound struct{ Why string }

func (e NotFound) Error() string { return e.Why }

// Missing is a NotFound.
func Missing(format string, args ...any) error { return NotFound{fmt.Sprintf(format, args...)} }

// Busy means that a request has to wait for something that is running.
type Busy struct{ Why string }

func (e Busy) Error() string { return e.Why }

// Running is a Busy.
func Running(format string, args ...any) error { return Busy{fmt.Sprintf(format, args...)} }

// NotReady means that a request can be carried out in a moment, as it is.
type NotReady struct{ Why string }

func (e NotReady) Error() string { return e.Why }

// Later is a NotReady.
func Later(format string, args ...any) error { return NotReady{fmt.Sprintf(format, args...)} }

// RulesRejected means that rules have mistakes, so that nothing was done with them.
type RulesRejected struct {
	Findings []rules.Finding
	// IsTry: they were to be tried, in a trial or a forecast, and not to be published.
	IsTry bool
}

func (e RulesRejected) Error() string {
	n := rules.Mistakes(e.Findings)
	if e.IsTry {
		mistakes := "1 mistake"
		if n != 1 {
			mistakes = fmt.Sprintf("%d mistakes", n)
		}
		return fmt.Sprintf("nothing was sent or computed: the rules have %s. Correct them, then try again.", mistakes)
	}
	if n == 1 {
		return "nothing was published: the rules have 1 mistake. Correct it, then publish again."
	}
	return fmt.Sprintf("nothing was published: the rules have %d mistakes. Correct them, then publish again.", n)
}

// RefusesUsedLinks means that a revision would refuse links that are in use. The findings
// say which.
type RefusesUsedLinks struct{ Findings []rules.Finding }

func (e RefusesUsedLinks) Error() string {
	links := "1 link that is in use"
	if n := len(e.Findings); n != 1 {
		links = fmt.Sprintf("%d links that are in use", n)
	}
	return "nothing was published: the access rules would refuse every request of " + links +
		". Allow them, or publish with --refuse-used-links."
}

// RevisionConflict means that another revision was published meanwhile.
type RevisionConflict struct{ Expected, Current uint }

func (e RevisionConflict) Error() string {
	return fmt.Sprintf("cannot publish: revision %d was published meanwhile (yours is based on %d). "+
		"Run \"nightjar rules diff\", then publish again.", e.Current, e.Expected)
}
