package report

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// made is a report of zones in a row, from left to right, each of which is of one class in the map.
func made(zones, classes, epochs int) *Report {
	r := &Report{Title: "Made-up land", Source: "plan.yaml", Program: "Verdex test", Unit: "ha", UnitLabel: "hectares", Explain: "verdex explain plan.yaml", Plan: "plan: 1\n",
		Method: []string{"True areas."}, Checks: []Check{{"balance", "holds", "the parts make 100 %", nil}, {"pace", "falls short", "some are fast", []string{"Z1 is fast"}}},
		Accuracy: &Accuracy{Overall: "90 % is right.", Rows: []AccuracyRow{{"class 1", 10, 90, 80, 10, 11, 2}, {"class 2", 0, math.NaN(), math.NaN(), 1, 1, math.NaN()}}},
		Inputs:   []Input{{"cover", "a.tif", "10 bytes", "00ff"}}, Notes: []string{"a note"}}
	for e := range epochs {
		r.Epochs = append(r.Epochs, fmt.Sprint(2000+5*e))
	}
	for k := range classes {
		r.Classes = append(r.Classes, Class{fmt.Sprint(k + 1), fmt.Sprintf("class %d", k+1), fmt.Sprintf("#%02x%02x80", 20+k*17%200, 200-k*13%200)})
		r.Account = append(r.Account, Balance{k, 10, 3, 1, 2, 12, 20})
	}
	m := &Map{Width: 10 * zones, Height: 20, Scale: "True in the middle.", Zones: make([]uint16, 200*zones)}
	for e := range epochs {
		m.Classes = append(m.Classes, make([]uint8, 200*zones))
		for i := range m.Classes[e] {
			if m.Classes[e][i] = uint8((i%m.Width/10+e)%classes + 1); i < m.Width {
				m.Classes[e][i] = 0 // the upper row is of no class
			}
		}
	}
	for z := range zones {
		one := Zone{ID: fmt.Sprintf("Z%d", z+1), Name: fmt.Sprintf("Zone %d", z+1), Area: float64(z*37%zones) + 100}
		for e := range epochs {
			row := make([]float64, classes)
			for k := range row {
				row[k] = math.Mod(float64((z+1)*(k+3)*(e+7)), 97) + 0.5
			}
			one.Extents = append(one.Extents, row)
		}
		r.Zones = append(r.Zones, one)
		rings := [][][2]float64{{{float64(10 * z), 0}, {float64(10*z + 10), 0}, {float64(10*z + 10), 20}, {float64(10 * z), 20}}}
		m.Outlines = append(m.Outlines, Path(rings))
		Fill(m.Zones, m.Width, m.Height, rings, uint16(z+1))
	}
	r.Map = m
	return r
}

// browser opens a report in a headless Chromium and notes what it complains of and asks for.
type browser struct {
	ctx context.Context
	mu  sync.Mutex
	bad []string
}

func open(t *testing.T, r *Report) *browser {
	t.Helper()
	path := filepath.Join(t.TempDir(), "report.html")
	var b bytes.Buffer
	require.NoError(t, Write(&b, r))
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true), chromedp.WindowSize(1280, 800))
	for _, name := range []string{"/usr/bin/chromium", "/usr/bin/chromium-browser"} {
		if _, err := os.Stat(name); err == nil {
			options = append(options, chromedp.ExecPath(name))
			break
		}
	}
	alloc, stop := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(stop)
	ctx, end := chromedp.NewContext(alloc)
	t.Cleanup(end)
	ctx, late := context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(late)
	out := &browser{ctx: ctx}
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		out.mu.Lock()
		defer out.mu.Unlock()
		switch e := event.(type) {
		case *runtime.EventExceptionThrown:
			out.bad = append(out.bad, "exception: "+fmt.Sprint(e.ExceptionDetails.Text, " ", e.ExceptionDetails.LineNumber))
		case *runtime.EventConsoleAPICalled:
			out.bad = append(out.bad, fmt.Sprintf("console %s: %d values", e.Type, len(e.Args)))
		case *page.EventJavascriptDialogOpening:
			out.bad = append(out.bad, "dialog: "+e.Message)
		case *network.EventRequestWillBeSent:
			if u := e.Request.URL; !strings.HasPrefix(u, "data:") && !strings.HasPrefix(u, "blob:") && !strings.HasSuffix(u, "/report.html") {
				out.bad = append(out.bad, "request: "+u)
			}
		}
	}))
	_, err := chromedp.Call(ctx, network.Enable, network.EnableParams{})
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate((&url.URL{Scheme: "file", Path: path}).String()), chromedp.WaitReady(chromedp.CSS("#why"))))
	value[string](t, out, `document.documentElement.style.scrollBehavior = "auto"`) // so that a click meets what it is meant for
	return out
}

// value is what an expression has in the page.
func value[T any](t *testing.T, b *browser, expression string) T {
	t.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
	require.NoError(t, err, expression)
	return v
}

const firstZones = `[...document.querySelectorAll("#extent-table tbody tr")].filter(r => !r.hidden).slice(0, 3).map(r => r.dataset.zone).join()`

func TestTablesSortFilterAndGoAlong(t *testing.T) {
	r := made(12, 3, 2)
	r.Zones[4].Extents[1][0] = math.NaN()
	b := open(t, r)
	click := func(column int) {
		require.NoError(t, chromedp.Do(b.ctx, chromedp.Click(chromedp.CSS(fmt.Sprintf("#extent-table thead th:nth-child(%d) button", column)))))
	}
	assert.Equal(t, "Z1,Z2,Z3", value[string](t, b, firstZones))
	click(2) // by area, the greatest first: 100 + z * 37 mod 12
	assert.Equal(t, "Z12,Z11,Z10", value[string](t, b, firstZones))
	assert.Equal(t, "descending", value[string](t, b, `document.querySelector("#extent-table th:nth-child(2)").getAttribute("aria-sort")`))
	click(2)
	assert.Equal(t, "Z1,Z2,Z3", value[string](t, b, firstZones))
	click(1)
	click(1) // by name, Z12 behind Z2 as numbers in words are numbers
	assert.Equal(t, "Z12,Z11,Z10", value[string](t, b, firstZones))
	for range 2 { // what has no number is last either way
		click(3)
		assert.Equal(t, "Z5", value[string](t, b, `document.querySelector("#extent-table tbody tr:last-child").dataset.zone`))
	}
	require.NoError(t, chromedp.Do(b.ctx, chromedp.SendKeys(chromedp.CSS(`input[data-filter="extent-table"]`), "zone 1")))
	assert.Equal(t, 4, value[int](t, b, `[...document.querySelectorAll("#extent-table tbody tr")].filter(r => !r.hidden).length`))
	assert.Equal(t, "4 of 12 rows", value[string](t, b, `document.getElementById("extent-table-told").textContent`))
	assert.Contains(t, value[string](t, b, `csvOf(document.getElementById("net-table"))`), "zone,class 1,class 2,class 3\r\nZ1 Zone 1,3,4,5\r\n")
	assert.Empty(t, b.bad)
}

func TestMapSlidesAndTells(t *testing.T) {
	b := open(t, made(6, 3, 3))
	at := func() string {
		return value[string](t, b, `document.getElementById("stage").style.getPropertyValue("--at")`)
	}
	assert.Equal(t, "50%", at())
	require.NoError(t, chromedp.Do(b.ctx, chromedp.Focus(chromedp.CSS("#slide")), chromedp.KeyEvent(kb.ArrowRight), chromedp.KeyEvent(kb.ArrowRight)))
	assert.Equal(t, "52%", at())
	type box struct{ X, Y, W, H float64 }
	where := func(of string) box {
		return value[box](t, b, `(() => { const e = document.querySelector("`+of+`"); e.scrollIntoView({block: "center"}); const r = e.getBoundingClientRect(); return {X: r.x, Y: r.y, W: r.width, H: r.height}; })()`)
	}
	slide := where("#slide")
	require.NoError(t, chromedp.Do(b.ctx, chromedp.MouseClickXY(slide.X+slide.W*0.25, slide.Y+slide.H/2)))
	assert.Contains(t, []string{"24%", "25%", "26%"}, at())
	// Left of the slider is 2000, right of it 2010. The map has six zones side by side; zone 1 is class 1 in 2000, zone 5 class 1 in 2010.
	tell := func(fx, fy float64) string {
		stage := where("#stage")
		_, err := chromedp.Call(b.ctx, input.DispatchMouseEvent, input.DispatchMouseEventParams{Type: input.DispatchMouseEventTypeMouseMoved, X: stage.X + stage.W*fx, Y: stage.Y + stage.H*fy})
		require.NoError(t, err)
		time.Sleep(300 * time.Millisecond)
		return value[string](t, b, `document.getElementById("here").textContent`)
	}
	assert.Equal(t, "2000: class 1, of which Z1 Zone 1 has 21.5 ha", tell(0.08, 0.5))
	assert.Equal(t, "2010: class 1, of which Z5 Zone 5 has 38.5 ha", tell(0.75, 0.5))
	assert.Equal(t, "2010: no class, in Z6 Zone 6", tell(0.95, 0.02))
	require.NoError(t, chromedp.Do(b.ctx, chromedp.SetValue(chromedp.CSS("#left"), "1")))
	value[bool](t, b, `document.getElementById("left").dispatchEvent(new Event("input"))`)
	assert.Equal(t, "2005: class 2, of which Z1 Zone 1 has 32.5 ha", tell(0.08, 0.5))
	assert.Empty(t, b.bad)
}

// Text from files is shown and not run, and the page asks for nothing.
func TestTextIsText(t *testing.T) {
	r := made(3, 3, 2)
	evil := []string{`<script>window.hacked=1</script>`, `"><img src=x onerror=window.hacked=1>`, `'; window.hacked=1; '</script><script>window.hacked=1</script>`}
	for i, e := range evil {
		r.Zones[i].ID, r.Zones[i].Name = e, e+" ward"
		r.Classes[i].Name, r.Classes[i].ID = e, fmt.Sprint(i)+e
		r.Classes[i].Color = `#fff"/><script>window.hacked=1</script>`
	}
	r.Title, r.Plan, r.Contact, r.Epochs[0], r.Notes[0], r.Checks[0].Text, r.Inputs[0].Path = evil[0], evil[2], evil[1], evil[2], evil[1], evil[0], evil[1]
	b := open(t, r)
	assert.Equal(t, evil[0], value[string](t, b, "document.title"))
	assert.Equal(t, evil[0], value[string](t, b, `document.querySelector("h1").textContent`))
	assert.Equal(t, 0, value[int](t, b, `document.querySelectorAll("main script, main img[src=x], header img").length`))
	require.NoError(t, chromedp.Do(b.ctx, chromedp.Focus(chromedp.CSS(`section.zone td a.why`)), chromedp.KeyEvent(kb.Enter)))
	assert.Equal(t, `verdex explain plan.yaml --zone '<script>window.hacked=1</script>' --class '0<script>window.hacked=1</script>' --epoch ''\''; window.hacked=1; '\''</script><script>window.hacked=1</script>'`,
		value[string](t, b, `document.getElementById("why-command").textContent`))
	assert.True(t, value[bool](t, b, `document.getElementById("why").open`))
	require.NoError(t, chromedp.Do(b.ctx, chromedp.KeyEvent(kb.Escape)))
	assert.False(t, value[bool](t, b, `document.getElementById("why").open`))
	// A number without a command of its own says what it is; the link in the box closes it and leads on.
	require.NoError(t, chromedp.Do(b.ctx, chromedp.Focus(chromedp.CSS(`#account-table a.why`)), chromedp.KeyEvent(kb.Enter)))
	assert.Contains(t, value[string](t, b, `document.getElementById("why-what").textContent`), "10.0 ha · ")
	assert.Contains(t, value[string](t, b, `document.getElementById("why-how").textContent`), "that 2005 maps too, in all zones together")
	assert.True(t, value[bool](t, b, `document.getElementById("why-more").hidden && document.getElementById("why").open`))
	assert.Empty(t, value[string](t, b, `[...document.querySelectorAll("a.why")].filter(a => { const c = a.closest("td");
		return !data.how[(c ? c.closest("table").tHead.rows[0].cells[c.cellIndex] : a).dataset.how]; }).map(a => a.outerHTML).join()`), "each number says how it is made")
	require.NoError(t, chromedp.Do(b.ctx, chromedp.Focus(chromedp.CSS(`#why a`)), chromedp.KeyEvent(kb.Enter)))
	assert.False(t, value[bool](t, b, `document.getElementById("why").open`))
	assert.Equal(t, "#numbers", value[string](t, b, `location.hash`))
	// The policy lets nothing in, even where markup came in.
	assert.True(t, value[bool](t, b, `(() => { const s = document.createElement("script"); s.textContent = "window.hacked = 1"; document.body.append(s); return window.hacked === undefined; })()`))
	assert.Empty(t, b.bad)
}

// Links go somewhere, and an accessibility engine has nothing serious to say.
func TestPageIsAccessible(t *testing.T) {
	b := open(t, made(7, 4, 3))
	assert.Empty(t, value[[]string](t, b, `[...document.querySelectorAll("a[href]")].map(a => a.getAttribute("href")).filter(h => !h.startsWith("#") || !document.getElementById(h.slice(1)))`))
	assert.Empty(t, value[[]string](t, b, `[...document.querySelectorAll("main img:not([hidden])")].filter(i => !i.alt).map(i => i.outerHTML.slice(0, 80))`))
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	engine, err := os.ReadFile(filepath.Join(cache, "verdex-test-tools", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err, ".ci/tools installs it")
	value[int](t, b, string(engine)+";0")
	found := value[[]string](t, b, `axe.run(document).then(r => r.violations.filter(v => v.impact === "serious" || v.impact === "critical").map(v => v.id + ": " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 200)).join(" | ")))`)
	assert.Empty(t, found)
	assert.Empty(t, b.bad)
}

// Five hundred zones, twelve classes and six epochs open within two seconds and sort within a tenth of one, since a hundred rows are laid out at first. Times are logged
// beside that of a plain table of as many cells; what is laid out is what decides them.
func TestManyZonesAreUsable(t *testing.T) {
	var b *browser
	load := math.Inf(1)
	for try := 0; try < 3 && load > 2000; try++ { // the fastest of three
		b = open(t, made(500, 12, 6))
		load = min(load, value[float64](t, b, `performance.getEntriesByType("navigation")[0].domContentLoadedEventEnd`))
	}
	sort := value[float64](t, b, `(() => { let best = 1e9; const heading = document.querySelector("#extent-table th:nth-child(4)"); for (let i = 0; i < 7; i++) { const t = performance.now(); sortBy(document.getElementById("extent-table"), 3, heading); document.getElementById("extent-table").offsetHeight; best = Math.min(best, performance.now() - t); } return best; })()`)
	shown := func() int {
		return value[int](t, b, `[...document.querySelectorAll("#extent-table tbody tr")].filter(r => r.offsetHeight > 0).length`)
	}
	assert.Equal(t, 100, shown())
	assert.Equal(t, "show all 500 rows", value[string](t, b, `document.getElementById("extent-table-more").textContent`))
	assert.Equal(t, 501, value[int](t, b, `csvOf(document.getElementById("extent-table")).trim().split("\r\n").length`))
	require.NoError(t, chromedp.Do(b.ctx, chromedp.SendKeys(chromedp.CSS(`input[data-filter="extent-table"]`), "zone 49")))
	assert.Equal(t, 11, shown())
	require.NoError(t, chromedp.Do(b.ctx, chromedp.SendKeys(chromedp.CSS(`input[data-filter="extent-table"]`), kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace)))
	require.NoError(t, chromedp.Do(b.ctx, chromedp.Focus(chromedp.CSS("#extent-table-more")), chromedp.KeyEvent(kb.Enter)))
	assert.Equal(t, 500, shown())
	floor := value[float64](t, b, `(() => { let best = 1e9; const html = "<table>" + ("<tr>" + "<td>1,234.5</td>".repeat(72) + "</tr>").repeat(500) + "</table>"; for (let i = 0; i < 3; i++) { const d = document.createElement("div"); document.body.append(d); const t = performance.now(); d.innerHTML = html; d.offsetHeight; best = Math.min(best, performance.now() - t); d.remove(); } return best; })()`)
	t.Logf("opened in %.0f ms, sorted in %.1f ms; a plain table takes %.0f ms", load, sort, floor)
	assert.Empty(t, b.bad)
}

func TestOutlines(t *testing.T) {
	square := [][][2]float64{{{1, 1}, {5, 1}, {5, 4}, {1, 4}}, {{2, 2}, {4, 2}, {4, 3}, {2, 3}}}
	pixels := make([]uint16, 6*5)
	Fill(pixels, 6, 5, square, 7)
	assert.Equal(t, []uint16{
		0, 0, 0, 0, 0, 0,
		0, 7, 7, 7, 7, 0,
		0, 7, 0, 0, 7, 0,
		0, 7, 7, 7, 7, 0,
		0, 0, 0, 0, 0, 0}, pixels)
	Fill(pixels, 6, 5, [][][2]float64{{{-50, -50}, {50, -50}, {50, 50}, {-50, 50}}}, 3) // beyond the image
	assert.NotContains(t, pixels, uint16(0))
	assert.Equal(t, "M0 0L10 0L10 5.3Z", Path([][][2]float64{{{0, 0}, {0.2, 0.1}, {10, 0}, {10, 5.26}}}))
}

// The same report gives the same bytes, and numbers that are none are shown as such.
func TestSameBytes(t *testing.T) {
	var a, b bytes.Buffer
	require.NoError(t, Write(&a, made(5, 3, 2)))
	require.NoError(t, Write(&b, made(5, 3, 2)))
	assert.Equal(t, a.String(), b.String())
	assert.Contains(t, a.String(), ">–<")
	before, _, _ := strings.Cut(a.String(), "<script>")
	assert.NotContains(t, before, "NaN")
}
