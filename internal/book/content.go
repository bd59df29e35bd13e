package book

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Posting is one set of rows of an account: the extents of all zones at one epoch, or the change between two.
type Posting struct {
	ID              int64 // 0 until it is posted
	Account         string
	Kind            string // Extents or Change
	From            string // first epoch of a change, "" for extents
	Epoch           string // epoch of extents, last one of a change
	ZoneSet         ZoneSet
	Legend          Legend
	Author          string
	At              string // time of posting, RFC 3339 in UTC
	Note            string
	Program         string // version of the program that posted it
	Command         string // what was run, with its parameters, as JSON
	Unit            string // that the rows were made in
	Inputs          []Input
	Extents         []Extent
	Moves           []Move
	Content         string // SHA-256 of the rows with their zones and classes
	RowCount        int
	Replaces        int64 // the posting that this one supersedes, 0 for none
	Checksum        string
	ChecksumVersion int    // how it was computed
	turn            int64  // its place among the postings of the same account, epochs and zone set, the last of which counts
	set             string // the name of the zone set, as it is kept with the posting
	Successor       int64  // the posting that supersedes this one, 0 for none
	Void            string // why it is void, "" when it is not
}

// Kinds of postings.
const (
	OfExtents = "extents"
	OfChange  = "change"
)

// Current reports whether a posting counts.
func (p *Posting) Current() bool { return p.Successor == 0 && p.Void == "" }

// Period is the epoch, or the two.
func (p *Posting) Period() string {
	if p.Kind == OfChange {
		return p.From + "–" + p.Epoch
	}
	return p.Epoch
}

// what names a posting in a message.
func (p *Posting) what() string {
	epoch := p.Period()
	if epoch == "" {
		epoch = "no epoch"
	}
	return fmt.Sprintf("the %s of account %s for %s in zone set %s", p.Kind, p.Account, epoch, p.ZoneSet.Name)
}

// ZoneSet is a version of a set of zones.
type ZoneSet struct {
	ID      int64
	Name    string
	Version int
	Zones   []Zone
}

// Label is the name and the version.
func (z *ZoneSet) Label() string { return fmt.Sprintf("%s v%d", z.Name, z.Version) }

// Zone is a zone of a set, and the larger unit that it lies in, if any.
type Zone struct{ ID, Name, WithinID, WithinName string }

// Legend is a version of a legend.
type Legend struct {
	ID      int64
	Name    string
	Version int
	Classes []Class
}

// Label is the name and the version.
func (l *Legend) Label() string { return fmt.Sprintf("%s v%d", l.Name, l.Version) }

// Class is a class of a legend. Color is #rrggbb or "".
type Class struct{ Code, Name, Color, Group string }

// Input is a file that rows were made from. Modified is RFC 3339 in UTC.
type Input struct {
	Role, Path string
	Size       int64
	Modified   string
	SHA256     string
}

// Extent is the area of a class, or of one of the other kinds of ground, in a zone. Cells and Nominal (m²) are NaN where they are not known.
type Extent struct {
	Zone           int // in the zone set
	Kind, Code     string
	M2             float64
	Cells, Nominal float64
}

// Move is the ground of a zone that is in one class at the first epoch and in another at the second. Codes are "" for ground that
// an epoch does not map. Kind is ground, or outside.
type Move struct {
	Zone           int
	Kind, From, To string
	M2             float64
}

// digest is a checksum of texts, each with its length before it, so that no two lists of texts read the same.
type digest struct {
	hash.Hash
	waiting []byte // not hashed yet: few large pieces are hashed sooner than many small ones
}

func newDigest(what string) *digest {
	d := &digest{sha256.New(), make([]byte, 0, 1<<12)}
	d.add("verdex", what, "1")
	return d
}

func (d *digest) add(texts ...string) {
	for _, t := range texts {
		if len(d.waiting)+len(t)+24 > cap(d.waiting) {
			d.flush()
		}
		d.waiting = append(strconv.AppendInt(d.waiting, int64(len(t)), 10), ':')
		d.waiting = append(append(d.waiting, t...), '\n')
	}
}

func (d *digest) flush() {
	d.Write(d.waiting)
	d.waiting = d.waiting[:0]
}

func (d *digest) whole(v int) {
	var room [24]byte
	d.add(string(strconv.AppendInt(room[:0], int64(v), 10)))
}

func (d *digest) number(v float64) {
	if v == 0 {
		v = 0 // one zero
	}
	if math.IsNaN(v) {
		d.add("")
		return
	}
	var room [32]byte
	d.add(string(strconv.AppendFloat(room[:0], v, 'g', -1, 64)))
}

func (d *digest) sum() string {
	d.flush()
	return hex.EncodeToString(d.Sum(nil))
}

func (l *Legend) digest() string {
	d := newDigest("legend")
	for _, c := range l.Classes {
		d.add(c.Code, c.Name, c.Color, c.Group)
	}
	return d.sum()
}

func (z *ZoneSet) digest() string {
	d := newDigest("zones")
	for _, z := range z.Zones {
		d.add(z.ID, z.Name, z.WithinID, z.WithinName)
	}
	return d.sum()
}

// digest is the checksum of the rows, with what zones and classes they are of.
func (p *Posting) digest(zones, legend string) string {
	d := newDigest("content")
	d.add(p.Account, p.Kind, p.From, p.Epoch, p.ZoneSet.Name, zones, legend)
	for i := range p.Extents {
		e := &p.Extents[i]
		d.whole(e.Zone)
		d.add(e.Kind, e.Code)
		d.number(e.M2)
		d.number(e.Cells)
		d.number(e.Nominal)
	}
	for i := range p.Moves {
		m := &p.Moves[i]
		d.whole(m.Zone)
		d.add(m.Kind, m.From, m.To)
		d.number(m.M2)
	}
	return d.sum()
}

// seal is the checksum of a posting: its content and its head. Since version 2 it covers which version of its zone set and its legend it is about, and its turn.
func (p *Posting) seal() string {
	d := newDigest("posting")
	d.add(fmt.Sprint(p.ID), p.Content, fmt.Sprint(p.RowCount), fmt.Sprint(p.Replaces), p.Author, p.At, p.Note, p.Program, p.Command, p.Unit)
	if p.ChecksumVersion >= 2 {
		d.add(fmt.Sprint(p.turn), p.set, p.ZoneSet.Name, fmt.Sprint(p.ZoneSet.Version), p.Legend.Name, fmt.Sprint(p.Legend.Version))
	}
	for _, in := range p.Inputs {
		d.add(in.Role, in.Path, fmt.Sprint(in.Size), in.Modified, in.SHA256)
	}
	return d.sum()
}

// event is an entry of the journal.
type event struct {
	number                           int64
	what                             string // post or void
	posting                          int64
	author, at, why, checksum, chain string
	version                          int // of the way in which chain is computed
}

// link is the checksum of an event and all before it. Since version 2 it covers what the book is: head is the digest of that, see [Book.headDigest].
func (e *event) link(before, head string) string {
	d := newDigest("event")
	if e.version >= 2 {
		d.add(head)
	}
	d.add(before, fmt.Sprint(e.number), e.what, fmt.Sprint(e.posting), e.author, e.at, e.why, e.checksum)
	return d.sum()
}

// sort puts the rows in the order of their keys, which is that in which a book gives them back.
func (p *Posting) sort() {
	extents := func(a, b Extent) int {
		return cmp.Or(cmp.Compare(a.Zone, b.Zone), strings.Compare(a.Kind, b.Kind), strings.Compare(a.Code, b.Code))
	}
	moves := func(a, b Move) int {
		return cmp.Or(cmp.Compare(a.Zone, b.Zone), strings.Compare(a.Kind, b.Kind), strings.Compare(a.From, b.From), strings.Compare(a.To, b.To))
	}
	if !slices.IsSortedFunc(p.Extents, extents) { // SQLite's rows are
		slices.SortStableFunc(p.Extents, extents)
	}
	if !slices.IsSortedFunc(p.Moves, moves) {
		slices.SortStableFunc(p.Moves, moves)
	}
}

// texts are all texts of a posting.
func (p *Posting) texts() []string {
	out := []string{p.Account, p.From, p.Epoch, p.ZoneSet.Name, p.Legend.Name, p.Author, p.Note, p.Command, p.Unit}
	for _, z := range p.ZoneSet.Zones {
		out = append(out, z.ID, z.Name, z.WithinID, z.WithinName)
	}
	for _, c := range p.Legend.Classes {
		out = append(out, c.Code, c.Name, c.Color, c.Group)
	}
	for i := range p.Extents {
		out = append(out, p.Extents[i].Code)
	}
	for i := range p.Moves {
		out = append(out, p.Moves[i].From, p.Moves[i].To)
	}
	for _, in := range p.Inputs {
		out = append(out, in.Role, in.Path)
	}
	return out
}

// check reports what is wrong with a posting that someone wants to make.
func (p *Posting) check() error {
	switch {
	case strings.TrimSpace(p.Account) == "":
		return fmt.Errorf("the account has no name: give it one with --account")
	case p.Kind == OfExtents && len(p.Extents) == 0, p.Kind == OfChange && len(p.Moves) == 0:
		return fmt.Errorf("%s: there are no rows to post", p.what())
	case p.Kind == OfExtents && p.Epoch == "":
		return fmt.Errorf("account %s: the extents have no epoch: give them one with --epoch", p.Account)
	}
	for _, text := range p.texts() {
		if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
			return fmt.Errorf("%s: the text %q is not UTF-8: write the table anew in UTF-8", p.what(), text)
		}
	}
	for _, e := range p.Extents {
		if math.IsNaN(e.M2) || math.IsInf(e.M2, 0) {
			return fmt.Errorf("%s: an area is not a number", p.what())
		}
	}
	for _, m := range p.Moves {
		if math.IsNaN(m.M2) || math.IsInf(m.M2, 0) {
			return fmt.Errorf("%s: an area is not a number", p.what())
		}
	}
	return nil
}
