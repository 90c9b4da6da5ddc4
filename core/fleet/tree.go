package fleet

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"

	"yellowfence.example/yfence/core/fence"
)

// A tree is a document with the place of everything in it. Readers of each
// format make one, and one decoder reads it.
type tree struct {
	pos    fence.Pos
	width  int
	kind   string // object, list, text, number, boolean or null, as a message says it
	text   string // of a text or number
	yes    bool   // of a boolean
	items  []tree
	fields []field
}

type field struct {
	key   string
	pos   fence.Pos
	width int
	value tree
}

// jsonTree reads JSON text. The problem, if any, is the one that ends it.
func jsonTree(file string, data []byte) (tree, *fence.Problem) {
	r := &jsonReader{file: file, data: data, dec: json.NewDecoder(bytes.NewReader(data))}
	r.dec.UseNumber()
	for i, c := range data {
		if c == '\n' {
			r.lines = append(r.lines, i+1)
		}
	}
	t, err := r.value()
	if err == nil {
		var extra json.Token
		if extra, err = r.dec.Token(); err == nil {
			err = fmt.Errorf("%v stands after the end of the document", extra)
		} else if errors.Is(err, io.EOF) {
			return t, nil
		}
	}
	offset := int(r.dec.InputOffset())
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		offset = max(offset, int(syntax.Offset)-1)
	}
	message := err.Error()
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		offset, message = len(data), "the document ends in the middle"
	}
	p := fence.Errorf(r.pos(offset), 1, "fleet-syntax", "this is not JSON: %s", message)
	return t, &p
}

type jsonReader struct {
	file  string
	data  []byte
	dec   *json.Decoder
	lines []int // offsets at which lines 2, 3, … begin
}

func (r *jsonReader) pos(offset int) fence.Pos {
	line := sort.SearchInts(r.lines, offset+1)
	start := 0
	if line > 0 {
		start = r.lines[line-1]
	}
	column := len([]rune(string(r.data[start:min(offset, len(r.data))]))) + 1
	return fence.Pos{File: r.file, Line: line + 1, Column: column}
}

// token reads a token and where it begins.
func (r *jsonReader) token() (json.Token, fence.Pos, int, error) {
	start := int(r.dec.InputOffset())
	for start < len(r.data) && bytes.IndexByte([]byte(" \t\r\n,:"), r.data[start]) >= 0 {
		start++
	}
	tok, err := r.dec.Token()
	return tok, r.pos(start), int(r.dec.InputOffset()) - start, err
}

func (r *jsonReader) value() (tree, error) {
	tok, pos, width, err := r.token()
	t := tree{pos: pos, width: width}
	if err != nil {
		return t, err
	}
	switch v := tok.(type) {
	case json.Delim:
		t.width = 1
		if v == '[' {
			t.kind = "list"
		} else {
			t.kind = "object"
		}
		for r.dec.More() {
			if v == '[' {
				item, err := r.value()
				if err != nil {
					return t, err
				}
				t.items = append(t.items, item)
				continue
			}
			key, pos, width, err := r.token()
			if err != nil {
				return t, err
			}
			value, err := r.value()
			if err != nil {
				return t, err
			}
			t.fields = append(t.fields, field{key.(string), pos, width, value})
		}
		_, err := r.dec.Token()
		return t, err
	case string:
		t.kind, t.text = "text", v
	case json.Number:
		t.kind, t.text = "number", v.String()
	case bool:
		t.kind, t.yes = "boolean", v
	default:
		t.kind = "null"
	}
	return t, nil
}
