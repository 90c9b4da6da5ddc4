package fleet

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"yellowfence.example/yfence/core/source"
)

// Format is how a fleet file is written.
type Format string

// The formats. YAML has the shape of the JSON; CSV is for the simple case, one
// address a line.
const (
	JSON Format = "json"
	YAML Format = "yaml"
	CSV  Format = "csv"
)

// FormatOf tells a fleet file's format by its name, and where the name says
// nothing by how it begins.
func FormatOf(file string, data []byte) Format {
	switch path.Ext(file) {
	case ".json":
		return JSON
	case ".yaml", ".yml":
		return YAML
	case ".csv":
		return CSV
	}
	switch text := bytes.TrimSpace(data); {
	case bytes.HasPrefix(text, []byte("{")) || len(text) == 0:
		return JSON
	case bytes.HasPrefix(text, []byte(csvHead[0]+",")):
		return CSV
	}
	return YAML
}

// Bounds of a fleet file, whatever its format.
const (
	MaxFile  = 64 << 20 // bytes
	MaxHosts = 200_000

	maxDepth    = 32   // of lists and objects in one another
	maxProblems = 1000 // that are told of one file
)

// tooDeep is what is said of a file that nests deeper than a fleet file can.
var tooDeep = fmt.Sprintf("lists and objects stand in one another more than %d deep, which nothing in a fleet file does", maxDepth)

// tooLarge is the problem of a file that is beyond a bound, and why that is one.
func tooLarge(file, why string) *source.Problem {
	p := source.Errorf(source.Pos{File: file, Line: 1, Column: 1}, 1, "fleet-size", "the fleet file is too large to be read").Hinted("%s",
		why)
	return &p
}

// Read reads a fleet file in any format, in time and memory that are linear in its length.
// It always gives a fleet, of what it could understand, and every problem of the file.
func Read(file string, data []byte) (*Fleet, []source.Problem) {
	switch FormatOf(file, data) {
	case YAML:
		return decode(file, data, yamlTree)
	case CSV:
		return decode(file, data, csvTree)
	}
	return ReadJSON(file, data)
}

// csvHead are the columns of a CSV fleet file.
var csvHead = []string{"host", "roles", "dialect", "interface", "address"}

// csvTree reads one address a line; roles are separated by blanks. Lines of one
// host agree in its roles and dialect. Hosts are handed to each at the end.
func csvTree(file string, data []byte, each func(tree)) (doc tree, problems []source.Problem) {
	r := csv.NewReader(bytes.NewReader(data))
	r.FieldsPerRecord = len(csvHead)
	r.TrimLeadingSpace = true
	r.ReuseRecord = true
	var hosts []tree
	byName := map[string]int{}
	interfaces := map[[2]string]int{} // by host and name
	for first := true; len(problems) < maxProblems; first = false {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		var syntax *csv.ParseError
		if errors.As(err, &syntax) {
			problems = append(problems, source.Errorf(source.Pos{File: file, Line: syntax.Line, Column: max(syntax.Column, 1)}, 1,
				"fleet-syntax", "this is not CSV of %d columns: %v", len(csvHead), syntax.Err).
				Hinted("each line is %s", strings.Join(csvHead, ",")))
			continue
		}
		at := func(i int, kind, text string) tree {
			line, column := r.FieldPos(i)
			return tree{pos: source.Pos{File: file, Line: line, Column: column}, width: utf8.RuneCountInString(text), kind: kind,
				text: text}
		}
		if first {
			if strings.Join(record, ",") != strings.Join(csvHead, ",") {
				problems = append(problems, source.Errorf(at(0, "", "").pos, 1, "fleet-syntax",
					"the first line is not the head of the columns").Hinted("write: %s", strings.Join(csvHead, ",")))
			}
			continue
		}
		i, known := byName[record[0]]
		if !known {
			i = len(hosts)
			byName[record[0]] = i
			hosts = append(hosts, csvHost(at, record))
		}
		csvAddress(at, record, &hosts[i], interfaces)
		if known {
			for _, column := range []int{1, 2} {
				if before := hosts[i].fields[column].value.text; before != record[column] {
					problems = append(problems, source.Errorf(at(column, "", "").pos, max(len(record[column]), 1), "fleet-twice",
						"%s of %s was %q on an earlier line", csvHead[column], record[0], before).
						Hinted("write the same on every line of a host"))
				}
			}
		}
	}
	for i, h := range hosts {
		each(h)
		hosts[i] = tree{}
	}
	top := source.Pos{File: file, Line: 1, Column: 1}
	return tree{kind: "object", pos: top, width: 1,
		fields: []field{{key: "hosts", pos: top, value: tree{kind: "list", pos: top, width: 1}}}}, problems
}

// csvHost is a host as the JSON would have it, without interfaces yet.
func csvHost(at func(int, string, string) tree, record []string) tree {
	host := at(0, "object", record[0])
	roles := at(1, "list", record[1])
	for _, role := range strings.Fields(record[1]) {
		roles.items = append(roles.items, at(1, "text", role))
	}
	add := func(key string, value tree) {
		host.fields = append(host.fields, field{key: key, pos: value.pos, width: value.width, value: value})
	}
	add("name", at(0, "text", record[0]))
	add("roles", roles)
	add("dialect", at(2, "text", record[2]))
	add("interfaces", at(3, "list", ""))
	host.fields[1].value.text = record[1] // what later lines are held against
	return host
}

// csvAddress adds a line's address to the host's interface.
func csvAddress(at func(int, string, string) tree, record []string, host *tree, known map[[2]string]int) {
	interfaces := &host.fields[3].value
	key := [2]string{record[0], record[3]}
	if i, is := known[key]; is {
		list := &interfaces.items[i].fields[1].value
		list.items = append(list.items, at(4, "text", record[4]))
		return
	}
	known[key] = len(interfaces.items)
	name, list := at(3, "text", record[3]), at(4, "list", "")
	if record[4] != "" {
		list.items = []tree{at(4, "text", record[4])}
	}
	iface := at(3, "object", record[3])
	iface.fields = []field{{key: "name", pos: name.pos, value: name}, {key: "addresses", pos: list.pos, value: list}}
	interfaces.items = append(interfaces.items, iface)
}

// Write gives a fleet as a file of a format. CSV cannot say everything; what it
// cannot say is an error that names it.
func Write(fl *Fleet, format Format) ([]byte, error) {
	switch format {
	case CSV:
		return writeCSV(fl)
	case YAML:
		data, err := json.Marshal(fl)
		if err != nil {
			return nil, err
		}
		return yaml.JSONToYAML(data)
	}
	data, err := json.MarshalIndent(fl, "", "  ")
	return append(data, '\n'), err
}

// writeCSV gives a fleet as a table of one interface a line, or says what of it a table cannot
// say.
func writeCSV(fl *Fleet) ([]byte, error) {
	if len(fl.Service.Addresses) > 0 {
		return nil, errors.New("CSV cannot say where the service is; write JSON or YAML")
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	rows := [][]string{csvHead}
	for _, h := range fl.Hosts {
		if h.OwnConsole || len(h.SeenAs) > 0 || len(h.Floating) > 0 || h.Instance != nil || len(h.Knowingly) > 0 {
			return nil, fmt.Errorf("CSV cannot say all of %s (own_console, seen_as, floating, instance); write JSON or YAML", h.Name)
		}
		for _, i := range h.Interfaces {
			if i.Segment != "" || i.Dynamic {
				return nil, fmt.Errorf("CSV cannot say all of %s's %s (segment, dynamic); write JSON or YAML", h.Name, i.Name)
			}
			addresses := i.Addresses
			if len(addresses) == 0 {
				addresses = []netip.Prefix{{}}
			}
			for _, a := range addresses {
				text := ""
				if a.IsValid() {
					text = a.String()
				}
				rows = append(rows, []string{h.Name, strings.Join(h.Roles, " "), h.Dialect, i.Name, text})
			}
		}
	}
	err := w.WriteAll(rows)
	return b.Bytes(), err
}
