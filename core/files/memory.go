package files

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io/fs"
)

// Memory is a system of files in memory, by name.
type Memory map[string][]byte

// ReadFile implements [System].
func (m Memory) ReadFile(name string) ([]byte, error) {
	data, ok := m[name]
	if !ok {
		return nil, fmt.Errorf("%s: there is no such file: %w", name, fs.ErrNotExist)
	}
	return data, nil
}

// Open implements [System].
func (m Memory) Open(name string) (File, error) {
	data, err := m.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return Bytes(data), nil
}

// Local implements [System]: nothing is on the disk.
func (m Memory) Local(name string) (string, error) {
	return "", fmt.Errorf("%s: it is read from the disk only, and is not there: %w", name, fs.ErrInvalid)
}

// Bytes is a file that is in memory.
func Bytes(data []byte) File { return inMemory{bytes.NewReader(data), data} }

type inMemory struct {
	*bytes.Reader
	data []byte
}

func (inMemory) Close() error { return nil }

func (m inMemory) Validator() string { return fmt.Sprintf("%x", sha256.Sum256(m.data)) }
