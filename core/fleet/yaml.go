package fleet

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"yellowfence.example/yfence/core/source"
)

// Bounds on YAML. Its reader takes many times a text's size in memory, so that a large file is
// read a part at a time, by the lines that hosts begin at.
const (
	yamlLine  = 16 << 10 // bytes that a line of YAML may have
	yamlWhole = 1 << 20  // bytes of YAML that are read in one go
	yamlPart  = 64 << 10 // bytes of hosts that are read in one go
)

// yamlTree reads YAML text; anchors and tags are not for fleet files. Hosts are handed to
// each as they are read. The library takes memory and time beyond measure for some texts, so
// it is handed no deep ones, and hosts a few at a time.
func yamlTree(file string, data []byte, each func(tree)) (t tree, problems []source.Problem) {
	t, problem := yamlDocument(file, data, each)
	if problem != nil {
		return tree{}, []source.Problem{*problem}
	}
	return t, nil
}

// yamlDocument reads a fleet file of YAML and hands its hosts on one by one, as jsonReader
// does. A large one must list its hosts as a block, so that it can be cut between them.
func yamlDocument(file string, data []byte, each func(tree)) (t tree, problem *source.Problem) {
	if problem := yamlBounds(file, data); problem != nil {
		return t, problem
	}
	head, hosts, tail, ok := yamlHosts(data)
	if !ok {
		if len(data) > yamlWhole {
			return t, tooLarge(file, fmt.Sprintf("a YAML fleet file of over %d MiB is laid out as a block: the key hosts: at the "+
				"beginning of a line, and below it a line that begins with - for each host", yamlWhole>>20))
		}
		return yamlPartOf(file, data, 0)
	}
	padding := []byte("\n")
	if len(bytes.TrimSpace(data[tail:])) > 0 { // what stands there stays in its lines
		padding = bytes.Repeat(padding, max(bytes.Count(data[head:tail], padding), 1))
	}
	rest := slices.Concat(data[:head], []byte("hosts: []"), padding, data[tail:])
	if head+len(data)-tail > yamlWhole {
		return t, tooLarge(file, fmt.Sprintf("besides its hosts it may have up to %d MiB", yamlWhole>>20))
	}
	if t, problem = yamlPartOf(file, rest, 0); problem != nil {
		return t, problem
	}
	for from := 0; from < len(hosts); {
		to := from + 1
		for to < len(hosts) && hosts[to].offset-hosts[from].offset < yamlPart {
			to++
		}
		end := tail
		if to < len(hosts) {
			end = hosts[to].offset
		}
		list, problem := yamlPartOf(file, data[hosts[from].offset:end], hosts[from].line)
		if problem != nil {
			return t, problem
		}
		for _, item := range list.items {
			each(item)
		}
		from = to
	}
	return t, nil
}

// yamlItem is where an item of the list of hosts begins.
type yamlItem struct{ offset, line int }

// yamlHosts finds where the list of hosts stands in a document of the usual layout: its key
// at head, its items, and what comes after at tail.
func yamlHosts(data []byte) (head int, items []yamlItem, tail int, ok bool) {
	indent, line := -1, 0
	head, tail = -1, len(data)
	for offset := 0; offset < len(data); line++ {
		end := bytes.IndexByte(data[offset:], '\n') + 1
		if end == 0 {
			end = len(data) - offset
		}
		text := string(bytes.TrimRight(data[offset:offset+end], " \t\r\n"))
		content := strings.TrimLeft(text, " ")
		spaces := len(text) - len(content)
		isItem := content == "-" || strings.HasPrefix(content, "- ")
		switch {
		case head < 0:
			if key, _, _ := strings.Cut(text, " #"); strings.TrimRight(key, " ") == "hosts:" {
				head = offset
			}
		case content == "" || strings.HasPrefix(content, "#"):
		case indent < 0 && isItem:
			indent = spaces
			items = append(items, yamlItem{offset, line})
		case indent < 0 || spaces < indent || spaces == indent && !isItem:
			return head, items, offset, head >= 0 && indent >= 0
		case spaces == indent:
			items = append(items, yamlItem{offset, line})
		}
		offset += end
	}
	return head, items, tail, head >= 0 && indent >= 0
}

// yamlBounds refuses what is nested too deeply, and lines that nobody writes.
func yamlBounds(file string, data []byte) *source.Problem {
	refuse := func(line int, what string) *source.Problem {
		p := source.Errorf(source.Pos{File: file, Line: line, Column: 1}, 1, "fleet-syntax", "%s", what)
		return &p
	}
	var indents []int
	var quote byte
	flow, number := 0, 0
	for line := range bytes.Lines(data) {
		number++
		if len(line) > yamlLine {
			return refuse(number, fmt.Sprintf("a line of a YAML fleet file has at most %d bytes, this one %d", yamlLine, len(line)))
		}
		content := bytes.TrimLeft(line, " ")
		if quote == 0 && flow == 0 && len(bytes.TrimSpace(content)) > 0 && content[0] != '#' {
			spaces := len(line) - len(content)
			for len(indents) > 0 && indents[len(indents)-1] >= spaces {
				indents = indents[:len(indents)-1]
			}
			indents = append(indents, spaces)
			for len(content) > 1 && content[0] == '-' && content[1] == ' ' {
				rest := bytes.TrimLeft(content[1:], " ")
				spaces += len(content) - len(rest)
				indents, content = append(indents, spaces), rest
			}
		}
		// before is the last character that counts, blank whether a blank stands behind it.
		before, blank := byte(','), true
		for i := 0; i < len(content); i++ {
			c := content[i]
			switch {
			case quote != 0:
				if c == '\\' && quote == '"' {
					i++
				} else if c == quote {
					quote, before, blank = 0, c, false
				}
				continue
			case c == ' ' || c == '\t' || c == '\n' || c == '\r':
				blank = true
				continue
			case c == '#' && blank:
				i = len(content)
				continue
			case (c == '"' || c == '\'') && (bytes.IndexByte([]byte("[{,"), before) >= 0 || blank && (before == ':' || before == '-')):
				quote = c
			case c == '[' || c == '{':
				flow++
			case (c == ']' || c == '}') && flow > 0:
				flow--
			}
			before, blank = c, false
		}
		if len(indents)+flow > maxDepth {
			return refuse(number, tooDeep)
		}
	}
	return nil
}

// yamlPartOf reads a text whose first line has so many lines before it.
func yamlPartOf(file string, data []byte, lines int) (t tree, problem *source.Problem) {
	defer func() { // the library's parser is not proof against every text
		if r := recover(); r != nil {
			p := source.Errorf(source.Pos{File: file, Line: lines + 1, Column: 1}, 1, "fleet-syntax", "this is not YAML that can be read")
			problem = &p
		}
	}()
	doc, err := parser.ParseBytes(data, 0)
	if err != nil {
		pos := source.Pos{File: file, Line: lines + 1, Column: 1}
		message := err.Error()
		var syntax *yaml.SyntaxError
		if errors.As(err, &syntax) && syntax.Token != nil {
			pos.Line, pos.Column, message = lines+syntax.Token.Position.Line, syntax.Token.Position.Column, syntax.Message
		}
		p := source.Errorf(pos, 1, "fleet-syntax", "this is not YAML: %s", message)
		return t, &p
	}
	if len(doc.Docs) != 1 || doc.Docs[0].Body == nil {
		p := source.Errorf(source.Pos{File: file, Line: lines + 1, Column: 1}, 1, "fleet-syntax",
			"a fleet file holds one YAML document, this one %d", len(doc.Docs))
		return t, &p
	}
	return yamlReader{file, lines}.node(doc.Docs[0].Body), nil
}

// yamlReader makes a tree of what the library gives.
type yamlReader struct {
	file  string
	lines int // before the text
}

// node is a node of the library's tree as a tree of ours, with the place where it begins.
func (r yamlReader) node(n ast.Node) tree {
	token := n.GetToken()
	t := tree{pos: source.Pos{File: r.file, Line: r.lines + token.Position.Line, Column: token.Position.Column},
		width: len([]rune(token.Value)), kind: "thing we have no use for"}
	switch v := n.(type) {
	case *ast.MappingNode:
		t.kind, t.width = "object", 1
		for _, pair := range v.Values {
			t.fields = append(t.fields, r.field(pair))
		}
		if len(t.fields) > 0 { // it begins with its first key, not with the colon behind it
			t.pos = t.fields[0].pos
		}
	case *ast.MappingValueNode:
		t.kind, t.width, t.fields = "object", 1, []field{r.field(v)}
		t.pos = t.fields[0].pos
	case *ast.SequenceNode:
		t.kind, t.width = "list", 1
		for _, item := range v.Values {
			t.items = append(t.items, r.node(item))
		}
	case *ast.StringNode:
		t.kind, t.text = "text", v.Value
	case *ast.IntegerNode:
		t.kind, t.text = "number", token.Value
	case *ast.BoolNode:
		t.kind, t.yes = "boolean", v.Value
	case *ast.NullNode:
		t.kind = "null"
	case *ast.FloatNode, *ast.LiteralNode:
		t.kind, t.text = "text", token.Value // such as an address without quotes
	}
	return t
}

// field is a pair of a mapping.
func (r yamlReader) field(pair *ast.MappingValueNode) field {
	token := pair.Key.GetToken()
	return field{key: token.Value, pos: source.Pos{File: r.file, Line: r.lines + token.Position.Line, Column: token.Position.Column},
		width: len([]rune(token.Value)), value: r.node(pair.Value)}
}
