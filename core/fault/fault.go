// Package fault holds the errors that a user can mend: what is wrong, in words, and what mends it, as data.
//
// A package of the core does not know whether its caller is a command line, a plan or another program, so it cannot say how an
// option is given. It returns an [Error] whose remedies name the options; [Error.Error] prints them plainly, and a front end
// writes them its own way with [Text].
package fault

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// Error is a fact about an input or an option, and what mends it. An error value that wraps it, as with fmt.Errorf and %w, keeps
// both.
type Error struct {
	Option   string // the option that is wrong, "" when the fault lies in a file
	Value    string // the value that it has
	What     string // what is wrong; it begins with the name of a file, unless it is about an option
	Remedies []Remedy
	Misuse   bool // the options are wrong, whatever the files hold
	cause    error
}

// Remedy is one way to mend a fault: something to do, by an option where there is one.
type Remedy struct {
	Do     string // such as "give its CRS", to which "with" and the option are added; or with % in the place of the option
	Option string // such as "crs"; "" when no option does it
	Value  string // of the option, such as "nearest"; may be ""
	Job    string // a job that does it, such as "align"; "" for none
}

// Errorf returns an error about a file. Like fmt.Errorf it wraps what stands at %w.
func Errorf(format string, args ...any) *Error {
	err := fmt.Errorf(format, args...)
	return &Error{What: err.Error(), cause: errors.Unwrap(err)}
}

// Misusef returns an error about an option, "" for none in particular, and the value that it has.
func Misusef(option, value, format string, args ...any) *Error {
	e := Errorf(format, args...)
	e.Option, e.Value, e.Misuse = option, value, true
	return e
}

// Do adds a remedy without an option.
func (e *Error) Do(format string, args ...any) *Error {
	e.Remedies = append(e.Remedies, Remedy{Do: fmt.Sprintf(format, args...)})
	return e
}

// By adds a remedy that an option brings about. The value may be "".
func (e *Error) By(do, option, value string) *Error {
	e.Remedies = append(e.Remedies, Remedy{Do: do, Option: option, Value: value})
	return e
}

// Through adds a remedy that another job brings about. The job goes by the name that its command has.
func (e *Error) Through(do, job string) *Error {
	e.Remedies = append(e.Remedies, Remedy{Do: do, Job: job})
	return e
}

// Unwrap returns what the error wraps, nil for nothing.
func (e *Error) Unwrap() error { return e.cause }

// Error returns the text with options by their plain names.
func (e *Error) Error() string { return e.text(plain) }

func plain(option, value string) string {
	if option == "" {
		return "the job " + value
	}
	return strings.TrimSpace("the option " + option + " " + value)
}

// text words the error, with an option and its value as the function writes it.
func (e *Error) text(write func(option, value string) string) string {
	var out strings.Builder
	if e.Option != "" {
		out.WriteString(write(e.Option, e.Value) + " ")
	}
	out.WriteString(e.What)
	for i, r := range e.Remedies {
		out.WriteString([]string{": ", ", or "}[min(i, 1)])
		switch before, after, in := strings.Cut(r.Do, "%"); {
		case r.Job != "":
			out.WriteString(r.Do + " with " + write("", r.Job))
		case r.Option == "":
			out.WriteString(r.Do)
		case in:
			out.WriteString(before + write(r.Option, r.Value) + after)
		default:
			out.WriteString(strings.TrimPrefix(r.Do+" with ", " with ") + write(r.Option, r.Value))
		}
	}
	return out.String()
}

// Text is the text of an error with options written by a function, which takes their names and values ("" for none), or "" and the name of a job. A
// command line writes --name value, and the command of the job.
func Text(err error, write func(option, value string) string) string {
	var e *Error
	if !errors.As(err, &e) {
		return err.Error()
	}
	inner := e.text(write)
	if e.cause != nil { // which may hold an error of this kind too
		inner = strings.Replace(inner, e.cause.Error(), Text(e.cause, write), 1)
	}
	return strings.Replace(err.Error(), e.Error(), inner, 1)
}

// Reason is the cause of an error without the path that messages name anyway.
func Reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// Opening says that the file at path cannot be opened, why, and what to do.
func Opening(path string, err error) error {
	return fmt.Errorf("%s: cannot be opened (%w): check the path", path, Reason(err))
}
