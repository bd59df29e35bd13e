package cli

import (
	"bytes"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

// run runs one of Debian's programs, which make test installs.
func run(t *testing.T, name string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	require.NoError(t, err, "make test installs what the tests need")
	var stdout, stderr bytes.Buffer
	c := exec.Command(path, args...)
	c.Stdout, c.Stderr = &stdout, &stderr
	require.NoError(t, c.Run(), "%s %v: %s", name, args, &stderr)
	return stdout.String()
}
