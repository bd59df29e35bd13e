package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	batch "k8s.io/api/batch/v1"

	"github.com/verdex-land/verdex/internal/demo"
)

// The job for Kubernetes has only fields that its schema knows, and each of its containers does one part: all of them together make what one run makes.
func TestKubernetesJob(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	t.Chdir(dir)
	require.NoError(t, os.Rename("orrin.yaml", `a "plan".yaml`))
	var out, errs bytes.Buffer
	require.Equal(t, exitDone, Main([]string{"verdex", "run", `a "plan".yaml`, "--parts", "3", "--scheduler", "kubernetes"}, "v1.2.3", &out, &errs), errs.String())
	text, err := yaml.YAMLToJSON(out.Bytes())
	require.NoError(t, err)
	var job batch.Job
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	require.NoError(t, d.Decode(&job), out.String())
	assert.Equal(t, "verdex-a-plan", job.Name)
	assert.Equal(t, "batch/v1", job.APIVersion)
	assert.Equal(t, batch.IndexedCompletion, *job.Spec.CompletionMode)
	assert.EqualValues(t, 3, *job.Spec.Completions)
	c := job.Spec.Template.Spec.Containers[0]
	assert.Equal(t, "verdex:v1.2.3", c.Image)
	require.NoError(t, os.Mkdir("parts", 0o755))
	for i := range 3 {
		args := []string{"verdex"}
		for _, a := range c.Args {
			args = append(args, string(bytes.ReplaceAll([]byte(a), []byte("$(JOB_COMPLETION_INDEX)"), []byte{byte('0' + i)})))
		}
		for range 2 { // a container that is started again does its part again
			errs.Reset()
			require.Equal(t, exitDone, Main(args, "v1.2.3", &out, &errs), errs.String())
		}
	}
	require.Equal(t, exitDone, Main([]string{"verdex", "--quiet", "gather", "parts/part-*"}, "v1.2.3", &out, &errs), errs.String())
	assert.FileExists(t, filepath.Join(dir, "results", "matrix.csv"))
}

// The parts of one wait for those that are not there yet.
func TestGatherWaits(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	t.Chdir(dir)
	part := func(i string) {
		var out, errs bytes.Buffer
		require.Equal(t, exitDone, Main([]string{"verdex", "--quiet", "measure", "cover_2020.tif", "--part", i + "/2", "--out", "part-" + i}, "test", &out, &errs), errs.String())
	}
	part("1")
	done := make(chan string)
	said, errs := io.Pipe()
	go func() {
		var out bytes.Buffer
		assert.Equal(t, exitDone, Main([]string{"verdex", "gather", "part-*", "--watch", "--format", "csv"}, "test", &out, errs))
		errs.Close()
		done <- out.String()
	}()
	lines := bufio.NewScanner(said)
	require.True(t, lines.Scan())
	assert.Contains(t, lines.Text(), "note: 1 of 2 parts are there; waiting for the others")
	go io.Copy(io.Discard, said)
	part("2") // not before it waits
	assert.Contains(t, <-done, ",all,whole raster,class,")
}
