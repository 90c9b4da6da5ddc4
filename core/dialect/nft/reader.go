package nft

import (
	"bytes"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// A Reader reads the dumps of many hosts into one Space. A table that it has
// read before, of whichever host, it does not read again: it knows tables by
// their text without handles and counts. So it does not place rules, and says
// nothing of what is wrong with a dump: whoever wants to know reads it alone.
type Reader struct {
	sp      *packet.Space
	tables  map[string]*kernel.Ruleset
	scratch []byte
}

// Quick is a Reader.
func (Form) Quick(sp *packet.Space) dialect.QuickReader { return NewReader(sp) }

// NewReader makes a Reader for a Space, which no dump may narrow.
func NewReader(sp *packet.Space) *Reader {
	return &Reader{sp: sp, tables: map[string]*kernel.Ruleset{}}
}

// Read gives the tables of a dump in either form, which together are its rules.
// Two tables of one text are the same Ruleset. ok is false for what it cannot
// take apart.
func (r *Reader) Read(data []byte, names *kernel.Names) (tables []*kernel.Ruleset, ok bool) {
	parts, ok := textTables(data)
	isText := ok
	if !ok {
		parts, ok = jsonTables(data)
	}
	if !ok {
		return nil, false
	}
	said := names.AppendTo(nil)
	for _, part := range parts {
		r.scratch = append(r.scratch[:0], said...)
		for _, piece := range part {
			r.scratch = appendBare(r.scratch, piece, isText)
		}
		t := r.tables[string(r.scratch)]
		if t == nil {
			var err error
			if whole := bytes.Join(part, []byte(",")); isText {
				t, err = ReadText(r.sp, "", whole, names)
			} else {
				t, err = ReadJSON(r.sp, append(append([]byte(`{"nftables":[`), whole...), "]}"...), names)
			}
			if err != nil {
				return nil, false
			}
			r.tables[string(r.scratch)] = t
		}
		tables = append(tables, t)
	}
	return tables, true
}

// textTables takes a listing in the text form apart.
func textTables(data []byte) (tables [][][]byte, ok bool) {
	for rest := data; ; {
		rest = bytes.TrimLeft(rest, " \t\r\n")
		if len(rest) == 0 {
			return tables, tables != nil
		}
		end := bytes.Index(rest, []byte("\n}"))
		if !bytes.HasPrefix(rest, []byte("table ")) || end < 0 {
			return nil, false
		}
		tables = append(tables, [][]byte{rest[:end+2]})
		rest = rest[end+2:]
	}
}

// jsonTables takes a listing in the JSON form apart: the objects of each table.
func jsonTables(data []byte) (tables [][][]byte, ok bool) {
	objects, ok := split(data)
	if !ok {
		return nil, false
	}
	number := map[string]int{}
	for _, o := range objects {
		if bytes.HasPrefix(o, []byte(`{"metainfo"`)) {
			continue
		}
		name := "table"
		if bytes.HasPrefix(o, []byte(`{"table"`)) {
			name = "name"
		}
		at := string(stringField(o, "family")) + " " + string(stringField(o, name))
		n, known := number[at]
		if !known {
			n = len(tables)
			number[at] = n
			tables = append(tables, nil)
		}
		tables[n] = append(tables[n], o)
	}
	return tables, true
}

// stringField is the first field of that name in an object's text.
func stringField(object []byte, name string) []byte {
	_, rest, _ := bytes.Cut(object, []byte(`"`+name+`": "`))
	value, _, _ := bytes.Cut(rest, []byte(`"`))
	return value
}

// appendBare is a piece of a listing without its handles and counts.
func appendBare(to, piece []byte, isText bool) []byte {
	if !isText {
		for _, name := range []string{`"handle": `, `"packets": `, `"bytes": `} {
			// A quote inside a string is written \", so the name is a name.
			for at := bytes.Index(piece, []byte(name)); at >= 0; at = bytes.Index(piece, []byte(name)) {
				to = append(to, piece[:at+len(name)]...)
				if piece = trimNumber(piece[at+len(name):]); name == `"handle": ` {
					break // the object's own; it has no other
				}
			}
		}
		return append(to, piece...)
	}
	counts := bytes.Contains(piece, []byte("counter packets "))
	for len(piece) > 0 {
		line, rest, _ := bytes.Cut(piece, []byte("\n"))
		piece = rest
		if short, found := bytes.CutSuffix(bytes.TrimRight(line, digits), []byte(" # handle ")); found {
			line = short
		}
		for counts {
			before, behind, found := bytes.Cut(line, []byte("counter packets "))
			if !found || bytes.IndexByte(before, '"') >= 0 {
				break
			}
			to = append(append(to, before...), "counter"...)
			behind = trimNumber(behind)
			if line, found = bytes.CutPrefix(behind, []byte(" bytes ")); found {
				line = trimNumber(line)
			}
		}
		to = append(append(to, line...), '\n')
	}
	return to
}

// digits are those of decimal numbers.
const digits = "0123456789"

// trimNumber takes the digits off that a text begins with.
func trimNumber(text []byte) []byte { return bytes.TrimLeft(text, digits) }
