package nft

import (
	"fmt"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// Read gives what a kernel has in force that has loaded what Write gave. Whom
// its rules speak of a host puts in when they are loaded: here anybody will do.
func (Form) Read(sp *packet.Space, h *fleet.Host, files []dialect.File) (*kernel.Ruleset, error) {
	if len(files) != 1 || files[0].Kind != "nft" {
		return nil, fmt.Errorf("the rules written for %s are not one file for nft", h.Name)
	}
	_, table, ok := strings.Cut(files[0].Text, "\n\n")
	if !ok {
		return nil, fmt.Errorf("the rules written for %s have no table", h.Name)
	}
	names := &kernel.Names{Users: map[string]int{}, Routes: kernel.RoutesOf(h)}
	for i, s := range SendersOf(files[0].Text) {
		element := fmt.Sprintf("%q", "any.slice/"+s.Name)
		if s.Kind == packet.ByUser {
			names.Users[s.Name] = 1000 + i
			if element = fmt.Sprint(1000 + i); s.Name == "root" {
				element = "0"
			}
		}
		comment := fmt.Sprintf("comment %q\n", s.Sender.String())
		table = strings.Replace(table, comment, comment+"\t\telements = { "+element+" }\n", 1)
	}
	return ReadText(sp, h.Name+".nft", []byte(table), names)
}
