package cli

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/demo"
)

// A plan is run again when a server sends other features, though the address of the collection says what it said before.
func TestPlansSeeWhatServersChange(t *testing.T) {
	t.Chdir(t.TempDir())
	t.Setenv("VERDEX_CACHE_DIR", t.TempDir())
	var moved atomic.Bool
	handler := demo.Handler()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, "/items") || !moved.Load() {
			handler.ServeHTTP(w, r)
			return
		}
		answer := httptest.NewRecorder()
		handler.ServeHTTP(answer, r)
		fmt.Fprint(w, strings.ReplaceAll(answer.Body.String(), "[12.6", "[12.61"))
	}))
	defer server.Close()
	text := strings.ReplaceAll("legend: URL/files/legend.csv\nzones: {zones: URL/features/collections/wards, zone-id: code}\nepochs: {2012: URL/stac#cover, 2020: URL/stac#cover}\noutputs: {extents: {make: measure, out: 'extents_{epoch}.csv'}}\n", "URL", server.URL)
	require.NoError(t, os.WriteFile("plan.yaml", []byte(text), 0o644))
	run := func(args ...string) string {
		var out, errs strings.Builder
		require.Equal(t, exitDone, Main(append([]string{"verdex", "run", "plan.yaml"}, args...), "test", &out, &errs), errs.String())
		return out.String()
	}
	assert.Contains(t, run(), "2 made")
	first := must(os.ReadFile("extents_2020.csv"))
	assert.Contains(t, run(), "nothing to do")
	assert.Contains(t, run("--offline"), "nothing to do")
	assert.Contains(t, run("--offline", "--fresh"), "2 made")
	assert.Equal(t, string(first), string(must(os.ReadFile("extents_2020.csv"))))
	moved.Store(true)
	assert.Contains(t, run(), "2 made")
	assert.NotEqual(t, string(first), string(must(os.ReadFile("extents_2020.csv"))))
}
