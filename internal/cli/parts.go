package cli

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/output"
)

// A job is done in parts by a counter of its own: it measures one part of what the job asks for, keeps the sums, and ends the job. To gather, the job is done once more with a counter that adds up what the parts
// have kept: so everything behind the counting is the same as in one run, bit for bit.

// partOption has one part of a job done.
type partOption struct {
	Part string `opt:"part" help:"measure only the <I/N>-th of N parts, about as much work each, and write its sums to --out; verdex gather makes of all parts what one run makes"`
}

// partKind is the first line of a part.
const partKind = "a part of verdex, 1\n"

// partHead is what a part says of itself.
type partHead struct {
	Program string `json:"program"`
	// Processor is the kind that measured the part: the last digits of sines and logarithms are not the same on all of them.
	Processor string                     `json:"processor"`
	Command   string                     `json:"command"`
	Options   map[string]json.RawMessage `json:"options"` // of the command, but for the part itself and where it went
	Inputs    []partInput                `json:"inputs"`
	I         int                        `json:"i"`
	N         int                        `json:"n"`
	Sizes     []int                      `json:"sizes"`              // bytes of the tallies that follow
	Groups    []int                      `json:"requests,omitempty"` // how many tallies each request has
	Keys      []string                   `json:"keys,omitempty"`     // of a plan: of the tallies
	Sets      [][]tally.Set              `json:"sets,omitempty"`     // and their sets of zones
}

// partInput is an input of a part by its content: a small file by all of it, a large one by its size and its ends.
type partInput struct {
	Role  string `json:"role"`
	Path  string `json:"path"`
	Stamp string `json:"stamp"`
}

// wholeBelow is the size up to which all of an input is looked at. Of a larger one, so many samples of sampleBytes each are, from its beginning to its end, and
// the time when it was changed last: to read all of it for each part would take as long as measuring it.
const (
	wholeBelow  = 8 << 20
	samples     = 64
	sampleBytes = 32 << 10
)

// jobPart is a part that was read.
type jobPart struct {
	partHead
	path    string
	tallies []*tally.Tally
}

// errPartDone ends a job whose part was measured.
var errPartDone = errors.New("the part is measured")

// partCounter measures a part of what a job asks for first, and ends the job.
type partCounter struct {
	part     tally.Part
	progress func(what string) (func(done, total int), func())
	threads  int
	tallies  []*tally.Tally
	groups   []int
	asked    bool
}

// Digest implements [job.Counter]; the inputs of a part are told apart by their stamps.
func (c *partCounter) Digest(path string) (string, error) { return path, nil }

// Count implements [job.Counter].
func (c *partCounter) Count(ctx context.Context, requests []tally.Keyed) ([]*tally.Tally, []error) {
	errs := make([]error, len(requests))
	var all []tally.Keyed
	for _, r := range requests {
		split := tally.Split(r)
		c.groups = append(c.groups, len(split))
		all = append(all, split...)
	}
	all[0].Part, all[0].Threads = c.part, c.threads
	tell, end := c.progress("measuring part " + c.part.String())
	all[0].Progress = tell
	tallies, failed := tally.Together(ctx, all)
	end()
	for _, err := range failed {
		if err != nil {
			errs[0] = err
			return make([]*tally.Tally, len(requests)), errs
		}
	}
	c.tallies, c.asked = tallies, true
	errs[0] = errPartDone
	return make([]*tally.Tally, len(requests)), errs
}

// gatherCounter gives a job what its parts have measured.
type gatherCounter struct {
	parts []*jobPart
	asked bool
}

// Digest implements [job.Counter].
func (c *gatherCounter) Digest(path string) (string, error) { return path, nil }

// Count implements [job.Counter].
func (c *gatherCounter) Count(_ context.Context, requests []tally.Keyed) ([]*tally.Tally, []error) {
	out, errs := make([]*tally.Tally, len(requests)), make([]error, len(requests))
	if c.asked || len(c.parts[0].Groups) != len(requests) {
		errs[0] = fault.Errorf("the job asks for more than its parts have measured").Do("do it in one run")
		return out, errs
	}
	c.asked = true
	at := 0
	for i, r := range requests {
		split := tally.Split(r)
		var sums []*tally.Tally
		for _, one := range split {
			var of []*tally.Tally
			for _, p := range c.parts {
				of = append(of, p.tallies[at])
			}
			at++
			var names []string
			for _, l := range one.Layers {
				names = append(names, l.Header().Name)
			}
			sum, err := tally.Gather(of, one.Sets, one.Values, names)
			if err == nil && len(sum.Zones) != len(one.Zones.Zones) {
				err = fmt.Errorf("%s: its parts have %d zones, and the job has %d: an input was changed", c.parts[0].path, len(sum.Zones), len(one.Zones.Zones))
			}
			if err != nil {
				errs[i] = err
				return out, errs
			}
			sums = append(sums, sum)
		}
		out[i] = tally.Join(r, sums)
	}
	return out, errs
}

// measurePart does one part of the command's job and writes it.
func (s *session) measurePart(which string, do func(*session) error) error {
	p, err := tally.ParsePart(which)
	if err != nil {
		return usage("--part %w", err)
	}
	out := given[string](s.options, "out")
	if out == "" {
		return usage("--part writes the sums of the part: name a file for them with --out")
	}
	defer s.Discard()
	for _, in := range inputsOf(s.options) {
		s.Read(in)
	}
	if err := s.Claim(out, output.Rules{Replace: given[bool](s.options, "force")}); err != nil {
		if conflict := new(output.ConflictError); errors.As(err, &conflict) {
			return usageError{err}
		}
		return err
	}
	for _, o := range option.Of(s.options) {
		for _, text := range o.Texts(s.options) {
			if o.Input != "" && isStream(valueIn(text)) {
				return usage("--part: the inputs are opened again when the parts are gathered, which a stream cannot be: name a file")
			}
		}
	}
	inputs, err := s.stamps()
	if err != nil {
		return err
	}
	c := &partCounter{part: p, progress: s.Progress, threads: s.threads}
	s.counter = c
	for _, o := range option.Of(s.options) { // where the table of all parts goes is said when they are gathered
		if o.Argument == "" && (o.Name == "out" || o.Name == "format") {
			o.Set(s.options, "")
		}
	}
	if err := do(s); !errors.Is(err, errPartDone) {
		if err == nil {
			err = fmt.Errorf("the job measures nothing that could be done in parts: do it in one run")
		}
		return err
	}
	head := &partHead{Program: "verdex " + s.version, Processor: runtime.GOARCH, Command: s.name, Options: optionValues(s.options), Inputs: inputs, I: p.I, N: p.N, Groups: c.groups}
	return s.writePart(out, head, c.tallies)
}

// writePart writes a part.
func (s *session) writePart(out string, head *partHead, tallies []*tally.Tally) (err error) {
	for _, in := range s.Inputs() {
		if err := in.Changed(); err != nil {
			return err
		}
	}
	var body []byte
	for _, t := range tallies {
		n := len(body)
		if body, err = t.AppendBinary(body); err != nil {
			return err
		}
		head.Sizes = append(head.Sizes, len(body)-n)
	}
	data, err := sealPart(head, body)
	if err != nil {
		return err
	}
	if err := s.Write(out, func(w io.Writer) error { _, err := w.Write(data); return err }); err != nil {
		return err
	}
	s.noteThen(fmt.Sprintf("%s: part %d/%d, %s of sums", out, head.I, head.N, size(int64(len(data)))))
	return s.commit()
}

// partOptions are those that belong to one part, or to what is made of all.
var partOptions = map[string]bool{"part": true, "out": true, "format": true, "digits": true, "force": true, "parts": true, "scheduler": true}

// optionValues are the options of a command as JSON, but for those of partOptions. The arguments are under "".
func optionValues(options any) map[string]json.RawMessage {
	out := map[string]json.RawMessage{}
	for _, o := range option.Of(options) {
		if o.Argument == "" && partOptions[o.Name] {
			continue
		}
		v := o.Get(options)
		if o.Argument == "" && reflect.ValueOf(v).IsZero() {
			continue
		}
		b, err := json.Marshal(v)
		if err != nil {
			panic(err) // texts, numbers and lists
		}
		out[o.Name] = b
	}
	return out
}

// setOptions fills options with values.
func setOptions(options any, values map[string]json.RawMessage) error {
	for _, o := range option.Of(options) {
		b, ok := values[o.Name]
		if !ok {
			if o.Argument == "" && !partOptions[o.Name] {
				o.Set(options, reflect.Zero(o.Type).Interface())
			}
			continue
		}
		v := reflect.New(o.Type)
		if err := json.Unmarshal(b, v.Interface()); err != nil {
			return fmt.Errorf("the option %s: %w", o.Name, err)
		}
		o.Set(options, v.Elem().Interface())
	}
	return nil
}

// stamps are the inputs of the command, by their content.
func (s *session) stamps() (out []partInput, err error) {
	for _, in := range s.Inputs() {
		if err := in.Changed(); err != nil {
			return nil, err
		}
		stamp, err := s.stampOf(in.Path)
		if err != nil {
			return nil, err
		}
		out = append(out, partInput{in.Role, filepath.ToSlash(in.Path), stamp})
	}
	slices.SortFunc(out, func(a, b partInput) int {
		return cmp.Or(strings.Compare(a.Role, b.Role), strings.Compare(a.Path, b.Path))
	})
	return out, nil
}

func (s *session) stampOf(path string) (string, error) {
	f, err := s.system.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := blake3.New()
	n := f.Size()
	if files.IsURL(path) {
		return fmt.Sprintf("%d %s", n, f.Validator()), nil
	}
	read := func(from, to int64) error {
		_, err := io.Copy(h, io.NewSectionReader(f, from, to-from))
		if err != nil {
			return fmt.Errorf("%s: it cannot be read (%w)", path, fault.Reason(err))
		}
		return nil
	}
	if n <= wholeBelow {
		err = read(0, n)
		return fmt.Sprintf("%d %x", n, h.Sum(nil)[:16]), err
	}
	for i := int64(0); i < samples && err == nil; i++ {
		at := (n - sampleBytes) * i / (samples - 1)
		err = read(at, at+sampleBytes)
	}
	return fmt.Sprintf("%s %x", f.Validator(), h.Sum(nil)[:16]), err
}

// sealPart is a part as a file: a first line, the digest of all that follows, a head in JSON with its length before it, and the tallies.
func sealPart(head *partHead, body []byte) ([]byte, error) {
	h, err := json.Marshal(head)
	if err != nil {
		return nil, err
	}
	rest := binary.LittleEndian.AppendUint64(nil, uint64(len(h)))
	rest = append(append(rest, h...), body...)
	sum := sha256.Sum256(rest)
	return append([]byte(partKind+hex.EncodeToString(sum[:])+"\n"), rest...), nil
}

// readPart reads a part.
func readPart(from files.System, path string) (*jobPart, error) {
	data, err := from.ReadFile(path)
	if err != nil {
		return nil, err
	}
	rest, ok := bytes.CutPrefix(data, []byte(partKind))
	if !ok {
		return nil, fmt.Errorf("%s: it is not a part, which measure, change or run writes with --part", path)
	}
	digest, rest, _ := bytes.Cut(rest, []byte("\n"))
	if sum := sha256.Sum256(rest); string(digest) != hex.EncodeToString(sum[:]) {
		return nil, fmt.Errorf("%s: it is damaged: measure the part again", path)
	}
	p := &jobPart{path: path}
	if err := p.decode(rest); err != nil {
		return nil, fmt.Errorf("%s: it is damaged (%w): measure the part again", path, err)
	}
	return p, nil
}

// decode reads what follows the digest of a part.
func (p *jobPart) decode(rest []byte) error {
	if len(rest) < 8 {
		return io.ErrUnexpectedEOF
	}
	n := binary.LittleEndian.Uint64(rest)
	if rest = rest[8:]; n > uint64(len(rest)) {
		return io.ErrUnexpectedEOF
	}
	if err := json.Unmarshal(rest[:n], &p.partHead); err != nil {
		return err
	}
	if p.I < 1 || p.N < p.I || p.N > 1<<20 || len(p.Sizes) == 0 || len(p.Keys) > 0 && (len(p.Keys) != len(p.Sizes) || len(p.Sets) != len(p.Sizes)) {
		return errors.New("its head contradicts itself")
	}
	rest = rest[n:]
	for _, size := range p.Sizes {
		if size < 0 || size > len(rest) {
			return io.ErrUnexpectedEOF
		}
		t, err := tally.Decode(rest[:size])
		if err != nil {
			return err
		}
		p.tallies, rest = append(p.tallies, t), rest[size:]
	}
	count := 0
	for _, g := range p.Groups {
		count += g
	}
	if len(p.Keys) == 0 && count != len(p.tallies) {
		return errors.New("its head contradicts itself")
	}
	return nil
}

// checkParts refuses parts that are missing, doubled, or not of one job, and puts them in order.
func checkParts(parts []*jobPart, program string) error {
	first := parts[0]
	at := make([]string, first.N)
	var wrong []string
	for _, p := range parts {
		switch {
		case p.Program != program:
			wrong = append(wrong, fmt.Sprintf("%s was measured by %s, and this is %s", p.path, p.Program, program))
		case p.Processor != first.Processor:
			wrong = append(wrong, fmt.Sprintf("%s was measured on a processor of the kind %s, and %s on %s, whose last digits differ", p.path, orUnknown(p.Processor), first.path, orUnknown(first.Processor)))
		case p.Command != first.Command || p.N != first.N || !slices.Equal(p.Groups, first.Groups) || len(p.tallies) != len(first.tallies) || !sameValues(p.Options, first.Options):
			wrong = append(wrong, fmt.Sprintf("%s is of another job than %s", p.path, first.path))
		case !slices.Equal(p.Inputs, first.Inputs):
			wrong = append(wrong, fmt.Sprintf("%s was measured with other inputs than %s: %s (copies of a large file must keep its time of change, as cp -p and rsync -a do)", p.path, first.path, otherInput(p.Inputs, first.Inputs)))
		case at[p.I-1] != "":
			wrong = append(wrong, fmt.Sprintf("%s and %s are both part %d of %d", at[p.I-1], p.path, p.I, p.N))
		default:
			at[p.I-1] = p.path
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("the parts do not belong together: %s", strings.Join(wrong, "; "))
	}
	if missing := missingParts(at); len(missing) > 0 {
		return fmt.Errorf("%s missing: %s", are(len(missing), "part"), text.List(missing, 20))
	}
	slices.SortFunc(parts, func(a, b *jobPart) int { return a.I - b.I })
	return nil
}

// orUnknown names the kind of processor of a part, which those of older versions do not state.
func orUnknown(processor string) string { return cmp.Or(processor, "one that is not stated") }

func missingParts(at []string) (out []string) {
	for i, path := range at {
		if path == "" {
			out = append(out, fmt.Sprintf("%d/%d", i+1, len(at)))
		}
	}
	return out
}

func sameValues(a, b map[string]json.RawMessage) bool {
	if len(a) != len(b) {
		return false
	}
	for k, v := range a {
		if w, ok := b[k]; !ok || !bytes.Equal(v, w) {
			return false
		}
	}
	return true
}

// otherInput names the first input that differs.
func otherInput(a, b []partInput) string {
	for i, in := range a {
		if i >= len(b) || in != b[i] {
			return in.Path
		}
	}
	return "one is missing"
}

// sameInputsAsParts refuses to gather when an input is no longer the one that the parts were measured with.
func (s *session) sameInputsAsParts(p *jobPart) error {
	now, err := s.stamps()
	if err != nil {
		return err
	}
	if !slices.Equal(now, p.Inputs) {
		return fmt.Errorf("the inputs are no longer those of the parts: %s was changed, or others are read (copies of a large file must keep its time of change, as cp -p and rsync -a do): measure the parts again", otherInput(p.Inputs, now))
	}
	return nil
}

// readParts reads the parts that are found; while some of their job are missing and they are waited for, it looks for more. Each is read once.
func (s *session) readParts(find func() ([]string, error), wait bool) ([]*jobPart, error) {
	var parts []*jobPart
	read := map[string]bool{}
	for told := false; ; told = true {
		paths, err := find()
		if err != nil {
			return nil, err
		}
		for _, path := range paths {
			if read[path] {
				continue
			}
			p, err := readPart(s.system, path)
			if err != nil {
				return nil, err
			}
			parts, read[path] = append(parts, p), true
		}
		have, want := map[int]bool{}, 0
		for _, p := range parts {
			have[p.I], want = true, p.N
		}
		if !wait || want > 0 && len(have) == want {
			return parts, nil
		}
		if !told {
			s.Note(fmt.Sprintf("%d of %d parts are there; waiting for the others", len(have), want))
		}
		select {
		case <-s.ctx.Done():
			return nil, s.ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}
