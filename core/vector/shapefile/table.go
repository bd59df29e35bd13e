package shapefile

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/ianaindex"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
)

// column is a field of a .dbf.
type column struct {
	name     string
	kind     byte
	from, to int // bytes of a record
	decimals int
}

// readTable gives the features of a layer the attributes of a .dbf, whose encoding a .cpg file states.
func readTable(from files.System, path, cpg string, l *vector.Layer) error {
	f, err := from.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	said := ""
	if cpg != "" {
		text, err := from.ReadFile(cpg)
		if err != nil {
			return err
		}
		said = strings.TrimSpace(string(text))
	}
	if err := decodeTable(bufio.NewReaderSize(io.NewSectionReader(f, 0, f.Size()), 1<<20), said, l); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

func decodeTable(r io.Reader, cpg string, l *vector.Layer) error {
	var head [32]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return errors.New("it is not a table of attributes: it is too short")
	}
	count := int(binary.LittleEndian.Uint32(head[4:]))
	headLength, length := int(binary.LittleEndian.Uint16(head[8:])), int(binary.LittleEndian.Uint16(head[10:]))
	if headLength < 33 || length < 1 {
		return errors.New("it is not a table of attributes: its head is damaged")
	}
	fields := make([]byte, headLength-32)
	if _, err := io.ReadFull(r, fields); err != nil {
		return errors.New("it ends within its head: it is cut off, so get a complete copy")
	}
	decoder, err := encodingOf(cpg, head[29])
	if err != nil {
		return err
	}
	columns, err := columnsOf(fields, length, decoder)
	if err != nil {
		return err
	}
	for _, c := range columns {
		field := vector.Field{Name: c.name}
		if c.kind == 'D' {
			field.Form = vector.Date
		}
		l.Fields = append(l.Fields, field)
	}
	if count != len(l.Features) {
		return fmt.Errorf("it has %d rows, but the .shp has %d shapes: the two do not belong together", count, len(l.Features))
	}
	record := make([]byte, length)
	kept := l.Features[:0]
	doubtful := false
	for i := range count {
		if n, err := io.ReadFull(r, record); err != nil && !(i == count-1 && n == length-1) {
			return fmt.Errorf("it ends in row %d of %d: it is cut off, so get a complete copy", i+1, count)
		}
		feature := l.Features[i]
		if record[0] == '*' { // deleted
			continue
		}
		for _, c := range columns {
			v, sure, err := c.value(record[c.from:c.to], decoder)
			if err != nil {
				return fmt.Errorf("row %d, %s: %w", i+1, c.name, err)
			}
			doubtful = doubtful || !sure
			feature.Values = append(feature.Values, v)
		}
		kept = append(kept, feature)
	}
	if doubtful {
		l.Notes = append(l.Notes, "the .dbf file does not say its encoding, and some texts are not UTF-8: they are taken for Windows-1252; a .cpg file beside it would state it")
	}
	clear(l.Features[len(kept):])
	l.Features = kept
	l.Settle()
	return nil
}

func columnsOf(fields []byte, length int, decoder *encoding.Decoder) ([]column, error) {
	var columns []column
	at := 1
	for ; len(fields) >= 32 && fields[0] != 0x0d; fields = fields[32:] {
		name, _, _ := bytes.Cut(fields[:11], []byte{0})
		text, _ := decode(name, decoder)
		c := column{name: strings.TrimSpace(text), kind: fields[11], from: at, to: at + int(fields[16]), decimals: int(fields[17])}
		if c.kind == 'C' { // long texts have the upper byte of their length where others have decimals
			c.to += c.decimals << 8
		}
		if c.to > length {
			return nil, fmt.Errorf("its field %s reaches beyond the row of %d bytes: its head is damaged", c.name, length)
		}
		at = c.to
		columns = append(columns, c)
	}
	return columns, nil
}

// value reads one value. Empty ones are nil. sure is false when a text had to be guessed.
func (c *column) value(b []byte, decoder *encoding.Decoder) (v any, sure bool, err error) {
	text := strings.TrimSpace(strings.TrimRight(string(b), "\x00"))
	switch c.kind {
	case 'I':
		if len(b) == 4 {
			return int64(int32(binary.LittleEndian.Uint32(b))), true, nil
		}
	case 'O', 'B':
		if len(b) == 8 {
			return math.Float64frombits(binary.LittleEndian.Uint64(b)), true, nil
		}
	case 'L':
		switch strings.ToUpper(text) {
		case "T", "Y":
			return true, true, nil
		case "F", "N":
			return false, true, nil
		}
		return nil, true, nil
	case 'N', 'F':
		if text == "" || strings.Trim(text, "*") == "" { // stars stand for what was too long
			return nil, true, nil
		}
		if n, err := vector.ParseNumber(text); err == nil && c.decimals == 0 {
			return n, true, nil
		}
		n, err := decimal.Parse(strings.Replace(text, ",", ".", 1))
		if err != nil || math.IsInf(n, 0) {
			return nil, true, fmt.Errorf("%q is not a number", text)
		}
		return n, true, nil
	case 'D':
		if len(text) == 8 && strings.Trim(text, "0") != "" {
			return text[:4] + "-" + text[4:6] + "-" + text[6:], true, nil
		}
		return nil, true, nil
	}
	if text == "" {
		return nil, true, nil
	}
	t, sure := decode([]byte(text), decoder)
	return strings.TrimSpace(t), sure, nil
}

// decode decodes a text; without a decoder it is UTF-8, or what is not is taken for Windows-1252.
func decode(b []byte, decoder *encoding.Decoder) (text string, sure bool) {
	if decoder != nil {
		if t, err := decoder.Bytes(b); err == nil {
			return string(t), true
		}
	}
	if utf8.Valid(b) {
		return string(b), true
	}
	t, _ := charmap.Windows1252.NewDecoder().Bytes(b)
	return string(t), decoder != nil
}

// encodingOf finds the encoding that a .cpg names, or else the language driver of the .dbf. nil when neither states one, and
// for UTF-8.
func encodingOf(cpg string, driver byte) (*encoding.Decoder, error) {
	name := strings.ToUpper(strings.TrimPrefix(cpg, "\ufeff"))
	switch name {
	case "":
		if page, ok := drivers[driver]; ok {
			return page.NewDecoder(), nil
		}
		return nil, nil
	case "UTF-8", "UTF8", "65001", "CP65001":
		return nil, nil
	}
	digits := strings.TrimLeftFunc(name, func(r rune) bool { return r < '0' || r > '9' })
	candidates := []string{name, "windows-" + digits, "IBM" + digits, "ISO-8859-" + strings.TrimPrefix(strings.TrimPrefix(digits, "8859"), "-")}
	for _, c := range candidates {
		if e, err := ianaindex.IANA.Encoding(c); err == nil && e != nil {
			return e.NewDecoder(), nil
		}
	}
	return nil, fmt.Errorf("its .cpg file names the encoding %q, which is not known: convert the table to UTF-8", cpg)
}

// drivers are the language drivers that occur in shapefiles.
var drivers = map[byte]*charmap.Charmap{0x01: charmap.CodePage437, 0x02: charmap.CodePage850, 0x03: charmap.Windows1252, 0x57: charmap.Windows1252,
	0x58: charmap.Windows1252, 0x59: charmap.Windows1252, 0x64: charmap.CodePage852, 0x65: charmap.CodePage866, 0x66: charmap.CodePage865,
	0xc8: charmap.Windows1250, 0xc9: charmap.Windows1251, 0xca: charmap.Windows1254, 0xcb: charmap.Windows1253, 0xcc: charmap.Windows1257}
