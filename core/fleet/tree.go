package fleet

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"

	"yellowfence.example/yfence/core/source"
)

// A tree is a document with the place of everything in it. Readers of each
// format make one, and one decoder reads it.
type tree struct {
	pos    source.Pos
	width  int
	kind   string // object, list, text, number, boolean or null, as a message says it
	text   string // of a text or number
	yes    bool   // of a boolean
	items  []tree
	fields []field
}

// field is a key of an object and what stands behind it.
type field struct {
	key   string
	pos   source.Pos
	width int
	value tree
}

// jsonTree reads JSON text. The problem, if any, is the one that ends it.
func jsonTree(file string, data []byte, each func(tree)) (tree, []source.Problem) {
	r := &jsonReader{file: file, data: data, dec: json.NewDecoder(bytes.NewReader(data)), line: 1, column: 1, each: each}
	r.dec.UseNumber()
	t, err := r.value(1, false)
	if err == nil {
		var extra json.Token
		if extra, err = r.dec.Token(); err == nil {
			err = fmt.Errorf("%v stands after the end of the document", extra)
		} else if errors.Is(err, io.EOF) {
			return t, nil
		}
	}
	if errors.Is(err, errTooDeep) {
		return tree{}, []source.Problem{source.Errorf(r.pos(int(r.dec.InputOffset())), 1, "fleet-syntax", "%s", tooDeep)}
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
	return tree{}, []source.Problem{source.Errorf(r.pos(offset), 1, "fleet-syntax", "this is not JSON: %s", message)}
}

// errTooDeep ends the reading of a file before the stack does.
var errTooDeep = errors.New("too deep")

// jsonReader reads JSON into trees with their places. Hosts are handed on one by one, so that a
// large fleet is never a tree as a whole.
type jsonReader struct {
	file string
	data []byte
	dec  *json.Decoder
	each func(tree) // takes the hosts

	// the place that was asked for last: those that are asked for come one after the other
	offset, line, column int
}

// pos is the place of an offset, which is not before the last that was asked for.
func (r *jsonReader) pos(offset int) source.Pos {
	passed := r.data[r.offset:max(min(offset, len(r.data)), r.offset)]
	if n := bytes.Count(passed, []byte("\n")); n > 0 {
		r.line += n
		r.column = 1
		passed = passed[bytes.LastIndexByte(passed, '\n')+1:]
	}
	r.column += utf8.RuneCount(passed)
	r.offset = max(min(offset, len(r.data)), r.offset)
	return source.Pos{File: r.file, Line: r.line, Column: r.column}
}

// token reads a token and where it begins.
func (r *jsonReader) token() (json.Token, source.Pos, int, error) {
	start := int(r.dec.InputOffset())
	for start < len(r.data) && bytes.IndexByte([]byte(" \t\r\n,:"), r.data[start]) >= 0 {
		start++
	}
	tok, err := r.dec.Token()
	return tok, r.pos(start), int(r.dec.InputOffset()) - start, err
}

// value reads what comes next. hosts says that it is the list of hosts, whose items are
// handed over.
func (r *jsonReader) value(depth int, hosts bool) (tree, error) {
	tok, pos, width, err := r.token()
	t := tree{pos: pos, width: width}
	if err != nil {
		return t, err
	}
	switch v := tok.(type) {
	case json.Delim:
		if depth > maxDepth {
			return t, errTooDeep
		}
		t.width = 1
		if v == '[' {
			t.kind = "list"
		} else {
			t.kind = "object"
		}
		for r.dec.More() {
			if v == '[' {
				item, err := r.value(depth+1, false)
				if err != nil {
					return t, err
				}
				if hosts {
					r.each(item)
					continue
				}
				t.items = append(t.items, item)
				continue
			}
			key, pos, width, err := r.token()
			if err != nil {
				return t, err
			}
			name, ok := key.(string)
			if !ok {
				return t, fmt.Errorf("%v is no key", key)
			}
			value, err := r.value(depth+1, depth == 1 && name == "hosts")
			if err != nil {
				return t, err
			}
			t.fields = append(t.fields, field{name, pos, width, value})
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
