package host

import (
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/api"
)

// NoInterface is rules that ask for interfaces which this host does not have: what they
// admit over those passes nowhere.
type NoInterface struct{ Names []string }

// Error says which interfaces rules ask for that the host does not have.
func (e *NoInterface) Error() string {
	verb := "is no such interface"
	if len(e.Names) > 1 {
		verb = "are no such interfaces"
	}
	return fmt.Sprintf("the rules ask for %s, and there %s here: mend the fleet file, or say --force", strings.Join(e.Names, ", "), verb)
}

// asked are the names of interfaces that rules ask for, in the forms that our dialects write.
var asked = regexp.MustCompile(`[io]ifname (?:!= )?(?:"([^"]+)"|\{([^}]*)\})|(?:^| )-[io] ([^ ]+)`)

// interfacesIn are the interfaces that rules ask for. What is left to others is not asked for,
// nor what a name that stands for several might be.
func interfacesIn(files []api.File) (names []string) {
	for _, f := range files {
		for line := range strings.Lines(f.Text) {
			if strings.Contains(line, `"leave `) {
				continue
			}
			for _, found := range asked.FindAllStringSubmatch(line, -1) {
				for _, name := range strings.Split(found[1]+found[2]+found[3], ",") {
					name = strings.Trim(name, ` "`)
					if name != "" && name != "lo" && !strings.HasSuffix(name, "*") && !strings.HasSuffix(name, "+") &&
						!slices.Contains(names, name) {
						names = append(names, name)
					}
				}
			}
		}
	}
	return names
}

// missing are the interfaces that rules ask for and this host does not have, but for those
// that what is kept asks for already: they come and go.
func (m *Machine) missing(files []api.File) (out []string) {
	var before []string
	if kept, err := m.Kept(); err == nil && kept != nil {
		before = interfacesIn(kept.Files)
	}
	for _, name := range interfacesIn(files) {
		if _, err := net.InterfaceByName(name); err != nil && !slices.Contains(before, name) {
			out = append(out, name)
		}
	}
	return out
}
