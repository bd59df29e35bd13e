package cli

import (
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/internal/draw"
)

type historiesFigureOptions struct {
	job.HistoriesOptions
	Zone string `opt:"zone" help:"of one <ZONE>, by its id or name; of all together by default"`
	setOption
	figureOptions `group:"output"`
}

func historiesFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "histories", Usage: "what each piece of ground went through, as bands through all epochs",
		Description: `Draws the histories of a table of change --table histories as bands whose width is area, in the colour of their
course: what changed once, what went and came back. What stayed is pale.

  verdex draw histories histories.csv --legend legend.csv --out histories.png`,
	}, func(o *historiesFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *historiesFigureOptions, _ draw.Options) (draw.Figure, error) {
		h, list, err := s.historiesOf(o.HistoriesOptions, o.Zone)
		if err != nil {
			return nil, err
		}
		f := bandsOf(h.Epochs, h.Classes, classKeys(h.Classes, h.Legend), list, h.Unit.M2, h.Unit.Name)
		f.Title, f.Sub = "Histories, "+h.Epochs[0]+" to "+h.Epochs[len(h.Epochs)-1], h.Unit.Name+" of true ground; bands have the colour of what became of the ground, and pale ones stayed"
		f.Sub = ofZone(o.Zone, f.Sub)
		return f, nil
	})
}

// historiesOf reads tables of histories, and picks those of a zone or of all.
func (s *session) historiesOf(o job.HistoriesOptions, zone string) (*job.Histories, []account.History, error) {
	h, err := job.ReadHistories(s.ctx, s.env(), o)
	if err != nil {
		return nil, nil, err
	}
	list, err := historiesIn(h.Histories, zone)
	return h, list, err
}

// historiesIn are the histories of a zone, or those of all zones, of which each is one.
func historiesIn(h *account.Histories, zone string) (out []account.History, err error) {
	at := map[string]int{}
	one := -1
	if zone != "" {
		if one, err = cover.FindZone(h.Zones, zone, "the tables"); err != nil {
			return nil, err
		}
	}
	for _, x := range h.List {
		if one >= 0 && x.Zone != one {
			continue
		}
		key := fmt.Sprint(x.Codes)
		if k, ok := at[key]; ok {
			out[k].M2 += x.M2
			continue
		}
		at[key] = len(out)
		out = append(out, x)
	}
	return out, nil
}

// tracer returns a function that gives a history of tables as one by the places of classes.
func tracer(classes []cover.Named) func(x account.History) change.History {
	places := map[string]int32{}
	for i, c := range classes {
		places[c.ID] = int32(i)
	}
	return func(x account.History) (out change.History) {
		for _, code := range x.Codes {
			place, ok := places[code]
			if !ok { // ground that the epoch does not map
				place = change.Unmapped
			}
			out.Codes = append(out.Codes, place)
		}
		return out
	}
}

// bandsOf are histories as bands.
func bandsOf(epochs []string, classes []cover.Named, keys []draw.Key, list []account.History, m2 float64, unit string) *draw.HistoriesFigure {
	f := &draw.HistoriesFigure{Epochs: epochs, Keys: slices.Clone(keys), Unit: unit}
	for k := change.Stable; k <= change.NeverMapped; k++ {
		f.Courses = append(f.Courses, draw.Key{Name: k.String(), Color: colorOf(job.CourseColor(k)), Border: true})
	}
	trace := tracer(classes)
	for _, x := range list {
		of := trace(x)
		b := draw.HistoryBand{Area: x.M2 / m2, Course: int(of.Course())}
		for _, place := range of.Codes {
			if place == change.Unmapped {
				if place = int32(len(keys)); len(f.Keys) == len(keys) {
					f.Keys = append(f.Keys, draw.Key{Name: "not mapped", Hatch: true})
				}
			}
			b.Classes = append(b.Classes, int(place))
		}
		f.List = append(f.List, b)
	}
	return f
}

type sinceFigureOptions struct {
	job.HistoriesOptions
	Zone string `opt:"zone" help:"of one <ZONE>, by its id or name; of all together by default"`
	Show string `opt:"show" choose:"area,percent" help:"<area>, or percent of the extent of each class"`
	setOption
	figureOptions `group:"output"`
}

func sinceFigureCommand() *cli.Command {
	return figureCommand(cli.Command{
		Name: "since", Usage: "since when the ground of each class has been that class",
		Description: `Draws of a table of change --table histories a bar for each class of the last epoch, divided by the epochs since
which its ground has been that class.

  verdex draw since histories.csv --legend legend.csv --out since.png
  verdex draw since histories.csv --legend legend.csv --show percent --zone W3 --out w3.svg`,
	}, func(o *sinceFigureOptions) *figureOptions { return &o.figureOptions }, func(s *session, o *sinceFigureOptions, _ draw.Options) (draw.Figure, error) {
		h, list, err := s.historiesOf(o.HistoriesOptions, o.Zone)
		if err != nil {
			return nil, err
		}
		f := sinceBars(h.Epochs, h.Classes, list, h.Unit.M2, h.Unit.Name)
		f.Share = o.Show == "percent"
		last := h.Epochs[len(h.Epochs)-1]
		f.Title, f.Sub = "Since when the ground of "+last+" is what it is", h.Unit.Name+" of true ground"
		if f.Share {
			f.Sub = "percent of the extent of each class"
		}
		f.Sub = ofZone(o.Zone, f.Sub)
		return f, nil
	})
}

// sinceBars are a bar for each class of the last epoch, divided by the epochs since which its ground has been that class.
func sinceBars(epochs []string, classes []cover.Named, list []account.History, m2 float64, unit string) *draw.BarsFigure {
	f := &draw.BarsFigure{Unit: unit}
	for _, e := range job.EpochClasses(epochs) {
		f.Keys = append(f.Keys, draw.Key{Name: e.Name, Color: colorOf(e.Color), Border: true})
	}
	parts := make([][]float64, len(classes)) // nil for a class without ground
	trace := tracer(classes)
	for _, x := range list {
		of := trace(x)
		e := of.Since()
		if e < 0 { // the last epoch does not map it
			continue
		}
		class := of.Codes[len(epochs)-1]
		if parts[class] == nil {
			parts[class] = make([]float64, len(epochs))
		}
		parts[class][e] += x.M2 / m2
	}
	for k, c := range classes {
		if parts[k] != nil {
			f.Names, f.Parts = append(f.Names, c.Label()), append(f.Parts, parts[k])
		}
	}
	return f
}
