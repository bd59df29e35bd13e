package demo

import (
	"net/http"
	"strconv"
	"strings"
	"time"
)

// box is that of the sample rasters in degrees.
var box = []float64{12.32807, 58.19059, 12.90716, 58.44336}

// scene is a sample raster as an item.
type scene struct {
	id, file string
	when     time.Time
	nodata   any // nil where nothing is stated
}

func day(text string) time.Time {
	t, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err) // a date of this file
	}
	return t
}

// scenes are the items: the map of 2012 is in four tiles, whose files do not say that 0 is nodata.
var scenes = []scene{
	{"cover-2004", "cover_2004.tif", day("2004-07-01"), nil},
	{"cover-2012-a", "cover_2012_a.tif", day("2012-06-18"), 0},
	{"cover-2012-b", "cover_2012_b.tif", day("2012-06-18"), 0},
	{"cover-2012-c", "cover_2012_c.tif", day("2012-06-18"), 0},
	{"cover-2012-d", "cover_2012_d.tif", day("2012-06-18"), 0},
	{"cover-2020", "cover_2020.tif", day("2020-07-09"), 0},
}

// handleSTAC serves a catalog of the rasters, and a search of them.
func handleSTAC(mux *http.ServeMux) {
	item := func(r *http.Request, s scene) map[string]any {
		cover := map[string]any{"href": "http://" + r.Host + "/files/" + s.file, "type": "image/tiff; application=geotiff; profile=cloud-optimized", "roles": []string{"data"}, "title": "land cover"}
		if s.nodata != nil {
			cover["raster:bands"] = []any{map[string]any{"data_type": "uint8", "nodata": s.nodata}}
		}
		return map[string]any{"type": "Feature", "stac_version": "1.0.0", "stac_extensions": []string{"https://stac-extensions.github.io/raster/v1.1.0/schema.json"}, "id": s.id, "collection": "cover",
			"bbox": box, "geometry": map[string]any{"type": "Polygon", "coordinates": []any{[]any{[]float64{box[0], box[1]}, []float64{box[2], box[1]}, []float64{box[2], box[3]}, []float64{box[0], box[3]}, []float64{box[0], box[1]}}}},
			"properties": map[string]any{"datetime": s.when.Format(time.RFC3339)},
			"assets":     map[string]any{"cover": cover, "legend": map[string]any{"href": "http://" + r.Host + "/files/legend.csv", "type": "text/csv"}},
			"links":      []any{link(r, "self", "/stac/items/"+s.id), link(r, "root", "/stac")}}
	}
	mux.HandleFunc("GET /stac", func(w http.ResponseWriter, r *http.Request) {
		sendJSON(w, map[string]any{"type": "Catalog", "stac_version": "1.0.0", "id": "orrin", "description": "Land cover of the Orrin basin",
			"conformsTo": []string{"https://api.stacspec.org/v1.0.0/core", "https://api.stacspec.org/v1.0.0/item-search"},
			"links":      []any{link(r, "self", "/stac"), link(r, "child", "/stac/catalog.json"), link(r, "search", "/stac/search")}})
	})
	mux.HandleFunc("GET /stac/catalog.json", func(w http.ResponseWriter, r *http.Request) { // as files without a search
		links := []any{link(r, "self", "/stac/catalog.json")}
		for _, s := range scenes {
			links = append(links, link(r, "item", "/stac/items/"+s.id))
		}
		sendJSON(w, map[string]any{"type": "Catalog", "stac_version": "1.0.0", "id": "orrin-files", "description": "Land cover of the Orrin basin", "links": links})
	})
	mux.HandleFunc("GET /stac/items/{id}", func(w http.ResponseWriter, r *http.Request) {
		for _, s := range scenes {
			if s.id == r.PathValue("id") {
				send(w, "application/geo+json", item(r, s))
				return
			}
		}
		http.NotFound(w, r)
	})
	mux.HandleFunc("GET /stac/search", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		from, to, _ := strings.Cut(q.Get("datetime"), "/")
		begin, _ := time.Parse(time.RFC3339, from)
		end, err := time.Parse(time.RFC3339, to)
		found := []any{}
		for _, s := range scenes {
			if err == nil && (s.when.Before(begin) || s.when.After(end)) {
				continue
			}
			found = append(found, item(r, s))
		}
		offset, _ := strconv.Atoi(q.Get("token"))
		found = found[min(max(offset, 0), len(found)):]
		links := []any{}
		if len(found) > 3 { // so that the sample has several pages
			found = found[:3]
			q.Set("token", strconv.Itoa(offset+3))
			links = append(links, link(r, "next", "/stac/search?"+q.Encode()))
		}
		send(w, "application/geo+json", map[string]any{"type": "FeatureCollection", "features": found, "links": links})
	})
}
