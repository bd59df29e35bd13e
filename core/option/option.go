// Package option reads what a struct of options says about itself: names, help, values and defaults.
//
// An option is an exported field with the tag opt, the option's name:
//
//	Edges string `opt:"edges" choose:"split,centre" help:"<split> gives each zone its exact share of cut cells, …"`
//
// The other tags are help, whose word in angle brackets stands for the value; default; choose, the values that a text may have,
// separated by commas, of which the first is the default (an empty first one: the option may be left out); least and most, for
// numbers; in, the role of the files that the option names; out, what the option's file is to hold; arg, which makes the field the
// arguments of a command, and whose value stands for them; and group, what the option is about. Fields are string, []string, bool,
// int, float64 and time.Duration. The fields of an embedded struct are options of the outer one, and have its group.
//
// Flags of a command line, the schema of a plan, and the record of what made a result are all made from this.
package option

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/fault"
)

// Option is one option of a struct.
type Option struct {
	Name     string
	Help     string   // a phrase; the value is in angle brackets: "<FIELD> that identifies zones"
	Default  string   // as text, "" for the zero value
	Choices  []string // the values that a text may have; nil for any
	Group    string   // what the option is about, such as "zones"; "" for the job itself
	Input    string   // the role of the files that it names, "" when it names none; "-" names files without a role
	Output   string   // what the file that it names is to hold, "" when it names none
	Argument string   // what stands for the arguments of a command, "" when it is an option
	Type     reflect.Type

	least, most string
	index       []int
}

// known are the options of the types that were asked for: tags do not change.
var known sync.Map // reflect.Type → []Option

// Of returns the options of a struct, or of a pointer to one, in the order of its fields; the list must not be changed. It panics
// when a tag is wrong, which is a mistake in the program.
func Of(options any) []Option {
	t := reflect.TypeOf(options)
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if list, ok := known.Load(t); ok {
		return list.([]Option)
	}
	list, _ := known.LoadOrStore(t, fields(t, nil, ""))
	return list.([]Option)
}

func fields(t reflect.Type, path []int, group string) (out []Option) {
	for i := range t.NumField() {
		f := t.Field(i)
		index := append(slices.Clone(path), i)
		within := group
		if g, ok := f.Tag.Lookup("group"); ok {
			within = g
		}
		if f.Anonymous && f.Type.Kind() == reflect.Struct {
			out = append(out, fields(f.Type, index, within)...)
			continue
		}
		name, ok := f.Tag.Lookup("opt")
		argument := f.Tag.Get("arg")
		if !ok && argument == "" {
			continue
		}
		o := Option{Name: name, Help: f.Tag.Get("help"), Default: f.Tag.Get("default"), Group: within, Input: f.Tag.Get("in"), Output: f.Tag.Get("out"),
			Argument: argument, Type: f.Type, least: f.Tag.Get("least"), most: f.Tag.Get("most"), index: index}
		if text := f.Tag.Get("choose"); text != "" {
			all := strings.Split(text, ",")
			if o.Choices = all; all[0] == "" { // an option that may be left out
				o.Choices = all[1:]
			} else if o.Default == "" {
				o.Default = all[0]
			}
		}
		if o.Help == "" && argument == "" {
			panic(fmt.Sprintf("the option %s of %v has no help", name, t))
		}
		if k := slices.IndexFunc(out, func(other Option) bool { return other.Name == o.Name && name != "" }); k >= 0 {
			panic(fmt.Sprintf("the option %s comes twice in %v", name, t))
		}
		out = append(out, o)
	}
	return out
}

// Get returns the value of the option in the struct that options points to.
func (o Option) Get(options any) any {
	return reflect.ValueOf(options).Elem().FieldByIndex(o.index).Interface()
}

// Set sets the option in the struct that options points to. The value has the type of the field.
func (o Option) Set(options, value any) {
	reflect.ValueOf(options).Elem().FieldByIndex(o.index).Set(reflect.ValueOf(value))
}

// Texts are the values of an option as texts: none for the zero value.
func (o Option) Texts(options any) []string {
	switch v := o.Get(options).(type) {
	case string:
		if v != "" {
			return []string{v}
		}
	case []string:
		return v
	}
	return nil
}

// Given reports whether the option has another value than its default.
func (o Option) Given(options any) bool {
	v := reflect.ValueOf(options).Elem().FieldByIndex(o.index)
	if v.Kind() == reflect.Slice {
		return v.Len() > 0
	}
	return !v.IsZero() && fmt.Sprint(v.Interface()) != o.Default || v.IsZero() && o.Default != "" && v.Kind() != reflect.String
}

// Word is what stands for the value of the option in its help, such as FIELD.
func (o Option) Word() string {
	_, rest, ok := strings.Cut(o.Help, "<")
	word, _, end := strings.Cut(rest, ">")
	if !ok || !end {
		return ""
	}
	return word
}

// Check completes the options that a struct points to with their defaults where a text is empty, and returns an error
// when a value is not one that an option may have.
func Check(options any) error {
	for _, o := range Of(options) {
		if err := o.Check(options); err != nil {
			return err
		}
	}
	return nil
}

// Check is [Check] for one option.
func (o Option) Check(options any) error {
	v := reflect.ValueOf(options).Elem().FieldByIndex(o.index)
	switch v.Kind() {
	case reflect.String:
		if v.String() == "" {
			v.SetString(o.Default)
		}
		if o.Choices != nil && v.String() != "" && !slices.Contains(o.Choices, v.String()) {
			return fault.Misusef(o.Name, v.String(), "is not valid").Do("choose %s", oneOf(o.Choices))
		}
	case reflect.Int:
		return o.within(float64(v.Int()))
	case reflect.Float64:
		return o.within(v.Float())
	}
	return nil
}

// Field is the name of the option's field in lower case, by which a plan names the arguments of a command.
func (o Option) Field(options any) string {
	t := reflect.TypeOf(options)
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return strings.ToLower(t.FieldByIndex(o.index).Name)
}

// Fill gives the options that a struct points to their defaults, numbers too.
func Fill(options any) {
	for _, o := range Of(options) {
		if o.Default == "" {
			continue
		}
		v := reflect.ValueOf(options).Elem().FieldByIndex(o.index)
		switch v.Interface().(type) {
		case string:
			v.SetString(o.Default)
		case int:
			n, err := strconv.Atoi(o.Default)
			must(err)
			v.SetInt(int64(n))
		case float64:
			x, err := decimal.Parse(o.Default)
			must(err)
			v.SetFloat(x)
		case time.Duration:
			d, err := time.ParseDuration(o.Default)
			must(err)
			v.SetInt(int64(d))
		}
	}
}

func must(err error) {
	if err != nil {
		panic(err) // a wrong tag
	}
}

// within refuses a number that is not finite or lies outside what the option allows.
func (o Option) within(v float64) error {
	least, most := -1e308, 1e308
	if o.least != "" {
		x, err := decimal.Parse(o.least)
		must(err)
		least = x
	}
	if o.most != "" {
		x, err := decimal.Parse(o.most)
		must(err)
		most = x
	}
	if v >= least && v <= most {
		return nil
	}
	e := fault.Misusef(o.Name, strings.ToLower(strings.TrimPrefix(strconv.FormatFloat(v, 'g', -1, 64), "+")), "is out of range")
	switch {
	case o.most != "":
		return e.Do("give a number from %s to %s", o.least, o.most)
	case o.least == "0":
		return e.Do("give a number that is not negative")
	}
	return e.Do("give a finite number")
}

// oneOf lists words: "a, b or c".
func oneOf(words []string) string {
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
