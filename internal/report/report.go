// Package report makes one HTML page of a whole job: maps, tables, figures, checks, provenance. The page needs nothing beside it: images, style and
// script are in it, and its Content-Security-Policy lets nothing else run or load. What files say is text and nothing else, as html/template escapes it.
package report

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"image"
	"image/color"
	"image/png"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/text"
)

// Report is what a page shows. Areas are in Unit.
type Report struct {
	Title, Contact, Licence string
	Source                  string // the plan or the book
	Program                 string
	Unit, UnitLabel         string // "ha", "hectares"
	Epochs                  []string
	Classes                 []Class
	Zones                   []Zone
	Sentences               []Sentence
	Method                  []string // what was measured and how, in plain words
	Account                 []Balance
	Map                     *Map
	Figures                 []Figure
	Checks                  []Check
	Accuracy                *Accuracy
	Inputs                  []Input
	Notes                   []string
	Plan                    string // its text; "" for none
	Explain                 string // the command that explains a number, without the options that name it
}

// Class is a class with its colour as #rrggbb.
type Class struct{ ID, Name, Color string }

// Label is the name of a class with its code.
func (c Class) Label() string {
	if c.ID == "" || c.ID == c.Name {
		return c.Name
	}
	return c.ID + " " + c.Name
}

// Zone is a zone with its extents.
type Zone struct {
	ID, Name string
	Area     float64
	Extents  [][]float64 // by epoch and class; NaN where it was not measured
	// Opening and Closing are the extents by class at the first and at the last epoch on the ground that both map, which all change is about; nil where
	// that is not known.
	Opening, Closing []float64
}

// net is the net change of a class.
func (z Zone) net(k int) float64 {
	if z.Opening == nil {
		return z.Extents[len(z.Extents)-1][k] - z.Extents[0][k]
	}
	return z.Closing[k] - z.Opening[k]
}

// once is the ground that only one of the first and the last epoch maps, 0 for what is rounded.
func (z Zone) once(last bool) float64 {
	all, both := z.Extents[0], z.Opening
	if last {
		all, both = z.Extents[len(z.Extents)-1], z.Closing
	}
	v := sum(all) - sum(both)
	if both == nil || math.Abs(v) < 1e-9*z.Area {
		return 0
	}
	return v
}

// common reports whether it is known which ground both epochs map.
func (r *Report) common() bool {
	return !slices.ContainsFunc(r.Zones, func(z Zone) bool { return z.Opening == nil })
}

// once is that of all zones.
func (r *Report) once(last bool) (v float64) {
	for _, z := range r.Zones {
		v += z.once(last)
	}
	return v
}

// Label is the id of a zone with its name.
func (z Zone) Label() string {
	if z.Name == "" || z.Name == z.ID {
		return z.ID
	}
	return z.ID + " " + z.Name
}

// Sentence is a headline figure, with the part of the page that shows where it comes from.
type Sentence struct{ Text, Link string }

// Balance is what became of a class in all zones between the first and the last epoch, on the ground that both map.
type Balance struct {
	Class                                             int
	Opening, Additions, Reductions, Net, Closing, Pct float64
}

// Figure is a drawing as SVG or PNG.
type Figure struct {
	Part           string // of the page: "extents", "change"
	ID, Title, Alt string
	Type           string // "image/svg+xml", "image/png"
	Data           []byte
}

// figuresOf are the figures of a part of the page.
func figuresOf(part string, list []Figure) (out []Figure) {
	for _, f := range list {
		if f.Part == part {
			out = append(out, f)
		}
	}
	return out
}

// Check is a check and what it found.
type Check struct {
	Name, Outcome, Text string
	Findings            []string
}

// Accuracy is how true a map is; areas and their intervals are in the unit of the report.
type Accuracy struct {
	Epoch, Overall string
	Rows           []AccuracyRow
}

// AccuracyRow is the accuracy of a class in percent, and its extents.
type AccuracyRow struct {
	Class                                      string
	Samples                                    int
	Users, Producers, Mapped, Adjusted, Plus95 float64
}

// Input is a file that was read.
type Input struct{ Role, Path, Size, Digest string }

// Map is what the maps of all epochs have in common: pixels in one frame.
type Map struct {
	Width, Height int
	Classes       [][]uint8 // by epoch: 1 and more for a class, 0 for none
	Zones         []uint16  // 1 and more for a zone, 0 for none
	Outlines      []string  // SVG path data by zone
	Scale         string
}

//go:embed page.html
var pageHTML string

//go:embed page.css
var pageCSS string

//go:embed page.js
var pageJS string

// policy is the Content-Security-Policy of the page: only its own style and script, images in the page, and nothing from elsewhere.
func policy() string {
	hash := func(s string) string {
		sum := sha256.Sum256([]byte(s))
		return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
	}
	return "default-src 'none'; img-src data:; style-src " + hash(pageCSS) + "; script-src " + hash(pageJS) + "; base-uri 'none'; form-action 'none'"
}

// Write writes the page.
func Write(w io.Writer, r *Report) error {
	decimals := r.decimals()
	t, err := template.New("page").Funcs(template.FuncMap{
		"area": func(v float64) string { return number(v, decimals) }, "signed": func(v float64) string { return signed(v, decimals) },
		"pct": func(v float64) string { return number(v, 1) }, "signedPct": func(v float64) string { return signed(v, 1) },
		"exact":    exact,
		"latestOf": func(list [][]float64) []float64 { return list[len(list)-1] },
		"bar":      r.bar,
		"count":    text.Count, "anchor": func(i int) string { return "zone-" + strconv.Itoa(i+1) },
		"row":    r.row,
		"swatch": swatch,
		"net":    Zone.net, "once": Zone.once, "onceInAll": r.once, "common": r.common,
		"share": func(z Zone, k int) float64 {
			return z.Extents[len(z.Extents)-1][k] / sum(z.Extents[len(z.Extents)-1]) * 100
		},
		"figuresOf": figuresOf,
		"several":   func() bool { return len(r.Epochs) > 1 },
		"first":     func() string { return r.Epochs[0] },
		"latest":    func() string { return r.Epochs[len(r.Epochs)-1] },
		"dataURI":   dataURI,
		"outcomes":  r.outcomes,
	}).Parse(pageHTML)
	if err != nil {
		return err
	}
	data := struct {
		*Report
		Policy    string
		Style     template.CSS
		Script    template.JS
		Images    []template.URL
		Indexes   []template.URL
		ZoneIndex template.URL
		Data      any
	}{Report: r, Policy: policy(), Style: template.CSS(pageCSS), Script: template.JS(pageJS), Data: r.data(decimals)}
	if r.Map != nil {
		for _, m := range r.Map.Classes {
			data.Images = append(data.Images, r.picture(m))
			data.Indexes = append(data.Indexes, r.index(func(i int) (uint8, uint8) { return m[i], 0 }))
		}
		data.ZoneIndex = r.index(func(i int) (uint8, uint8) { return uint8(r.Map.Zones[i]), uint8(r.Map.Zones[i] >> 8) })
	}
	var page bytes.Buffer
	if err := t.Execute(&page, data); err != nil {
		return err
	}
	_, err = w.Write(text.PrintableBytes(page.Bytes()))
	return err
}

// how says how numbers are made, by the kind of column that the page has for them.
func (r *Report) how() map[string]string {
	first, latest := r.Epochs[0], r.Epochs[len(r.Epochs)-1]
	how := map[string]string{
		"zone":             "The area inside the outline of the zone on the ellipsoid, with the ground that has no class.",
		"extent":           "The true areas of the cells of the class inside the zone, added up; a cell that the outline cuts counts by the share that lies inside.",
		"share":            "The extent of the class, divided by the extents of all classes in the zone.",
		"difference":       fmt.Sprintf("Additions less reductions, on the ground that both %s and %s map.", first, latest),
		"difference share": fmt.Sprintf("Net change, divided by the extent in %s, both on the ground that both %s and %s map.", first, first, latest),
		"once first":       fmt.Sprintf("The ground of the zone that has a class in %s and none in %s, so that it has no part in the change.", first, latest),
		"once latest":      fmt.Sprintf("The ground of the zone that has a class in %s and none in %s, so that it has no part in the change.", latest, first),
		"opening":          fmt.Sprintf("The ground of the class in %s that %s maps too, in all zones together.", first, latest),
		"additions":        fmt.Sprintf("The ground that had another class in %s and has this one in %s, in all zones together.", first, latest),
		"reductions":       fmt.Sprintf("The ground that had this class in %s and has another one in %s, in all zones together.", first, latest),
		"net":              "Additions less reductions, which is closing less opening extent.",
		"closing":          fmt.Sprintf("The opening extent, with additions and without reductions: the ground of the class in %s that %s maps too.", latest, first),
		"net share":        "Net change, divided by the opening extent.",
		"samples":          "The reference samples that lie on the class of the map.",
		"users":            "The share of what is mapped as the class that is the class on the ground, by the samples.",
		"producers":        "The share of what is the class on the ground that is mapped as it, by the samples and the areas of the map.",
		"mapped":           "The extent of the class on the map.",
		"adjusted":         "The extent of the class on the ground, estimated from the samples in each class of the map and the areas of those classes.",
		"interval":         "Half of the 95 % confidence interval of the adjusted extent: 1.96 standard errors of the stratified estimate.",
	}
	if !r.common() {
		how["difference"] = fmt.Sprintf("The extent in %s, less the extent in %s, each on all ground that the epoch maps.", latest, first)
		how["difference share"] = how["difference"] + " Divided by the extent in " + first + "."
	}
	return how
}

// decimals is how many decimals areas have: those of the largest zone.
func (r *Report) decimals() int {
	most := 0.0
	for _, z := range r.Zones {
		most = math.Max(most, z.Area)
	}
	return text.Decimals(most)
}

func number(v float64, decimals int) string {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return "–"
	}
	return text.Number(v, decimals)
}

func signed(v float64, decimals int) string {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return "–"
	}
	return text.Signed(v, decimals)
}

// exact is a number for sorting and for tables that are downloaded.
func exact(v float64) string {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return ""
	}
	return strconv.FormatFloat(v, 'g', 12, 64)
}

func sum(list []float64) (s float64) {
	for _, v := range list {
		if !math.IsNaN(v) {
			s += v
		}
	}
	return s
}

func dataURI(kind string, data []byte) template.URL {
	return template.URL("data:" + kind + ";base64," + base64.StdEncoding.EncodeToString(data))
}

// swatch is the colour of a class as an image.
func swatch(c string) template.HTML {
	return template.HTML(`<svg class="swatch" viewBox="0 0 1 1" aria-hidden="true"><rect width="1" height="1" fill="` + hex(c) + `"/></svg>`)
}

// hex is a colour, grey when it is none.
func hex(c string) string {
	if len(c) == 7 && c[0] == '#' && strings.Trim(c[1:], "0123456789abcdefABCDEF") == "" {
		return c
	}
	return "#888888"
}

// bar is the composition of a zone at the last epoch as an image.
func (r *Report) bar(z Zone) template.HTML {
	var b strings.Builder
	b.WriteString(`<svg class="bar" viewBox="0 0 1000 10" preserveAspectRatio="none" aria-hidden="true">`)
	last := z.Extents[len(z.Extents)-1]
	whole, x := sum(last), 0.0
	for k, v := range last {
		if v > 0 && whole > 0 {
			w := v / whole * 1000
			fmt.Fprintf(&b, `<rect x="%.2f" width="%.2f" height="10" fill="%s"/>`, x, w, hex(r.Classes[k].Color))
			x += w
		}
	}
	b.WriteString("</svg>")
	return template.HTML(b.String())
}

// classRow is a class of a zone over the epochs.
type classRow struct {
	Class    Class
	Areas    []float64
	Net, Pct float64
}

// row is a class of a zone; it has no areas when the zone has nothing of it at any epoch.
func (r *Report) row(z Zone, k int) (out classRow) {
	out.Class = r.Classes[k]
	any := false
	for _, e := range z.Extents {
		out.Areas = append(out.Areas, e[k])
		any = any || e[k] > 0
	}
	if !any {
		out.Areas = nil
		return out
	}
	first := out.Areas[0]
	if z.Opening != nil {
		first = z.Opening[k]
	}
	out.Net, out.Pct = z.net(k), z.net(k)/first*100
	return out
}

// outcomes are how many checks hold, and how many fall short.
func (r *Report) outcomes() string {
	counts := map[string]int{}
	for _, c := range r.Checks {
		counts[c.Outcome]++
	}
	out := text.Count(counts["holds"], "check") + " held"
	if n := counts["falls short"]; n > 0 {
		out += ", " + strconv.Itoa(n) + " fell short"
	}
	return out
}

// data is what the script of the page needs.
func (r *Report) data(decimals int) any {
	type zone struct {
		Label string      `json:"label"`
		Key   string      `json:"key"`
		Areas [][]float64 `json:"areas"` // by epoch and class; −1 where there is none
	}
	out := struct {
		Unit    string            `json:"unit"`
		Explain string            `json:"explain"`
		Epochs  []string          `json:"epochs"`
		Classes []string          `json:"classes"`
		Keys    []string          `json:"keys"`
		Zones   []zone            `json:"zones"`
		How     map[string]string `json:"how"`
	}{Unit: r.Unit, Explain: r.Explain, Epochs: r.Epochs, How: r.how()}
	for _, c := range r.Classes {
		out.Classes, out.Keys = append(out.Classes, c.Name), append(out.Keys, c.ID)
	}
	if r.Map == nil {
		return out
	}
	scale := math.Pow10(decimals)
	for _, z := range r.Zones {
		one := zone{Label: z.Label(), Key: z.ID}
		for _, e := range z.Extents {
			row := make([]float64, len(e))
			for k, v := range e {
				if row[k] = math.Round(v*scale) / scale; math.IsNaN(v) {
					row[k] = -1
				}
			}
			one.Areas = append(one.Areas, row)
		}
		out.Zones = append(out.Zones, one)
	}
	return out
}

// picture is the map of an epoch as PNG. Ground without a class is hatched.
func (r *Report) picture(classes []uint8) template.URL {
	colors := color.Palette{color.NRGBA{0xef, 0xec, 0xe4, 255}, color.NRGBA{0xa9, 0xa5, 0x9b, 255}}
	for _, c := range r.Classes[:min(len(r.Classes), 254)] {
		v, _ := strconv.ParseUint(hex(c.Color)[1:], 16, 32)
		colors = append(colors, color.NRGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 255})
	}
	img := image.NewPaletted(image.Rect(0, 0, r.Map.Width, r.Map.Height), colors)
	for i, k := range classes {
		switch {
		case k > 0 && int(k)+1 < len(colors):
			img.Pix[i] = k + 1
		case (i%r.Map.Width+i/r.Map.Width)%6 == 0:
			img.Pix[i] = 1
		}
	}
	return encoded(img)
}

// index is an image whose red and green say what is where.
func (r *Report) index(at func(i int) (low, high uint8)) template.URL {
	img := image.NewNRGBA(image.Rect(0, 0, r.Map.Width, r.Map.Height))
	for i := range r.Map.Width * r.Map.Height {
		low, high := at(i)
		img.Pix[4*i], img.Pix[4*i+1], img.Pix[4*i+3] = low, high, 255
	}
	return encoded(img)
}

func encoded(img image.Image) template.URL {
	var b bytes.Buffer
	e := png.Encoder{}
	if err := e.Encode(&b, img); err != nil {
		panic(err) // into memory
	}
	return dataURI("image/png", b.Bytes())
}
