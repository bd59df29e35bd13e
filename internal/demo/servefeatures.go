package demo

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/earth"
)

// feature is a feature of a sample file.
type feature struct {
	Type       string         `json:"type"`
	ID         int            `json:"id"`
	Properties map[string]any `json:"properties"`
	Geometry   struct {
		Type        string `json:"type"`
		Coordinates any    `json:"coordinates"`
	} `json:"geometry"`
}

// collections are the sample files that are served as collections.
var collections = map[string]string{"wards": "wards.geojson", "catchments": "catchments.geojson"}

// stored is the CRS in which each says that it is stored.
var stored = map[string]string{"wards": crs84URI, "catchments": storedURI}

const (
	storedCode = 32633
	storedURI  = "http://www.opengis.net/def/crs/EPSG/0/32633"
	crs84URI   = "http://www.opengis.net/def/crs/OGC/1.3/CRS84"
)

func featuresOf(name string) ([]feature, error) {
	data, err := File(collections[name])
	if err != nil {
		return nil, err
	}
	var c struct{ Features []feature }
	if err := json.Unmarshal(data, &c); err != nil {
		return nil, err
	}
	for i := range c.Features {
		c.Features[i].ID = i + 1
	}
	return c.Features, nil
}

// handleFeatures serves the collections.
func handleFeatures(mux *http.ServeMux) {
	mux.HandleFunc("GET /features", func(w http.ResponseWriter, r *http.Request) {
		sendJSON(w, map[string]any{"title": "Zones of the Orrin basin", "links": []any{link(r, "conformance", "/features/conformance"), link(r, "data", "/features/collections")}})
	})
	mux.HandleFunc("GET /features/conformance", func(w http.ResponseWriter, r *http.Request) {
		sendJSON(w, map[string]any{"conformsTo": []string{
			"http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core", "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
			"http://www.opengis.net/spec/ogcapi-features-2/1.0/conf/crs", "http://www.opengis.net/spec/ogcapi-features-3/1.0/conf/features-filter",
			"http://www.opengis.net/spec/cql2/1.0/conf/cql2-text"}})
	})
	about := func(r *http.Request, id string) map[string]any {
		return map[string]any{"id": id, "title": id, "itemType": "feature", "crs": []string{crs84URI, storedURI}, "storageCrs": stored[id],
			"links": []any{link(r, "self", "/features/collections/"+id), link(r, "items", "/features/collections/"+id+"/items"), link(r, "conformance", "/features/conformance")}}
	}
	mux.HandleFunc("GET /features/collections", func(w http.ResponseWriter, r *http.Request) {
		sendJSON(w, map[string]any{"collections": []any{about(r, "catchments"), about(r, "wards")}, "links": []any{link(r, "self", "/features/collections")}})
	})
	mux.HandleFunc("GET /features/collections/{id}", func(w http.ResponseWriter, r *http.Request) {
		if collections[r.PathValue("id")] == "" {
			http.NotFound(w, r)
			return
		}
		sendJSON(w, about(r, r.PathValue("id")))
	})
	mux.HandleFunc("GET /features/collections/{id}/items", serveItems)
}

// serveItems serves a page of features: at most ten, so that the sample has several pages.
func serveItems(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	if collections[id] == "" {
		http.NotFound(w, r)
		return
	}
	list, err := featuresOf(id)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	q := r.URL.Query()
	wrong := func(what string) { http.Error(w, what+" is not understood", http.StatusBadRequest) }
	var box []float64
	for _, t := range strings.FieldsFunc(q.Get("bbox"), func(r rune) bool { return r == ',' }) {
		v, err := strconv.ParseFloat(t, 64)
		if err != nil {
			wrong("bbox")
			return
		}
		box = append(box, v)
	}
	var filter *cql.Expr
	if text := q.Get("filter"); text != "" {
		if filter, err = cql.ParseCondition(text); err != nil {
			wrong("filter")
			return
		}
	}
	var crs *earth.CRS
	switch q.Get("crs") {
	case "", crs84URI:
	case storedURI:
		if crs, err = earth.Lookup(storedCode); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
	default:
		wrong("crs")
		return
	}
	kept := []feature{}
	for _, f := range list {
		if filter != nil {
			holds, err := filter.Holds(func(name string) any { return f.Properties[name] })
			if err != nil {
				wrong("filter")
				return
			}
			if !holds {
				continue
			}
		}
		if len(box) == 4 && !meets(f.Geometry.Coordinates, box) {
			continue
		}
		kept = append(kept, f)
	}
	matched := len(kept)
	offset, _ := strconv.Atoi(q.Get("offset"))
	limit, err := strconv.Atoi(q.Get("limit"))
	if err != nil || limit > 10 || limit < 1 {
		limit = 10
	}
	kept = kept[min(max(offset, 0), matched):]
	links := []any{link(r, "self", r.URL.RequestURI())}
	if len(kept) > limit {
		kept = kept[:limit]
		q.Set("offset", strconv.Itoa(offset+limit))
		links = append(links, link(r, "next", r.URL.Path+"?"+q.Encode()))
	}
	if crs != nil {
		w.Header().Set("Content-Crs", "<"+storedURI+">")
		for i := range kept {
			kept[i].Geometry.Coordinates = carried(kept[i].Geometry.Coordinates, crs)
		}
	}
	send(w, "application/geo+json", map[string]any{"type": "FeatureCollection", "features": kept, "numberMatched": matched, "numberReturned": len(kept), "links": links})
}

// meets reports whether the box around coordinates meets another one.
func meets(coordinates any, box []float64) bool {
	around := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	eachPoint(coordinates, func(p []any) {
		x, _ := p[0].(float64)
		y, _ := p[1].(float64)
		around = [4]float64{math.Min(around[0], x), math.Min(around[1], y), math.Max(around[2], x), math.Max(around[3], y)}
	})
	return around[0] <= box[2] && around[2] >= box[0] && around[1] <= box[3] && around[3] >= box[1]
}

// eachPoint visits the positions in nested lists.
func eachPoint(coordinates any, visit func(p []any)) {
	list, ok := coordinates.([]any)
	if !ok || len(list) == 0 {
		return
	}
	if _, ok := list[0].(float64); ok && len(list) > 1 {
		visit(list)
		return
	}
	for _, c := range list {
		eachPoint(c, visit)
	}
}

// carried are coordinates in a CRS, to a tenth of a millimetre.
func carried(coordinates any, crs *earth.CRS) any {
	eachPoint(coordinates, func(p []any) {
		lon, _ := p[0].(float64)
		lat, _ := p[1].(float64)
		x, y, _ := crs.FromGeographic(lon*math.Pi/180, lat*math.Pi/180)
		p[0], p[1] = json.Number(fmt.Sprintf("%.4f", x)), json.Number(fmt.Sprintf("%.4f", y))
	})
	return coordinates
}
