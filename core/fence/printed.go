package fence

import (
	"fmt"
	"strings"
)

// addresses are addresses as they were written.
func addresses(a Addresses) string {
	return listed(a.Items, a.Except, func(item AddrItem) string { return item.Text })
}

// listed is what is meant, with what of it is not.
func listed[T any](items, except []T, text func(T) string) string {
	texts := func(items []T) string {
		out := make([]string, len(items))
		for i, item := range items {
			out[i] = text(item)
		}
		return strings.Join(out, ", ")
	}
	s := texts(items)
	if except != nil {
		s += " except " + texts(except)
	}
	return s
}

// services are services as they were written.
func services(terms []ServiceTerm) string {
	out := make([]string, len(terms))
	for i, t := range terms {
		out[i] = t.Text
	}
	return strings.Join(out, ", ")
}

// String is peers as a policy writes them.
func (p Peers) String() string {
	return listed(p.Items, p.Except, func(item Peer) string { return item.Text })
}

// quote is a text as the scanner takes it for the same.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// said is a word if it is so, else nothing.
func said(word string, yes bool) string {
	if yes {
		return word
	}
	return ""
}

// quotedAfter is a quoted text with a word before it, nothing for no text.
func quotedAfter(word, text string) string {
	if text == "" {
		return ""
	}
	return word + quote(text)
}

// rateText is a rate as a policy writes it: "30 per 1m".
func rateText(r Rate) string { return fmt.Sprintf("%d per %s", r.N, r.Per.Text) }

// printLog is a log with its limit.
func printLog(word string, l *Log) string {
	switch {
	case l == nil:
		return ""
	case l.UpTo == nil:
		return word
	}
	return word + " up to " + rateText(*l.UpTo)
}

// printAtMost is the limit of an allow.
func printAtMost(m *modified) string {
	a := m.rule.AtMost
	if a == nil {
		return ""
	}
	return "at most " + rateText(a.Rate) + said(" per source", a.PerSource)
}

// printOver are the blocks that an allow is an exception to.
func printOver(m *modified) string { return named("over ", m.rule.Over) }

// by is who may change something, as it stands behind that; nothing if nobody is named.
func by(people []Label) string {
	if people == nil {
		return ""
	}
	return " by " + words(people)
}

// via is interfaces as they are named behind a statement; nothing if it names none.
func via(interfaces []Label) string {
	if interfaces == nil {
		return ""
	}
	return " via " + words(interfaces)
}

// through are the roles of routers.
func through(roles []Ident) string { return named("through ", roles) }

// named is a word with a list of names behind it, if there are any.
func named(word string, list []Ident) string {
	names := make([]string, len(list))
	for i, o := range list {
		names[i] = o.Name
	}
	if len(names) == 0 {
		return ""
	}
	return word + strings.Join(names, ", ")
}

// printBy is how a block refuses.
func printBy(m *modified) string {
	if m.rule.By == nil {
		return ""
	}
	return "by " + m.rule.By.Word
}

// words are names in a list, quoted where they need to be.
func words(labels []Label) string {
	names := make([]string, len(labels))
	for i, l := range labels {
		names[i] = wordText(l.Text)
	}
	return strings.Join(names, ", ")
}

// printSenders are who sends, one kind after the other.
func printSenders(m *modified) string {
	var parts []string
	for _, s := range m.rule.Senders {
		labels := make([]Label, len(s.Names))
		for i, n := range s.Names {
			labels[i].Text = n
		}
		parts = append(parts, "from "+string(s.Kind)+" "+words(labels))
	}
	return strings.Join(parts, "  ")
}

// printKnowingly are the warnings that are accepted in place.
func printKnowingly(m *modified) string { return strings.Join(acceptances(m.common.Knowingly), "  ") }

// acceptances are such, one text each.
func acceptances(list []Knowingly) (parts []string) {
	for _, k := range list {
		parts = append(parts, "knowingly "+k.Code+" "+quote(k.Why))
	}
	return parts
}
