// Package nfttest makes large rulesets for benchmarks, as `nft list ruleset`
// prints them, in both its forms.
package nfttest

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// A Shape is a kind of ruleset.
type Shape string

// The shapes: rules as people write them over years, long lists of prefixes, and
// rules made to be hard to hold.
const (
	People   Shape = "people"
	Prefixes Shape = "prefixes"
	Hostile  Shape = "hostile"
)

// Shapes are all of them.
var Shapes = []Shape{People, Prefixes, Hostile}

// Large is a ruleset of n rules in the text form. The same seed gives the same.
func Large(shape Shape, n int, seed uint64) string {
	var b strings.Builder
	b.WriteString("table inet filter {\n")
	for i, c := range chains(shape, n, seed) {
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "\tchain %s {\n", c.name)
		if c.hook != "" {
			fmt.Fprintf(&b, "\t\ttype filter hook %s priority filter; policy drop;\n", c.hook)
		}
		for _, r := range c.rules {
			b.WriteByte('\t')
			for _, p := range r {
				b.WriteString(" " + p.text)
			}
			b.WriteByte('\n')
		}
		b.WriteString("\t}\n")
	}
	b.WriteString("}\n")
	return b.String()
}

// LargeJSON is the same ruleset in the JSON form.
func LargeJSON(shape Shape, n int, seed uint64) string {
	const in = `"family": "inet", "table": "filter"`
	var b strings.Builder
	b.WriteString(`{"nftables": [{"metainfo": {"version": "1.0.6", "release_name": "Lester Gooch #5", "json_schema_version": 1}}, ` +
		`{"table": {"family": "inet", "name": "filter", "handle": 1}}`)
	handle := 1
	all := chains(shape, n, seed)
	for _, c := range all {
		handle++
		fmt.Fprintf(&b, `, {"chain": {%s, "name": "%s", "handle": %d`, in, c.name, handle)
		if c.hook != "" {
			fmt.Fprintf(&b, `, "type": "filter", "hook": "%s", "prio": 0, "policy": "drop"`, c.hook)
		}
		b.WriteString("}}")
	}
	for _, c := range all {
		for _, r := range c.rules {
			handle++
			fmt.Fprintf(&b, `, {"rule": {%s, "chain": "%s", "handle": %d, "expr": [`, in, c.name, handle)
			for i, p := range r {
				if i > 0 {
					b.WriteString(", ")
				}
				b.WriteString(p.json)
			}
			b.WriteString("]}}")
		}
	}
	b.WriteString("]}\n")
	return b.String()
}

type chain struct {
	name, hook string
	rules      [][]piece
}

// piece is a statement in both forms.
type piece struct{ text, json string }

func match(left, leftJSON, op, right, rightJSON string) piece {
	p := piece{left + " " + right, fmt.Sprintf(`{"match": {"op": "==", "left": %s, "right": %s}}`, leftJSON, rightJSON)}
	if op == "!=" {
		return piece{left + " != " + right, strings.Replace(p.json, `"=="`, `"!="`, 1)}
	}
	return p
}

func field(header, name, op, right, rightJSON string) piece {
	return match(header+" "+name, fmt.Sprintf(`{"payload": {"protocol": "%s", "field": "%s"}}`, header, name), op, right, rightJSON)
}

// address is a match on an IPv4 address, or a prefix where bits is less than 32.
func address(name, op string, addr uint32, bits int) piece {
	text := fmt.Sprintf("%d.%d.%d.%d", addr>>24, addr>>16&255, addr>>8&255, addr&255)
	if bits == 32 {
		return field("ip", name, op, text, `"`+text+`"`)
	}
	return field("ip", name, op, fmt.Sprintf("%s/%d", text, bits), fmt.Sprintf(`{"prefix": {"addr": "%s", "len": %d}}`, text, bits))
}

func port(name string, n int) piece {
	return field("tcp", name, "", fmt.Sprint(n), fmt.Sprint(n))
}

func ports(name string, lo, hi int) piece {
	return field("tcp", name, "", fmt.Sprintf("%d-%d", lo, hi), fmt.Sprintf(`{"range": [%d, %d]}`, lo, hi))
}

func states(names ...string) piece {
	p := match("ct state", `{"ct": {"key": "state"}}`, "", strings.Join(names, ","), `["`+strings.Join(names, `", "`)+`"]`)
	p.json = strings.Replace(p.json, "==", "in", 1)
	return p
}

func iface(key, name string) piece {
	return match(key, fmt.Sprintf(`{"meta": {"key": "%s"}}`, key), "", `"`+name+`"`, `"`+name+`"`)
}

func verdict(name string) piece { return piece{name, `{"` + name + `": null}`} }

var counter = piece{"counter packets 0 bytes 0", `{"counter": {"packets": 0, "bytes": 0}}`}

func chains(shape Shape, n int, seed uint64) []chain {
	rng := rand.New(rand.NewPCG(seed, uint64(n)))
	input := chain{name: "input", hook: "input"}
	add := func(c *chain, pieces ...piece) { c.rules = append(c.rules, pieces) }
	switch shape {
	case People:
		return people(rng, n)
	case Prefixes:
		add(&input, states("established", "related"), verdict("accept"))
		add(&input, iface("iif", "lo"), verdict("accept"))
		for i := 2; i < n; i++ {
			add(&input, address("saddr", "", uint32(1+rng.IntN(220))<<24|rng.Uint32()>>16<<8, 24),
				verdict([]string{"drop", "drop", "accept"}[rng.IntN(3)]))
		}
	case Hostile:
		for range n {
			bits := 1 + rng.IntN(24)
			low := rng.IntN(60000)
			add(&input, address([]string{"saddr", "daddr"}[rng.IntN(2)], []string{"", "!="}[rng.IntN(2)],
				rng.Uint32()>>(32-bits)<<(32-bits), bits),
				ports([]string{"sport", "dport"}[rng.IntN(2)], low, low+rng.IntN(5000)), verdict([]string{"accept", "drop"}[rng.IntN(2)]))
		}
	}
	return []chain{input}
}

// people writes chains of a hundred rules each, one for each service, that the
// base chain jumps to.
func people(rng *rand.Rand, n int) (all []chain) {
	const perChain = 100
	services := max(1, n/perChain)
	for i := range services {
		c := chain{name: fmt.Sprintf("service%d", i)}
		for range perChain - 1 {
			addr, bits := uint32(10)<<24|uint32(rng.IntN(64))<<16|uint32(rng.IntN(256))<<8, 24
			if rng.IntN(3) > 0 {
				addr, bits = addr+uint32(rng.IntN(254))+1, 32
			}
			rule := []piece{address("saddr", "", addr, bits)}
			switch rng.IntN(4) {
			case 0:
				a, b := 1000+rng.IntN(200)*10, 8000+rng.IntN(100)
				rule = append(rule, field("tcp", "dport", "", fmt.Sprintf("{ %d, %d }", a, b), fmt.Sprintf(`{"set": [%d, %d]}`, a, b)))
			case 1:
				rule = append(rule, iface("iifname", fmt.Sprintf("eth%d", rng.IntN(3))))
			default:
				rule = append(rule, port("dport", 1000+rng.IntN(200)*10), counter)
			}
			switch rng.IntN(5) {
			case 0:
				rule = append(rule, verdict("drop"))
			case 1:
				rule = append(rule, piece{`log prefix "refused: "`, `{"log": {"prefix": "refused: "}}`}, verdict("drop"))
			default:
				rule = append(rule, verdict("accept"))
			}
			c.rules = append(c.rules, rule)
		}
		all = append(all, c)
	}
	input := chain{name: "input", hook: "input", rules: [][]piece{
		{states("established", "related"), verdict("accept")}, {states("invalid"), verdict("drop")},
		{iface("iif", "lo"), verdict("accept")}}}
	for i := range services {
		input.rules = append(input.rules, []piece{ports("dport", 1000+i*10, 1500+i*10),
			{fmt.Sprintf("jump service%d", i), fmt.Sprintf(`{"jump": {"target": "service%d"}}`, i)}})
	}
	return append(all, input)
}
