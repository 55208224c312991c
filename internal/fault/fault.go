// Package fault makes errors that tell their reader what to do next, which is
// what every error that ends a command must do.
package fault

import (
	"errors"
	"fmt"
)

// Fault is an error with a next step.
type Fault struct {
	what string
	next string
	err  error
}

// New returns an error that says what happened, and what to do next.
func New(next, format string, args ...any) error {
	err := fmt.Errorf(format, args...)
	return &Fault{what: err.Error(), next: next, err: errors.Unwrap(err)}
}

// Error says what happened.
func (f *Fault) Error() string { return f.what }

// Unwrap returns the error that was wrapped with %w, if one was.
func (f *Fault) Unwrap() error { return f.err }

// Next says what to do next.
func (f *Fault) Next() string { return f.next }

// Next returns the next step that err names, or an empty text. Errors of other
// packages name one by a method Next.
func Next(err error) string {
	var named interface{ Next() string }
	if errors.As(err, &named) {
		return named.Next()
	}
	return ""
}
