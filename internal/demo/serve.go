package demo

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"
)

// Handler serves the sample world as servers of such data do: its files by ranges under /files/, a STAC catalog with a search of items under /stac, and zones as
// an OGC API - Features collection under /features.
func Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		sendJSON(w, map[string]any{"title": "The basin of the Orrin Firth", "links": []any{
			link(r, "data", "/files/"), link(r, "child", "/stac"), link(r, "data", "/features")}})
	})
	mux.HandleFunc("GET /files/{$}", func(w http.ResponseWriter, r *http.Request) {
		var list []any
		for _, name := range Files() {
			list = append(list, link(r, "item", "/files/"+name))
		}
		sendJSON(w, map[string]any{"links": list})
	})
	mux.HandleFunc("GET /files/{name}", func(w http.ResponseWriter, r *http.Request) {
		name := r.PathValue("name")
		data, err := File(name)
		if err != nil {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("ETag", fmt.Sprintf(`"%.12x"`, sha256.Sum256(data)))
		http.ServeContent(w, r, name, time.Time{}, bytes.NewReader(data))
	})
	handleSTAC(mux)
	handleFeatures(mux)
	return mux
}

func sendJSON(w http.ResponseWriter, v any) { send(w, "application/json", v) }

func send(w http.ResponseWriter, kind string, v any) {
	data, err := json.Marshal(v)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", kind)
	w.Write(data)
}

// link is a link to a place of the server.
func link(r *http.Request, rel, path string) map[string]any {
	return map[string]any{"rel": rel, "href": "http://" + r.Host + path, "type": typeOf(path)}
}

func typeOf(path string) string {
	path, _, _ = strings.Cut(path, "?")
	switch {
	case strings.HasSuffix(path, ".tif"):
		return "image/tiff; application=geotiff"
	case strings.HasSuffix(path, ".geojson"), strings.Contains(path, "/items"):
		return "application/geo+json"
	case strings.HasSuffix(path, ".csv"):
		return "text/csv"
	}
	return "application/json"
}
