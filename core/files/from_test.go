package files

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A file of the web names files of the web only, whatever its names look like.
func TestNamesThatFilesGive(t *testing.T) {
	for _, c := range []struct{ list, name, want string }{
		{"https://a.example/c/list.txt", "x.tif", "https://a.example/c/x.tif"},
		{"https://a.example/c/list.txt", "/x.tif", "https://a.example/x.tif"},
		{"https://a.example/c/list.txt", "../../../x.tif", "https://a.example/x.tif"},
		{"https://a.example/c/list.txt", "//b.example/x.tif", "https://b.example/x.tif"},
		{"https://a.example/c/list.txt", "http://b.example/x.tif", "http://b.example/x.tif"},
		{"https://a.example/c/list.txt", "file:///etc/passwd", ""},
		{"https://a.example/c/list.txt", "s3://bucket/x.tif", ""},
		{"https://a.example/c/list.txt", "%zz/x.tif", ""},
		{"https://a.example/c/list.txt", "a\x00b", ""},
		{"c/list.txt", "x.tif", filepath.Join("c", "x.tif")},
		{"c/list.txt", "s3://bucket/x.tif", ""},
		{"c/list.txt", "https://a.example/x.tif", "https://a.example/x.tif"},
	} {
		got, err := From(c.list, c.name)
		assert.Equal(t, c.want, got, c.name)
		assert.Equal(t, c.want == "", err != nil, c.name)
	}
}
